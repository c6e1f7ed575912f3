package language

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

func (s *resolver) rehearsals() {
	f := s.f
	unique(s, "loads", s.doc.loads, func(l *loadLines) (string, policy.Place) { return l.name, l.At })
	s.loads = make(map[string]*loadLines)
	for i := range s.doc.loads {
		l := &s.doc.loads[i]
		s.loads[l.name] = l
		if len(l.traffic) == 0 {
			s.problem(l.At, 0, "give it some", "the load `%s` has no traffic", l.name)
		}
		for j := range l.traffic {
			if t := &l.traffic[j]; t.load.Text != "" {
				s.problem(t.load.At, len(t.load.Text), "name both in the rehearsal", "a load cannot hold another")
				t.load.Text = ""
				continue
			}
			s.traffic(&l.traffic[j])
		}
		load := policy.Load{Source: l.Source, Name: l.name}
		for j := range l.traffic {
			load.Traffic = append(load.Traffic, l.traffic[j].Traffic)
		}
		f.Loads = append(f.Loads, load)
	}
	unique(s, "rehearsals", s.doc.rehearsals, func(h *rehearsalLines) (string, policy.Place) { return h.Name, h.PlaceOf("name") })
	for i := range s.doc.rehearsals {
		h := &s.doc.rehearsals[i]
		s.trafficOf(h)
		s.events(&h.Rehearsal)
		s.expectations(&h.Rehearsal)
		f.Rehearsals = append(f.Rehearsals, h.Rehearsal)
	}
	for i := range f.Loads {
		f.Loads[i].Taken = s.doc.loads[i].taken
	}
}

// trafficOf puts together a rehearsal's traffic: its own and that of the loads it
// names.
func (s *resolver) trafficOf(h *rehearsalLines) {
	if has(h, "traffic") && len(h.traffic) == 0 {
		s.problem(h.PlaceOf("traffic"), 0, "give it some", "the rehearsal `%s` has no traffic", h.Name)
	}
	for i := range h.traffic {
		t := &h.traffic[i]
		if !has(t, "load") {
			s.traffic(t)
			h.Traffic = append(h.Traffic, t.Traffic)
			continue
		}
		if len(t.Keys()) > 1 {
			s.problem(t.At, 0, "give the traffic an item of its own", "`load` has no other key beside it")
		}
		l := s.loads[t.load.Text]
		if l == nil {
			s.unknown(t.load, "load", namesOf(s.doc.loads, func(l *loadLines) string { return l.name }))
			h.Traffic = append(h.Traffic, policy.Traffic{}) // whatever it has
			continue
		}
		l.taken = true
		for j := range l.traffic {
			h.Traffic = append(h.Traffic, l.traffic[j].Traffic)
		}
	}
	unique(s, "traffics of the rehearsal `"+h.Name+"`", h.Traffic, func(t *policy.Traffic) (string, policy.Place) { return t.Name, t.PlaceOf("name") })
	for i := range h.Traffic {
		t := &h.Traffic[i]
		if t.Starts >= h.Lasts && h.Lasts > 0 {
			s.problem(t.PlaceOf("starts"), 0, "start it earlier, or let the rehearsal last longer", "the traffic `%s` starts when the rehearsal is over", t.Name)
		}
		ends := h.Lasts - t.Starts
		if t.Lasts > 0 {
			ends = min(ends, t.Lasts)
		}
		if t.Ramp != nil && t.Ramp.Over > ends && ends > 0 && h.Lasts > 0 {
			key := "rate"
			if t.Kind == policy.Calls {
				key = "calls"
			}
			s.problem(t.PlaceOf(key), 0, "shorten it, or let the traffic last longer", "the ramp of `%s` takes %s, and the traffic lasts %s", t.Name, unit.FormatDuration(t.Ramp.Over), unit.FormatDuration(ends))
		}
	}
	if h.WarmUp >= h.Lasts && h.Lasts > 0 {
		s.problem(h.PlaceOf("warm-up"), 0, "shorten it, or let the rehearsal last longer", "the warm-up takes all of the rehearsal, so nothing is measured")
	}
}

// expectations looks up what a rehearsal's expectations are about.
func (s *resolver) expectations(h *policy.Rehearsal) {
	isTraffic := make(map[string]bool, len(h.Traffic))
	for i := range h.Traffic {
		isTraffic[h.Traffic[i].Name] = true
	}
	for j := range h.Expect {
		e := &h.Expect[j]
		if e.Operator == "" {
			continue // already reported
		}
		if e.Phase != "" && !s.phase(h, e) {
			continue
		}
		if e.Windowed() && e.From < h.WarmUp && h.WarmUp < h.Lasts {
			s.problem(e.At, len(e.Text), "begin after it", "the first %s of the rehearsal `%s` are its warm-up, in which nothing is measured", unit.FormatDuration(h.WarmUp), h.Name)
		}
		if e.From >= h.Lasts && e.Windowed() {
			s.problem(e.At, len(e.Text), "name a time within the rehearsal", "the rehearsal `%s` is over after %s", h.Name, unit.FormatDuration(h.Lasts))
		}
		for _, subject := range e.Subjects() {
			_, isClass := s.classNames[subject]
			isClass = isClass || subject == policy.Rest || strings.Contains(subject, "/") && slices.Contains(s.f.EntryPaths(), subject)
			if !isTraffic[subject] && !isClass {
				subjects := append(namesOf(h.Traffic, func(t *policy.Traffic) string { return t.Name }), s.f.ClassNames()...)
				s.unknown(policy.Ref{Text: subject, At: e.At}, "class or traffic", append(subjects, s.f.EntryPaths()...))
			}
			if isTraffic[subject] && isClass {
				s.problem(e.At, len(e.Text), "give the traffic another name", "`%s` is a class and a traffic, so it is not clear which is meant", subject)
			}
			if e.WhereName != "" && isTraffic[subject] && !isClass {
				s.problem(e.At, len(e.Text), "name the class instead", "an interface counts by class, not by traffic, so there is no figure of `%s` there", subject)
			}
		}
		if e.WhereName == "" {
			continue
		}
		if e.Where = s.interfaces[e.WhereName]; e.Where == nil {
			s.unknown(policy.Ref{Text: e.WhereName, At: e.At}, "interface", s.paths)
		} else if e.OfPromise && e.Where.Attached[e.Direction] == nil {
			s.problem(e.At, len(e.Text), "name an interface that has a policy in this direction", "nothing is promised at %s %s: no policy is attached there", e.WhereName, e.Direction)
		}
	}
}

// overTCP are the keys that go with all traffic over TCP.
var overTCP = []string{"app", "server-name", "packet", "control", "paced", "delayed-acks", "receive-window", "initial-window", "from-port", "to-port", "dscp", "vlan", "pcp", "ecn", "df"}

// ofCalls are the keys that go with all calls, those that are needed first.
var ofCalls = []string{"codec", "between", "interval", "bitrate", "fec", "playout", "speech", "rtcp", "skew", "phase", "from-port", "to-port", "dscp", "vlan", "pcp", "ecn", "df"}

// trafficKeys are the keys that go with the one that says the kind of a traffic,
// those that are needed first.
var trafficKeys = []struct {
	key   string
	kind  policy.TrafficKind
	needs int
	with  []string
	fill  func(*resolver, *trafficLine) // checks the values and fills in what is not given
}{
	{"calls", policy.Calls, 2, ofCalls, (*resolver).calls},
	{"erlangs", policy.Calls, 3, append(append([]string{"holding"}, ofCalls...), "admit"), (*resolver).calls},
	{"hellos", policy.Hellos, 2, []string{"dead", "between", "packet", "phase", "protocol", "from-port", "to-port", "dscp"}, (*resolver).hellos},
	{"rate", policy.Stream, 3, []string{"packet", "from", "to", "app", "arrivals", "skew", "phase", "on", "off", "lengths", "protocol", "from-port", "to-port", "dscp", "vlan", "pcp", "ecn", "df"}, (*resolver).stream},
	{"video", policy.Video, 2, []string{"from", "to", "packet", "frames", "key-frames", "skew", "phase", "from-port", "to-port", "dscp", "vlan", "pcp", "ecn", "df"}, (*resolver).video},
	{"tcp", policy.TCPFlows, 2, append([]string{"from", "to", "bytes", "app-rate"}, overTCP...), (*resolver).overTCP},
	{"requests", policy.Exchanges, 4, append([]string{"from", "to", "answer", "think", "request"}, overTCP...), (*resolver).overTCP},
	{"pages", policy.Pages, 5, append([]string{"from", "to", "objects", "object", "think", "request", "connections"}, overTCP...), (*resolver).overTCP},
	{"capture", policy.Replay, 1, []string{"enters", "speed", "loop"}, (*resolver).replay},
}

// traffic checks the keys of a traffic and fills in what is not given.
func (s *resolver) traffic(t *trafficLine) {
	if !has(t, "name") {
		s.problem(t.At, 0, "its name in results; or `load` to take traffic of `loads`", "a traffic needs the key `name`")
	}
	kinds, kind := 0, 0
	for i, k := range trafficKeys {
		if has(t, k.key) {
			kinds++
			kind = i
		}
	}
	if t.survey != "" {
		s.problem(t.At, 0, "it is read with the file: see docs/language.md", "the survey of `%s` was not read", t.Name)
		return
	}
	if kinds != 1 {
		s.problem(t.At, 0, "give it one of "+policy.OrList(kindKeys()), "the traffic `%s` is of %d kinds", t.Name, kinds)
		return
	}
	k := trafficKeys[kind]
	t.Kind = k.kind
	for _, key := range k.with[:k.needs] {
		if !has(t, key) {
			s.problem(t.PlaceOf(k.key), 0, "add it to `"+t.Name+"`", "`%s` needs the key `%s` beside it", k.key, key)
		}
	}
	for _, g := range t.Keys() {
		if !slices.Contains(k.with, g.Key) && !slices.Contains([]string{"name", "starts", "lasts", k.key}, g.Key) {
			s.problem(g.Place, 0, "remove it; `"+k.key+"` goes with "+strings.Join(k.with, ", ")+", starts, lasts", "`%s` means nothing to `%s`", g.Key, k.key)
		}
	}
	s.clock(t)
	if row := t.Kind.Row(); row.Protocol != 0 {
		t.Protocol = row.Protocol
	}
	s.application(t)
	k.fill(s, t)
	if t.Kind != policy.Replay {
		s.ends(t)
	}
}

// application fills in what the application of a traffic says: its port, its protocol, and a server name.
func (s *resolver) application(t *trafficLine) {
	noPort := !has(t, "to-port") && !has(t, "from-port")
	if strings.HasPrefix(t.ServerName, "*") {
		s.problem(t.PlaceOf("server-name"), 0, "write one name, such as www"+t.ServerName[1:], "a connection asks for one name, not for `%s`", t.ServerName)
	}
	if has(t, "app") && s.sound("apps") {
		i := slices.IndexFunc(s.f.Apps, func(a policy.App) bool { return a.Name == t.app.Text })
		if i < 0 {
			var names []string
			for k := range s.f.Apps {
				names = append(names, s.f.Apps[k].Name)
			}
			s.unknown(t.app, "application", names)
			return
		}
		a := &s.f.Apps[i]
		ports := a.TCP
		if !t.Kind.OverTCP() && t.Protocol != packet.TCP {
			if t.Protocol = packet.UDP; len(a.UDP) == 0 && len(a.TCP) > 0 && !has(t, "protocol") {
				t.Protocol = packet.TCP
			} else {
				ports = a.UDP
			}
		}
		switch {
		case len(ports) > 0:
			if noPort {
				t.ToPort, noPort = uint16(ports[0].First), false
			}
		case a.LooksLike != policy.NoLook:
			s.problem(t.app.At, len(t.app.Text), "use `calls` or `video`: their packets are RTP", "`%s` is recognised by the look of its packets, which `%s` does not send", a.Name, t.Name)
		case len(a.ServerNames) == 0 || !t.Kind.OverTCP():
			s.problem(t.app.At, len(t.app.Text), "use another kind of traffic, or give the application ports", "`%s` has no port for `%s`", a.Name, t.Name)
		}
		if t.Kind.OverTCP() && t.ServerName == "" && len(a.ServerNames) > 0 {
			t.ServerName = strings.Replace(a.ServerNames[0], "*", "www", 1)
		}
	}
	if t.ServerName != "" && noPort {
		t.ToPort = 443
	}
}

// stream fills in what a stream does not say.
func (s *resolver) stream(t *trafficLine) {
	if !has(t, "protocol") && t.Protocol == 0 {
		t.Protocol = packet.UDP
	}
	s.packetLength(t)
	s.bursts(t)
}

// replay finds the interface that a capture enters.
func (s *resolver) replay(t *trafficLine) {
	if t.Enters = s.interfaces[t.EntersName.Text]; t.Enters == nil {
		s.unknown(t.EntersName, "interface", s.paths)
	}
}

// clock sets the skew of a traffic that gives none: DefaultSkew for the kinds whose senders have clocks of their
// own.
func (s *resolver) clock(t *trafficLine) {
	switch own := t.Arrivals == policy.Constant || t.Arrivals == policy.OnOff; {
	case !t.Kind.Row().OwnClock:
	case !own && has(t, "skew"):
		s.problem(t.PlaceOf("skew"), 0, "remove it, or write `arrivals: constant`", "`skew` means nothing to arrivals of the kind %s", t.Arrivals)
	case own && !has(t, "skew") && t.Phase == nil:
		t.Skew = policy.DefaultSkew
	}
}

// bursts checks that a stream has the times of its bursts where it sends in bursts.
func (s *resolver) bursts(t *trafficLine) {
	if !s.sound("rehearsals", "loads") {
		return // what is not given may be what cannot be read
	}
	for _, key := range []string{"on", "off"} {
		switch on := t.Arrivals == policy.OnOff; {
		case on && !has(t, key):
			s.problem(t.PlaceOf("arrivals"), 0, "add it, such as on: 200ms and off: 1s", "`arrivals: on-off` needs the key `%s` beside it", key)
		case !on && has(t, key):
			s.problem(t.PlaceOf(key), 0, "remove it, or write `arrivals: on-off`", "`%s` means something to arrivals of the kind on-off alone", key)
		}
	}
	if t.Arrivals == policy.OnOff && t.Ramp != nil {
		s.problem(t.PlaceOf("arrivals"), 0, "leave one of the two out", "a stream with a ramp cannot be on-off: what it sends would follow from both")
	}
}

// video fills in what a video does not say.
func (s *resolver) video(t *trafficLine) {
	if !has(t, "packet") {
		t.Packet = 1200
	}
	if t.Frames == 0 {
		t.Frames = 25
	}
	s.packetLength(t)
}

// kindKeys returns the keys that say the kind of a traffic.
func kindKeys() []string {
	var keys []string
	for _, k := range trafficKeys {
		keys = append(keys, "`"+k.key+"`")
	}
	return keys
}

// overTCP fills in what a traffic over TCP does not say.
func (s *resolver) overTCP(t *trafficLine) {
	if !has(t, "packet") {
		t.Packet = 1500
	}
	s.packetLength(t)
	if t.Back() {
		if !has(t, "request") {
			t.Request = 400
		}
		if !has(t, "connections") {
			t.Connections = 6
		}
		if t.Kind == policy.Exchanges {
			t.Objects, t.Connections = 1, 1
		}
	}
	for _, k := range []struct {
		key  string
		size unit.Size
	}{{"bytes", t.Bytes}, {"answer", t.Bytes}, {"object", t.Bytes}, {"request", t.Request}, {"receive-window", t.ReceiveWindow}} {
		least := unit.Size(1)
		if k.key == "receive-window" {
			least = 2 * t.Packet
		}
		if has(t, k.key) && (k.size < least || k.size > 1<<40) && s.sound("rehearsals", "loads") {
			s.problem(t.PlaceOf(k.key), 0, fmt.Sprintf("give from %s to %s", least, unit.Size(1<<40)), "`%s` cannot be %s", k.key, k.size)
		}
	}
}

// calls checks the keys of calls and fills in what they do not say.
func (s *resolver) calls(t *trafficLine) {
	if !has(t, "playout") {
		t.Playout = policy.DefaultPlayout
	}
	if t.Ramp != nil && t.Ramp.FromCalls >= t.Calls && s.sound("rehearsals", "loads") {
		s.problem(t.PlaceOf("calls"), 0, "let it rise: a call that has begun goes on to the end", "a ramp from %d to %d calls does not rise", t.Ramp.FromCalls, t.Calls)
	}
	if has(t, "speech") && (t.Speech <= 0 || t.Speech >= 1) && s.sound("rehearsals", "loads") {
		s.problem(t.PlaceOf("speech"), 0, "give a part between, such as 40%; without the key silence is sent too", "speech of %g %% of the time is none, or all", 100*t.Speech)
	}
	if t.PlayoutMost > 0 && t.PlayoutMost <= t.Playout && s.sound("rehearsals", "loads") {
		s.problem(t.PlaceOf("playout"), 0, "let `max` be more than `min`, or give one time", "a playout buffer from %s to %s does not adapt", t.Playout, t.PlayoutMost)
	}
	if t.codec != "" {
		t.Codec = s.codec(t, t.codec, t.interval, t.bitRate)
		if with, ok := t.Codec.WithFEC(); t.fec && ok {
			t.Codec = with
		} else if t.fec {
			s.problem(t.PlaceOf("fec"), 0, "leave it out, or take opus", "%s sends no copies in its packets", t.Codec)
		}
	}
	s.twoEnds(t)
	for _, end := range []struct {
		key  string
		port *uint16
	}{{"from-port", &t.FromPort}, {"to-port", &t.ToPort}} {
		if !has(t, end.key) {
			*end.port = policy.FirstCallPort
		} else if *end.port == 0 && s.sound("rehearsals", "loads") {
			s.problem(t.PlaceOf(end.key), 0, "give a port from 1 to 65535", "a call has no port 0")
		}
	}
}

// twoEnds reads the two ends of calls, or of hellos.
func (s *resolver) twoEnds(t *trafficLine) {
	if len(t.between) != 2 {
		if t.between != nil { // nil: not given, or already reported
			s.problem(t.PlaceOf("between"), 0, "give the two ends of the "+t.Kind.Row().Name, "%s are between two addresses, not %d", t.Kind.Row().Name, len(t.between))
		}
		return
	}
	for i, to := range []*netip.Addr{&t.From, &t.To} {
		ref := t.between[i]
		iface := s.interfaces[ref.Text]
		switch {
		case iface == nil && t.Kind == policy.Hellos && strings.Contains(ref.Text, "/"):
			if s.sound("network") {
				s.unknown(ref, "interface", s.paths)
			}
		case iface == nil || t.Kind != policy.Hellos:
			a, err := parseAddress(ref.Text)
			if err != nil {
				s.problem(ref.At, len(ref.Text), "expected "+anAddress.say, "%s", err)
			}
			*to = a
		case len(iface.Address) == 0:
			if s.sound("network") {
				s.problem(ref.At, len(ref.Text), "give it an `address`, by which the node sends its hellos", "%s has no address", ref.Text)
			}
		default:
			*to = iface.Address[0]
		}
	}
}

// hellos checks the keys of hellos and fills in what they do not say: they are those of OSPF, marked as network control.
func (s *resolver) hellos(t *trafficLine) {
	if !has(t, "packet") {
		t.Packet = 80
	}
	if !has(t, "protocol") {
		t.Protocol = 89
	}
	if !has(t, "dscp") {
		t.DSCP = codepoint.CS6
	}
	if has(t, "dead") && t.Dead <= t.Every && t.Dead > 0 && t.Every > 0 {
		s.problem(t.PlaceOf("dead"), 0, "wait for several", "a neighbour that waits for %s gives the other up before its next hello, which comes after %s", t.Dead, t.Every)
	}
	s.twoEnds(t)
	s.packetLength(t)
	if !t.From.IsValid() || !t.To.IsValid() || !s.sound("network") {
		return
	}
	for i, a := range []netip.Addr{t.From, t.To} {
		if iface := s.interfaceOf(a); iface == nil || !iface.Own {
			s.problem(t.between[i].At, len(t.between[i].Text), "give an interface of the node this `address`", "%s is no address of a node itself", a)
		}
	}
}

// packetLength checks that a stream's packets hold their own headers.
func (s *resolver) packetLength(t *trafficLine) {
	if !has(t, "packet") || t.Packet == 0 {
		return
	}
	least := unit.Size(20)
	if t.From.Is6() {
		least = 40
	}
	switch t.Protocol {
	case packet.UDP:
		least += 8
		if t.Kind == policy.Video { // and RTP, and some of the picture
			least += packet.RTPHeader + 100
		}
	case packet.TCP:
		least += 20
		if t.Kind.OverTCP() { // some data
			least += 20
		}
	}
	if t.Packet < least || t.Packet > 65535 {
		s.problem(t.PlaceOf("packet"), 0, fmt.Sprintf("give a length from %d to 65535 bytes", least), "an IP packet cannot have %d bytes", t.Packet)
	}
}

// ends checks that the two addresses are at interfaces of the network, and that a
// tag can be sent there.
func (s *resolver) ends(t *trafficLine) {
	if !t.From.IsValid() || !t.To.IsValid() || !s.sound("network") {
		return // already reported
	}
	if t.From.Is4() != t.To.Is4() {
		s.problem(t.At, 0, "use two addresses of one kind", "%s and %s are of different IP versions", t.From, t.To)
		return
	}
	for i, a := range []netip.Addr{t.From, t.To} {
		iface := s.interfaceOf(a)
		switch {
		case iface == nil:
			s.problem(t.At, 0, "add its subnet to an interface's `subnets`", "the address %s is in no subnet of the network", a)
		case i == 0 && t.Tagged() && iface.Framing.Tags == 0:
			s.problem(t.At, 0, "give the interface a framing such as ethernet-vlan, or leave `vlan` and `pcp` out", "`%s` sends a VLAN tag, and the framing of %s, %s, has none", t.Name, iface.Path(), iface.Framing.Name)
		}
	}
}
