package cli

import (
	"cmp"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/internal/files"
	"imbrel.example/imbrel/internal/live"
	"imbrel.example/imbrel/internal/render"
	"imbrel.example/imbrel/internal/report"
)

// A gateRun is how to run a gate.
type gateRun struct {
	node, expect, metrics, lasts, captureOut string
	ports, take                              []string
	view                                     render.View
	pages                                    pages
}

func (a *app) gate(text render.Text) *cobra.Command {
	var r gateRun
	c := &cobra.Command{
		Use:   "gate FILE",
		Short: "Enforce a node's policies between interfaces of this machine",
		Long: `Gate stands in the line between two or more interfaces of this machine, in place of a
cable or a bridge. Each frame that arrives at one interface is classified, policed,
marked, queued and scheduled by the policies of the node, with the same code that a
rehearsal runs, and leaves by the other interface. With three or more interfaces, a
frame leaves by the one behind which its receiver was last seen. ARP, neighbour
discovery and frames that carry no IP pass at once. The interfaces have no addresses.

The gate runs until it is interrupted, or for the time given with --for. It then prints
the tables that a rehearsal prints for the interfaces of the node. Send it SIGHUP, or
run ` + "`imbrel gate reload`" + `, and it reads the file again. Packets that wait are kept. If
the new file has an error, the gate continues with the old one.

Gate needs the capabilities CAP_NET_RAW and CAP_NET_ADMIN.`,
		Example: `  imbrel gate ternrock.yaml --node ternrock --port lan=eth1 --port radio=eth2
  imbrel gate ternrock.yaml --node ternrock --port lan=eth1 --port radio=eth2 --for 30s --expect fog
  imbrel gate reload eth1`,
		Args: between(1, 1, "a policy file"),
		RunE: func(c *cobra.Command, args []string) error { return a.runGate(text, &r, args[0]) },
	}
	c.Flags().StringVar(&r.node, "node", "", "the `NODE` of the file whose policies are enforced")
	c.Flags().StringArrayVar(&r.ports, "port", nil, "an interface of the node and one of this machine, as `INTERFACE=DEVICE`; two or more")
	c.Flags().StringArrayVar(&r.take, "take", nil, "take a `DEVICE` although this machine itself uses it")
	c.Flags().StringVar(&r.lasts, "for", "", "end after a `TIME` such as 30s")
	c.Flags().StringVar(&r.expect, "expect", "", "judge what a `REHEARSAL` of the file expects at the node's interfaces")
	c.Flags().StringVar(&r.metrics, "metrics", "", "serve a page with charts, and the counters as OpenMetrics at /metrics, over HTTP at an `ADDRESS` such as :9100, on the loopback unless a host is given")
	c.Flags().StringVar(&r.captureOut, "capture-out", "", "write what enters and leaves each interface as pcapng into the folder `DIR`")
	r.pages.flags(c)
	c.AddCommand(a.gateReload())
	return c
}

func (a *app) gateReload() *cobra.Command {
	return &cobra.Command{
		Use:     "reload DEVICE",
		Short:   "Make the gate at an interface read its file again",
		Example: "  imbrel gate reload eth1",
		Args:    between(1, 1, "an interface of this machine that a gate has"),
		RunE: func(_ *cobra.Command, args []string) error {
			_, err := live.Ask(args[0], "reload")
			return err
		},
	}
}

// runGate runs a gate and shows what it did.
func (a *app) runGate(text render.Text, r *gateRun, name string) error {
	if name == "-" {
		return fmt.Errorf("name the interface of the gate that should read its file again")
	}
	config := live.Config{Node: r.node, Take: r.take, Expect: r.expect, Seed: 1, Notice: func(s string) { fmt.Fprintln(a.err, render.Visible("imbrel gate: "+s)) }}
	config.Load = func() (*policy.File, error) {
		f, _, err := files.ReadPolicy(name, a.in, a.includeFrom...)
		return f, err
	}
	f, in, err := files.ReadPolicy(name, a.in, a.includeFrom...)
	if err != nil {
		return err
	}
	config.File = f
	if err := r.pages.free(); err != nil {
		return err
	}
	if err := r.complete(f, &config); err != nil {
		return err
	}
	if r.captureOut != "" {
		done, err := a.captureGate(r, f, &config)
		if err != nil {
			return err
		}
		defer done()
	}
	ctx, stop := untilTold()
	defer stop()
	hup := make(chan os.Signal, 1)
	signal.Notify(hup, syscall.SIGHUP)
	defer signal.Stop(hup)
	config.Reload = hup
	if r.metrics != "" {
		end, err := serveMetrics(r.metrics, config.Ports[0].Device)
		if err != nil {
			return err
		}
		defer end()
	}
	ended, err := live.RunGate(ctx, config)
	if err != nil {
		return err
	}
	defer r.pages.say(a)
	if err := r.pages.write(func() *report.Page { return report.Gate(ended, false, a.ran(in, nil)) }); err != nil {
		return err
	}
	if a.output != forPrograms.name {
		ended.Series = nil // only the page shows it
	}
	switch a.output {
	case openmetrics.name:
		err = render.OpenMetrics(a.out, version(), nil, ended)
	case forPrograms.name:
		err = render.JSON(a.out, ended)
	default:
		text.Gate(ended, &r.view)
	}
	if err == nil && ended.Verdict == "fail" {
		err = errFound
	}
	return err
}

// complete checks the flags against the file.
func (r *gateRun) complete(f *policy.File, config *live.Config) error {
	if r.node == "" {
		return fmt.Errorf("name the node whose policies are put in force: --node NODE")
	}
	node, err := live.NodeOf(f, r.node)
	if err != nil {
		return err
	}
	for _, p := range r.ports {
		iface, device, ok := strings.Cut(p, "=")
		if !ok || iface == "" || device == "" {
			return fmt.Errorf("--port %s: write INTERFACE=DEVICE, such as lan=eth1", p)
		}
		if _, err := live.InterfaceOf(node, iface); err != nil {
			return err
		}
		for _, o := range config.Ports {
			if o.Interface == iface {
				return fmt.Errorf("--port %s: the interface `%s` is given twice", p, iface)
			}
		}
		config.Ports = append(config.Ports, live.Port{Interface: iface, Device: device})
	}
	if len(config.Ports) < 2 {
		return fmt.Errorf("a gate needs two ports or more: --port INTERFACE=DEVICE for each")
	}
	if r.lasts != "" {
		if config.For, err = timeOf("for", r.lasts, 0, ""); err != nil {
			return err
		}
	}
	if r.expect != "" {
		if _, err := choose(f, "the file", r.expect); err != nil {
			return err
		}
	}
	return nil
}

// captureGate writes each frame that comes and leaves; done ends the files.
func (a *app) captureGate(r *gateRun, f *policy.File, config *live.Config) (done func(), err error) {
	dir, err := files.NewCaptureDir(r.captureOut)
	if err != nil {
		return nil, err
	}
	node, _ := live.NodeOf(f, r.node)
	began := time.Now()
	write := func(d policy.Direction) func(int, time.Duration, []byte) {
		return func(n int, at time.Duration, frame []byte) {
			if err != nil {
				return
			}
			iface, _ := live.InterfaceOf(node, config.Ports[n].Interface)
			var p packet.Packet
			_ = p.Parse(frame, len(frame)) // as it is, whatever it is
			if err = dir.Write(iface, d, time.Duration(began.UnixNano())+at, &p); err != nil {
				config.Notice("the capture ends here: " + err.Error())
			}
		}
	}
	config.Came, config.Sent = write(policy.In), write(policy.Out)
	return func() {
		if e := dir.Close(); e != nil && err == nil {
			config.Notice(e.Error())
		}
	}, nil
}

// listenAt returns an address to listen at, on the loopback unless a host is given.
func listenAt(flag, address string) (string, error) {
	host, port, err := net.SplitHostPort(address)
	if err != nil {
		return "", fmt.Errorf("--%s %s: write HOST:PORT, or :PORT for the loopback", flag, address)
	}
	return net.JoinHostPort(cmp.Or(host, "127.0.0.1"), port), nil
}

// serveMetrics serves the counters of the gate at a device; end ends it.
func serveMetrics(address, device string) (end func(), err error) {
	at, err := listenAt("metrics", address)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		return nil, fmt.Errorf("--metrics %s: cannot listen there: %w", address, errors.Unwrap(err))
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		snapshot, err := live.Snapshot(device)
		if err != nil {
			http.Error(w, err.Error(), http.StatusServiceUnavailable)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; img-src data:")
		w.Header().Set("Cache-Control", "no-store")
		_ = report.Gate(snapshot, true, nil).Write(w) // who asked may be gone
	})
	mux.HandleFunc("GET /metrics", func(w http.ResponseWriter, _ *http.Request) {
		figures, err := live.Figures(device)
		if err != nil {
			http.Error(w, err.Error(), http.StatusServiceUnavailable)
			return
		}
		w.Header().Set("Content-Type", "application/openmetrics-text; version=1.0.0; charset=utf-8")
		_ = render.OpenMetrics(w, version(), nil, figures) // who asked may be gone
	})
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second, WriteTimeout: 15 * time.Second, MaxHeaderBytes: 1 << 14}
	go server.Serve(l)
	return func() { server.Close() }, nil
}
