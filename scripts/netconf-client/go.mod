module imbrel.example/imbrel/scripts/netconf-client

go 1.26.8

require github.com/scrapli/scrapligo v1.4.3

require (
	github.com/creack/pty v1.1.23 // indirect
	github.com/sirikothe/gotextfsm v1.0.1-0.20200816110946-6aa2cfd355e4 // indirect
	golang.org/x/crypto v0.26.0 // indirect
	golang.org/x/sys v0.23.0 // indirect
)
