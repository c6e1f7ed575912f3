// Package examples holds the demo and the cookbook. Every file in it is a test.
package examples

import "embed"

// FS has the policy files and the captures they replay.
//
//go:embed *.yaml *.pcap parts cookbook
var FS embed.FS

// Devices has profiles of made-up devices: what they cannot do.
//
//go:embed devices
var Devices embed.FS

// Sites has the network that deliveries are shown with.
//
//go:embed sites
var Sites embed.FS

//go:generate go run ./makecapture ternrock-office.pcap

// Demo lists the files of the demo.
var Demo = []string{"ternrock.yaml", "ternrock-office.pcap"}

// Story is what the demo says first.
const Story = `Ternrock pilot station talks to the harbour over a radio link of 12 Mbit/s. In fog everybody wants
it at once: pilots call, the radar picture streams, charts synchronise, the office works on.
`

// Next is what the demo says last.
const Next = `Next: imbrel demo --write tern                  write this example into the folder tern
      imbrel bound tern/ternrock.yaml fog       prove the longest delays that are possible
      sudo imbrel prove tern/ternrock.yaml fog  repeat it with real packets (Linux, 30 s)
      Set the first ` + "`shape`" + ` to 14Mbit/s, then run: imbrel rehearse tern/ternrock.yaml --suggest`
