package cli

import (
	"cmp"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"os"
	"os/signal"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/net/netutil"

	"imbrel.example/imbrel/core/gate"
	"imbrel.example/imbrel/core/limits"
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
	config, log, keep, onFailure             string
	manage, managedIn                        string
	passUnreadable, spin                     bool
	view                                     render.View
	pages                                    pages
}

func (a *app) gate(text render.Text) *cobra.Command {
	var r gateRun
	c := &cobra.Command{
		Use:   "gate [FILE]",
		Short: "Enforce a node's policies between interfaces of this machine",
		Long: `Gate stands in the line between two or more interfaces of this machine, in place of a
cable or a bridge. Each frame that arrives at one interface is classified, policed,
marked, queued and scheduled by the policies of the node, with the same code that a
rehearsal runs, and leaves by the other interface. With three or more interfaces, a
frame leaves by the one behind which its receiver was last seen. Link control, such as
ARP, passes at once within a bound. What is neither IP nor link control is dropped. The
interfaces have no addresses.

The gate runs until it is interrupted, or for the time given with --for. It then prints
the tables that a rehearsal prints for the interfaces of the node. Send it SIGHUP, or
run ` + "`imbrel gate reload`" + `, and it reads the file again. Packets that wait are kept. If
the new file has an error, the gate continues with the old one.

For a service, --config FILE has the flags as keys; ` + "`imbrel gate upgrade`" + ` starts the
program anew and hands the interfaces over to it.

Gate needs the capabilities CAP_NET_RAW and CAP_NET_ADMIN.`,
		Example: `  imbrel gate ternrock.yaml --node ternrock --port lan=eth1 --port radio=eth2
  imbrel gate ternrock.yaml --node ternrock --port lan=eth1 --port radio=eth2 --for 30s --expect fog
  imbrel gate --config /etc/imbrel/ternrock.yaml
  imbrel gate reload eth1`,
		Args: between(0, 1, "a policy file"),
		RunE: func(c *cobra.Command, args []string) error {
			a.ballast = nil // what a gate takes should not grow for days
			name := ""
			if r.config != "" {
				file, err := configure(c, r.config)
				if err != nil {
					return err
				}
				name = file
			}
			if len(args) > 0 {
				name = args[0]
			}
			if name == "" {
				return fmt.Errorf("name a policy file, or a configuration that does: --config FILE")
			}
			return a.runGate(text, &r, name)
		},
	}
	r.flags(c)
	c.AddCommand(a.gateReload(), a.gateUpgrade(), a.gateFallback())
	return c
}

// flags defines the flags of a gate.
func (r *gateRun) flags(c *cobra.Command) {
	c.Flags().StringVar(&r.node, "node", "", "the `NODE` of the file whose policies are enforced")
	c.Flags().StringVar(&r.config, "config", "", "take the policy file and the flags from a `FILE`")
	c.Flags().StringArrayVar(&r.ports, "port", nil, "an interface of the node and one of this machine, as `INTERFACE=DEVICE`; two or more")
	c.Flags().StringArrayVar(&r.take, "take", nil, "take a `DEVICE` although this machine itself uses it")
	c.Flags().StringVar(&r.lasts, "for", "", "end after a `TIME` such as 30s")
	c.Flags().StringVar(&r.expect, "expect", "", "judge what a `REHEARSAL` of the file expects at the node's interfaces")
	c.Flags().StringVar(&r.metrics, "metrics", "", "serve a page with charts, and the counters as OpenMetrics at /metrics, over HTTP at an `ADDRESS` such as :9100, on the loopback unless a host is given")
	c.Flags().StringVar(&r.captureOut, "capture-out", "", "write what enters and leaves each interface as pcapng into the folder `DIR`")
	c.Flags().BoolVar(&r.passUnreadable, "pass-unreadable", false, "put frames that are neither IP nor link control into the classes; they are dropped otherwise")
	c.Flags().StringVar(&r.log, "log", "words", "say what happens in `FORM`: words, text (keys and values) or json")
	c.Flags().StringVar(&r.keep, "keep", "", "keep the counters in a `FILE`, and go on counting where they stopped")
	c.Flags().StringVar(&r.onFailure, "on-failure", "closed", "what happens when the gate fails, `WAY`: closed (no frame passes) or open (all frames pass, without a policy)")
	c.Flags().BoolVar(&r.spin, "spin", false, "never sleep: frames leave sooner, and each direction takes a whole processor")
	managedFlags(c, &r.manage, &r.managedIn)
	r.pages.flags(c)
}

func (a *app) gateReload() *cobra.Command {
	config := ""
	c := &cobra.Command{
		Use:   "reload [DEVICE]",
		Short: "Make the gate at an interface read its file again",
		Long: `Reload makes the gate at an interface of this machine read its policy file again. It
fails, and says why, where the new file has an error: the gate then continues with the
old one. With --config it finds the gate by its configuration.`,
		Example: "  imbrel gate reload eth1\n  imbrel gate reload --config /etc/imbrel/ternrock.yaml",
		RunE: func(_ *cobra.Command, args []string) error {
			if len(args) > 1 || (len(args) == 1) == (config != "") {
				return fmt.Errorf("imbrel gate reload wants an interface of this machine that a gate has, or its --config\nsee: imbrel gate reload --help")
			}
			if config != "" {
				r, err := configured(config)
				if err != nil {
					return err
				}
				if args = r.devices(); len(args) == 0 {
					return fmt.Errorf("%s: it names no `ports`", config)
				}
			}
			_, err := live.Ask(args[0], "reload")
			return err
		},
	}
	c.Flags().StringVar(&config, "config", "", "find the gate by its configuration in `FILE`")
	return c
}

// configured returns how a configuration says to run a gate.
func configured(file string) (*gateRun, error) {
	var r gateRun
	var flags cobra.Command
	r.flags(&flags)
	_, err := configure(&flags, file)
	return &r, err
}

// devices returns the interfaces of this machine.
func (r *gateRun) devices() (all []string) {
	for _, p := range r.ports {
		if _, device, ok := strings.Cut(p, "="); ok {
			all = append(all, device)
		}
	}
	return all
}

func (a *app) gateUpgrade() *cobra.Command {
	return &cobra.Command{
		Use:   "upgrade DEVICE",
		Short: "Let a gate go on as the program that is installed now",
		Long: `Upgrade starts the program of a gate anew, with the same flags. When the new one is
ready, it gets the interfaces, the counters and the frames that wait, and the old one
ends. When it is not, the old one goes on. Frames that come meanwhile wait.`,
		Example: "  imbrel gate upgrade eth1",
		Args:    between(1, 1, "an interface of this machine that a gate has"),
		RunE: func(_ *cobra.Command, args []string) error {
			_, err := live.Ask(args[0], "upgrade")
			return err
		},
	}
}

func (a *app) gateFallback() *cobra.Command {
	var now bool
	c := &cobra.Command{
		Use:   "fallback CONFIG",
		Short: "Join a gate's interfaces by a bridge if it failed and its configuration says so",
		Long: `Fallback is for what runs after a gate that has ended. With on-failure: open in the
configuration, and a service that failed (SERVICE_RESULT), it joins the interfaces by a
bridge of the kernel: all frames pass, and no policy is in force. The next gate at these
interfaces takes the bridge away.`,
		Example: "  imbrel gate fallback /etc/imbrel/ternrock.yaml\n  imbrel gate fallback --now /etc/imbrel/ternrock.yaml",
		Args:    between(1, 1, "the configuration of a gate"),
		RunE: func(_ *cobra.Command, args []string) error {
			r, err := configured(args[0])
			if err != nil {
				return err
			}
			devices := r.devices()
			if result := os.Getenv("SERVICE_RESULT"); len(devices) < 2 || !now && (r.onFailure != "open" || result == "" || result == "success") {
				return nil
			}
			return live.Bypass(devices)
		},
	}
	c.Flags().BoolVar(&now, "now", false, "join them, whatever happened")
	return c
}

// runGate runs a gate and shows what it did.
func (a *app) runGate(text render.Text, r *gateRun, name string) (err error) {
	if name == "-" {
		return fmt.Errorf("a gate reads its file again when it is told to, and standard input is read once: name a file")
	}
	log, err := a.logger(r.log, "gate")
	if err != nil {
		return err
	}
	if r.onFailure != "open" && r.onFailure != "closed" {
		return fmt.Errorf("--on-failure is open or closed")
	}
	var managed *managedGate
	if r.manage != "" || r.managedIn != "" {
		m, first, err := beginManaged(r.manage, r.managedIn, name, log)
		if err != nil {
			return err
		}
		managed, name = &managedGate{managed: m}, first
		m.node = r.node
		for _, p := range r.ports {
			iface, _, _ := strings.Cut(p, "=")
			m.ports = append(m.ports, iface)
		}
	}
	config := live.Config{Node: r.node, Take: r.take, Expect: r.expect, Seed: 1, PassUnreadable: r.passUnreadable, Spin: r.spin, Log: log, TakesOver: live.Inherited()}
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
	config.Writes = r.pages.wanted()
	if managed != nil {
		config.Load, config.Writes, config.MayUpgrade = nil, true, managed.mayUpgrade
		if err := managed.take(managed, f, in, &limits.Limits{}); err != nil {
			return err
		}
	}
	if r.keep != "" {
		if config.Kept, err = files.ReadKept(r.keep); err != nil {
			return err
		}
		config.Writes, config.Keep = true, func(k *gate.Kept) {
			if err := files.WriteKept(r.keep, k); err != nil {
				log.Error("the counters are not kept: " + err.Error())
			}
		}
	}
	if r.captureOut == "" && config.For == 0 && !r.pages.wanted() {
		config.Program, _ = os.Executable()
	}
	if r.captureOut != "" {
		done, failed := a.captureGate(r, f, &config)
		if failed != nil {
			return failed
		}
		defer func() {
			if lost := done(); lost != nil && err == nil {
				err = errFound
			}
		}()
	}
	ctx, stop := untilTold()
	defer stop()
	hup := make(chan os.Signal, 1)
	signal.Notify(hup, syscall.SIGHUP)
	defer signal.Stop(hup)
	config.Reload = hup
	var started []func(live.Running)
	if r.metrics != "" {
		serve := func(l net.Listener, g live.Running) { serveMetrics(l, g) }
		begin, end, err := serveAt(func() (net.Listener, error) { return listenForMetrics(r.metrics) }, serve, &config, log)
		if err != nil {
			return err
		}
		defer end()
		started = append(started, begin)
	}
	if managed != nil {
		serve := func(l net.Listener, g live.Running) {
			managed.gate = g
			managed.serve(l, "gate")
		}
		begin, end, err := serveAt(func() (net.Listener, error) { return listenToManage(r.manage) }, serve, &config, log)
		if err != nil {
			return err
		}
		defer end()
		started = append(started, begin)
	}
	config.Started = func(g live.Running) {
		for _, begin := range started {
			begin(g)
		}
	}
	var devices []string
	for _, p := range config.Ports {
		devices = append(devices, p.Device)
	}
	if config.TakesOver == nil {
		live.EndBypass(devices)
	}
	ended, err := live.RunGate(ctx, config)
	if errors.Is(err, live.ErrHandedOver) {
		return nil
	}
	if failure := new(live.Failure); errors.As(err, &failure) {
		if r.onFailure == "open" {
			if e := live.Bypass(devices); e != nil {
				log.Error("no frame passes: " + e.Error())
			} else {
				log.Error("all frames pass, and no policy is in force: the kernel joins the interfaces")
			}
		}
		panic(failure)
	}
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

// captureGate writes each frame that comes and leaves; done ends the files, and says whether some of it is lost. The files
// are there before the first frame, so that what cannot be written is said before the gate begins.
func (a *app) captureGate(r *gateRun, f *policy.File, config *live.Config) (done func() error, err error) {
	dir, err := files.NewCaptureDir(r.captureOut)
	if err != nil {
		return nil, err
	}
	node, _ := live.NodeOf(f, r.node)
	var ifaces []*policy.Interface
	for _, p := range config.Ports {
		iface, _ := live.InterfaceOf(node, p.Interface)
		ifaces = append(ifaces, iface)
		for _, d := range []policy.Direction{policy.In, policy.Out} {
			if err := dir.Begin(iface, d); err != nil {
				dir.Discard()
				return nil, err
			}
		}
	}
	began := time.Now()
	var mutex sync.Mutex // the two directions have a thread each
	var lost error
	write := func(d policy.Direction) func(int, time.Duration, []byte) {
		return func(n int, at time.Duration, frame []byte) {
			p := packet.Packet{Bytes: frame} // as it is, whatever it is
			mutex.Lock()
			defer mutex.Unlock()
			if lost == nil {
				if lost = dir.Write(ifaces[n], d, time.Duration(began.UnixNano())+at, &p); lost != nil {
					config.Log.Error("the capture ends here: " + lost.Error())
				}
			}
		}
	}
	config.Came, config.Sent, config.Writes = write(policy.In), write(policy.Out), true
	return func() error {
		if e := dir.Close(); e != nil && lost == nil {
			lost = e
			config.Log.Error("the capture is lost: " + e.Error())
		}
		return lost
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

// serveAt listens at once, or, where another gate listens there until it has handed over, when that has ended. begin serves.
func serveAt(listen func() (net.Listener, error), serve func(net.Listener, live.Running), config *live.Config, log *slog.Logger) (begin func(live.Running), end func(), err error) {
	end = func() {}
	if config.TakesOver == nil {
		l, err := listen()
		if err != nil {
			return nil, end, err
		}
		listen, end = func() (net.Listener, error) { return l, nil }, func() { l.Close() }
	}
	return func(g live.Running) {
		go func() {
			l, err := listen()
			for n := 0; err != nil && n < 100; n++ {
				time.Sleep(100 * time.Millisecond)
				l, err = listen()
			}
			if err != nil {
				log.Error(err.Error())
				return
			}
			serve(l, g)
		}()
	}, end, nil
}

// maxWatchers is how many connections a gate has at a time to those who ask by HTTP.
const maxWatchers = 16

// listenForMetrics listens at an address for those who ask for the counters.
func listenForMetrics(address string) (net.Listener, error) {
	at, err := listenAt("metrics", address)
	if err != nil {
		return nil, err
	}
	l, err := net.Listen("tcp", at)
	if err != nil {
		return nil, fmt.Errorf("--metrics %s: cannot listen there: %w", address, errors.Unwrap(err))
	}
	return netutil.LimitListener(l, maxWatchers), nil
}

// serveMetrics serves the counters of a gate until the listener ends.
func serveMetrics(l net.Listener, g live.Running) {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; img-src data:")
		w.Header().Set("Cache-Control", "no-store")
		_ = report.Gate(g.Snapshot(), true, nil).Write(w) // who asked may be gone
	})
	mux.HandleFunc("GET /metrics", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/openmetrics-text; version=1.0.0; charset=utf-8")
		_ = render.OpenMetrics(w, version(), nil, g.Figures()) // who asked may be gone
	})
	server := &http.Server{Handler: mux, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 5 * time.Second, WriteTimeout: 15 * time.Second, IdleTimeout: 30 * time.Second, MaxHeaderBytes: 1 << 14}
	_ = server.Serve(l) // until l is closed
}
