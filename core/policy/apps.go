package policy

import (
	"slices"
	"strconv"
	"strings"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
)

// An App is what an application looks like on the wire.
type App struct {
	Source
	Name        string
	Number      int // in File.Apps
	TCP, UDP    []Range
	Protocols   []uint8  // of the catalogue: applications without ports
	ServerNames []string // patterns: "*.weather.example" is any name below, not the name itself
	LooksLike   Look
	What        string         // of the catalogue: what it is
	Advised     codepoint.DSCP // of the catalogue: the marking that RFC 4594 advises, DF where it advises none
}

// A Look is what packets look like.
type Look uint8

// The looks that are recognised. NoLook is the zero Look.
const (
	NoLook Look = iota
	LooksLikeRTP
)

// Recognised reports whether the application is recognised by more than a packet's
// protocol and ports.
func (a *App) Recognised() bool { return len(a.ServerNames) > 0 || a.LooksLike != NoLook }

// Recognises reports whether a class asks for an application that is recognised by more than that.
func (f *File) Recognises() bool {
	asks := func(c Condition) bool {
		return slices.ContainsFunc(c.Terms, func(t Term) bool { return slices.ContainsFunc(t.Apps, (*App).Recognised) })
	}
	return slices.ContainsFunc(f.Classes, func(c Class) bool { return slices.ContainsFunc(c.Match, asks) || slices.ContainsFunc(c.Except, asks) })
}

// Takes reports whether a packet is of the application: by what was recognised of
// its conversation, by either port, or by its protocol.
func (a *App) Takes(p *packet.Packet) bool {
	if w := a.Number / 64; w < len(p.Apps) && p.Apps[w]&(1<<(a.Number%64)) != 0 {
		return true
	}
	f := &p.Flow
	if len(a.Protocols) > 0 && slices.Contains(a.Protocols, f.Protocol) {
		return true
	}
	if !p.HasPorts {
		return false
	}
	from, to := uint32(f.FromPort), uint32(f.ToPort)
	switch f.Protocol {
	case packet.TCP:
		return contains(a.TCP, from) || contains(a.TCP, to)
	case packet.UDP:
		return contains(a.UDP, from) || contains(a.UDP, to)
	}
	return false
}

// catalogueText lists common applications with their registered ports (IANA
// service names and port numbers): name, TCP ports, UDP ports, the marking that
// RFC 4594 advises for it, what it is. A dash is none; a protocol is written ip:NUMBER in
// place of ports, and a look as looks:rtp.
const catalogueText = `
sip              5060-5061      5060            cs5   voice signalling (SIP)
h323             1720           1719            cs5   voice signalling (H.323)
mgcp             -              2427,2727       cs5   voice signalling (MGCP)
megaco           2944-2945      2944-2945       cs5   voice signalling (H.248)
stun             3478,5349      3478            -     finding a way through address translation
rtsp             554,322        554             af31  control of streamed media
rtmp             1935           -               af31  streamed media
rtp              looks:rtp      -               ef    calls and conferences (RTP)
rtp-ports        -              5004-5005       -     media on the registered ports
dns              53             53              -     names
dns-tls          853            853             -     names, encrypted
mdns             -              5353            -     names on the local link
dhcp             -              67-68           -     addresses
dhcpv6           -              546-547         -     addresses, IPv6
ntp              -              123             -     time
ptp              -              319-320         -     precise time
http             80,8080        -               -     web
https            443            443             -     web, encrypted
smtp             25             -               af11  mail between servers
submission       465,587        -               af11  mail handed in
imap             143,993        -               -     mail read
pop3             110,995        -               -     mail fetched
ssh              22             -               -     remote shell and file copies
telnet           23,992         -               -     remote terminal
ftp              20-21,989-990  -               af11  file transfer
tftp             -              69              -     file transfer without ceremony
rsync            873            -               af11  file synchronisation
smb              139,445        137-138         -     file sharing
nfs              111,2049       111,2049        -     file sharing
afp              548            -               -     file sharing
iscsi            860,3260       -               -     disks over the network
webdav-tls       9802           -               -     file sharing over the web
ldap             389,636        389             -     directory
global-catalog   3268-3269      -               -     directory of a forest
kerberos         88,464         88,464          -     authentication
radius           -              1812-1813       -     authentication and accounting
diameter         3868           -               -     authentication and accounting
tacacs           49             -               cs2   administration of devices
rdp              3389           3389            af21  remote desktop
vnc              5900-5909      -               af21  remote desktop
x11              6000-6007      -               af21  remote windows
mysql            3306           -               af21  database
postgresql       5432           -               af21  database
sqlserver        1433           1434            af21  database
oracle           1521           -               af21  database
redis            6379           -               af21  key-value store
mongodb          27017          -               af21  database
memcache         11211          11211           -     cache
bgp              179            -               cs6   routing
rip              -              520-521         cs6   routing
ldp              646            646             cs6   label distribution
bfd              -              3784-3785,4784  cs6   is the path alive
ospf             ip:89          -               cs6   routing
eigrp            ip:88          -               cs6   routing
pim              ip:103         -               cs6   multicast routing
vrrp             ip:112         -               cs6   who is the gateway
igmp             ip:2           -               -     multicast membership
icmp             ip:1           ip:58           -     errors and pings
snmp             161-162        161-162         cs2   network management
syslog           6514           514             cs2   logs
netconf          830            -               cs2   device configuration
gnmi             9339           -               cs2   device telemetry
ipfix            4739           4739            cs2   flow export
stamp            -              862             -     active measurement
amqp             5671-5672      -               -     messages
mqtt             1883,8883      -               -     messages of things
coap             5683-5684      5683-5684       -     things
xmpp             5222,5269      -               -     chat
git              9418           -               -     source code
printing         515,631,9100   631             -     print jobs
ndmp             10000          -               af11  backup
ike              -              500,4500        -     encryption keys
openvpn          1194           1194            -     tunnel
wireguard        -              51820           -     tunnel
l2tp             -              1701            -     tunnel
gre              ip:47          -               -     tunnel
esp              ip:50          -               -     encrypted tunnel
vxlan            -              4789            -     tunnel between data centres
`

// Catalogue returns the applications that are built in.
func Catalogue() []App {
	var apps []App
	for _, line := range strings.Split(strings.TrimSpace(catalogueText), "\n") {
		w := strings.Fields(line)
		a := App{Name: w[0], Number: len(apps), What: strings.Join(w[4:], " ")}
		if w[3] != "-" {
			a.Advised, _ = codepoint.ParseDSCP(w[3])
		}
		for i, field := range w[1:3] {
			for _, p := range strings.Split(field, ",") {
				number, isProtocol := strings.CutPrefix(p, "ip:")
				switch {
				case p == "-":
				case p == "looks:rtp":
					a.LooksLike = LooksLikeRTP
				case isProtocol:
					n, _ := strconv.ParseUint(number, 10, 8)
					a.Protocols = append(a.Protocols, uint8(n))
				default:
					r, _ := ParsePorts(p)
					if i == 0 {
						a.TCP = append(a.TCP, r)
					} else {
						a.UDP = append(a.UDP, r)
					}
				}
			}
		}
		apps = append(apps, a)
	}
	return apps
}
