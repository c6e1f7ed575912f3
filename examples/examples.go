// Package examples holds the demo and the cookbook. Every file in it is a test.
package examples

import "embed"

// FS has the policy files and the captures they replay.
//
//go:embed *.yaml *.pcap parts cookbook
var FS embed.FS

//go:generate go run ./makecapture ternrock-office.pcap

// Demo lists the files of the demo.
var Demo = []string{"ternrock.yaml", "ternrock-office.pcap"}

// Story is what the demo says first.
const Story = `Ternrock pilot station talks to the harbour over a radio link. The port is 100 Mbit/s, but the
link carries 12 Mbit/s out and 34 Mbit/s back. In fog everybody wants it at once: pilots call,
the radar picture streams, charts synchronise, and the office goes on working.
`

// Next is what the demo says last.
const Next = `
Try next:
  imbrel demo --write tern                        puts this example into the folder tern
  imbrel rehearse tern/ternrock.yaml fog          the same in detail: each traffic, interface and link
  sudo imbrel prove tern/ternrock.yaml fog        the same once more with real packets, on Linux, in 30 s
  make the first ` + "`shape`" + ` in tern/ternrock.yaml 14Mbit/s, rehearse with --suggest: what fails, what mends it?
  imbrel rehearse tern/ternrock.yaml fog --capture-out seen    every packet, to look at its marks`
