// Netconf-client manages a device with a NETCONF client that is not Imbrel's: netconf-client HOST PORT USER KEY.
// It says hello, reads, edits, commits, commits to be confirmed, cancels, and confirms.
package main

import (
	"fmt"
	"os"
	"strconv"
	"strings"

	"github.com/scrapli/scrapligo/driver/netconf"
	"github.com/scrapli/scrapligo/driver/opoptions"
	"github.com/scrapli/scrapligo/driver/options"
	"github.com/scrapli/scrapligo/response"
	"github.com/scrapli/scrapligo/transport"
	"github.com/scrapli/scrapligo/util"
)

const edit = `<config><policy-file xmlns="https://imbrel.example/yang/policy"><policies><name>wan</name><shape><value>%s</value></shape></policies></policy-file></config>`

func main() {
	port, err := strconv.Atoi(os.Args[2])
	check(err)
	var more []util.Option
	if len(os.Args) > 5 {
		more = append(more, options.WithNetconfPreferredVersion(os.Args[5]))
	}
	d, err := netconf.NewDriver(os.Args[1], append(more, options.WithPort(port), options.WithAuthUsername(os.Args[3]), options.WithAuthPrivateKey(os.Args[4], ""), options.WithAuthNoStrictKey(),
		options.WithTransportType(transport.StandardTransport))...)
	check(err)
	check(d.Open())
	well := func(r *response.NetconfResponse, err error) string {
		check(err)
		check(r.Failed)
		return r.Result
	}
	shape := func(want string) {
		if got := well(d.GetConfig("running")); !strings.Contains(got, "<value>"+want+"</value>") {
			check(fmt.Errorf("not %s: %s", want, got))
		}
	}
	shape("9.5Mbit/s")
	well(d.Get(""))
	well(d.Lock("candidate"))
	well(d.EditConfig("candidate", fmt.Sprintf(edit, "9Mbit/s")))
	well(d.Validate("candidate"))
	well(d.Commit())
	shape("9Mbit/s")
	well(d.EditConfig("candidate", fmt.Sprintf(edit, "8Mbit/s")))
	well(d.RPC(opoptions.WithFilter("<commit><confirmed/><confirm-timeout>60</confirm-timeout></commit>")))
	shape("8Mbit/s")
	well(d.RPC(opoptions.WithFilter("<cancel-commit/>")))
	shape("9Mbit/s")
	well(d.EditConfig("candidate", fmt.Sprintf(edit, "8Mbit/s")))
	well(d.RPC(opoptions.WithFilter("<commit><confirmed/><confirm-timeout>60</confirm-timeout></commit>")))
	well(d.Commit())
	shape("8Mbit/s")
	well(d.Unlock("candidate"))
	fmt.Println("well", d.ServerCapabilities()[0])
	_ = d.Close()
}

func check(err error) {
	if err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}
