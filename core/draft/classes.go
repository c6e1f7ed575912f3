package draft

import (
	"cmp"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strings"
	"time"

	"imbrel.example/imbrel/core/survey"
	"imbrel.example/imbrel/core/unit"
)

// A kind of class is one that a draft can have besides voice and the rest.
type kind struct {
	name, mark string
	what       string // for its comment
	apps       []string
	part       float64 // of a shape, where nothing was measured
	queue      string
}

// kinds are the classes of a draft, in their order, with the markings of RFC 4594.
var kinds = []kind{
	{"signalling", "cs5", "the messages that set calls up", []string{"sip", "h323", "mgcp", "megaco"}, 0.02, ""},
	{"video", "af41", "other media of calls and conferences", []string{"rtp"}, 0.25, ", queue: {limit: 60ms}"},
	{"business", "af21", "what people wait for at their desks", []string{"rdp", "vnc", "mysql", "postgresql", "sqlserver", "oracle", "ldap", "kerberos"}, 0.3, ", queue: {drop: fq-codel}"},
	{"bulk", "af11", "what nobody waits for", []string{"rsync", "ftp", "smtp", "submission", "smb", "nfs", "ndmp"}, 0.05, ", queue: {drop: fq-codel}"},
}

// ClassNames returns the names of the classes that a draft can have; voice is always among them.
func ClassNames() []string {
	out := []string{"voice"}
	for _, k := range kinds {
		out = append(out, k.name)
	}
	return out
}

// A class is one that the draft has.
type class struct {
	*kind
	apps    []string // that its condition names
	percent [2]int   // of the shape out of the site, and into it
	seen    [2]unit.Rate
}

// A writer writes the parts of a draft.
type writer struct {
	*Facts
	shapes [2]unit.Rate
	wire   int // bytes of a call's packet on the line
	chosen []class
	mixes  []mixed
	sent   map[string]bool // classes of which the rehearsal sends something
}

// mixed is a part of the survey's busiest minute, in one direction.
type mixed struct {
	*survey.Mix
	way  int // 0: out of the site
	rate unit.Rate
}

// plan decides on the classes and their promises.
func (w *writer) plan() error {
	w.sent = make(map[string]bool)
	asked := w.Classes
	if w.Survey != nil {
		w.busiest()
	}
	for i := range kinds {
		k := &kinds[i]
		c := class{kind: k, apps: k.apps}
		if w.Survey != nil {
			c.apps = nil
			for _, m := range w.mixes {
				if of := kindOf(m.App); of == k {
					c.seen[m.way] += m.rate
					if !slices.Contains(c.apps, m.App) {
						c.apps = append(c.apps, m.App)
					}
				}
			}
			slices.Sort(c.apps)
			if asked == nil && c.apps == nil {
				continue
			}
			if c.apps == nil {
				c.apps = k.apps
			}
		}
		if asked != nil && !slices.Contains(asked, k.name) && !(k.name == "signalling" && len(asked) > 0) || asked == nil && w.Survey == nil {
			continue
		}
		w.chosen = append(w.chosen, c)
	}
	for way := range w.shapes {
		voice := int(math.Ceil(float64(100*w.voiceRate(way)) / float64(w.shapes[way])))
		room := 100 - voice - restPercent
		sum := 0
		for i := range w.chosen {
			c := &w.chosen[i]
			part := c.part
			if w.Survey != nil { // a fifth more than the busiest minute
				part = 1.2 * float64(c.seen[way]) / float64(w.shapes[way])
				if c.name == "bulk" {
					part = min(part, c.part)
				}
			}
			c.percent[way] = max(1, int(math.Ceil(100*part)))
			sum += c.percent[way]
		}
		if sum > room { // all give way in proportion
			for i := range w.chosen {
				c := &w.chosen[i]
				c.percent[way] = max(1, c.percent[way]*room/sum)
			}
		}
		if room < len(w.chosen) {
			return fmt.Errorf("%d calls take %d %% of the line %s: nothing is left to promise to %s; plan for fewer calls, or leave the classes out", w.Calls, voice, [2]string{"out", "in"}[way], strings.Join(w.classNames(), ", "))
		}
	}
	return nil
}

func (w *writer) classNames() (out []string) {
	for _, c := range w.chosen {
		out = append(out, c.name)
	}
	return out
}

// voiceRate is what the policer of voice lets pass.
func (w *writer) voiceRate(way int) unit.Rate {
	rate := w.Codec.Rate(w.Calls * w.wire)
	if way == 1 {
		rate = rate * 11 / 10
	}
	return rate
}

// kindOf returns the class that a part of a mix is for; nil: voice or the rest.
func kindOf(app string) *kind {
	for i := range kinds {
		if slices.Contains(kinds[i].apps, app) {
			return &kinds[i]
		}
	}
	return nil
}

// busiest finds what there was in the busiest minute of the survey, without calls.
func (w *writer) busiest() {
	for i := range w.Survey.Mix {
		m := &w.Survey.Mix[i]
		way := 0
		switch m.Direction {
		case survey.ToClient.String(), survey.In.String():
			way = 1
		case survey.Within.String(), survey.Passing.String():
			continue
		}
		if m.App == "rtp" && len(w.Survey.Calls) > 0 { // they are planned for as calls, and as video
			continue
		}
		rate := m.MeanBps
		if m.BusiestMinute != nil && w.Survey.Seconds > 60 {
			rate = m.BusiestMinute.Bps
		}
		if rate > 0 {
			w.mixes = append(w.mixes, mixed{m, way, unit.Rate(rate)})
		}
	}
	for i := range w.Survey.Calls {
		if c := &w.Survey.Calls[i]; c.Video && c.LastsS > 1 {
			m := mixed{&survey.Mix{App: "rtp", Protocol: "video", Client: c.From, Server: c.To, Port: c.ToPort}, 0, unit.Rate(float64(8*c.Bytes) / c.LastsS)}
			if from, err := netip.ParseAddr(c.From); err == nil && len(w.sites()) > 0 && !slices.ContainsFunc(w.sites(), func(p netip.Prefix) bool { return p.Contains(from) }) {
				m.way, m.Client, m.Server, m.Port = 1, c.To, c.From, c.FromPort
			}
			w.mixes = append(w.mixes, m)
		}
	}
	slices.SortStableFunc(w.mixes, func(a, b mixed) int { return cmp.Compare(b.rate, a.rate) })
}

// callPorts returns the ranges of ports at which calls were seen, one end of each, and the usual one where none were.
func (w *writer) callPorts() (ranges [][2]uint16, seen bool) {
	usual := [][2]uint16{{16384, 32767}}
	if w.Survey == nil {
		return usual, false
	}
	var audio, video []uint16
	for _, c := range w.Survey.Calls {
		if port := min(c.FromPort, c.ToPort); c.Video {
			video = append(video, port)
		} else {
			audio = append(audio, port)
		}
	}
	slices.Sort(audio)
	apart := func(first, last uint16) bool {
		return slices.ContainsFunc(video, func(p uint16) bool { return p >= first && p <= last })
	}
	switch {
	case audio == nil:
		return usual, false
	case audio[0] >= usual[0][0] && audio[len(audio)-1] <= usual[0][1] && !apart(usual[0][0], usual[0][1]):
		return usual, true
	}
	const near, most = 400, 16
	for _, p := range audio {
		if k := len(ranges) - 1; k >= 0 && (p-ranges[k][1] < near || k+1 == most) && !apart(ranges[k][0], p) {
			ranges[k][1] = p
		} else if k+1 < most {
			ranges = append(ranges, [2]uint16{p, p})
		}
	}
	for i := range ranges { // and the ports of the calls to come, and of the reports beside
		for last := max(int(ranges[i][1]|1), min(65535, int(ranges[i][0])+2*w.Calls)); last > int(ranges[i][1]); last-- {
			if !apart(ranges[i][1], uint16(last)) {
				ranges[i][1] = uint16(last)
			}
		}
	}
	return ranges, true
}

func (w *writer) classes() string {
	var b strings.Builder
	ports, seen := w.callPorts()
	var list []string
	for _, r := range ports {
		s := fmt.Sprintf("%d-%d", r[0], r[1])
		if r[0] == r[1] {
			s = fmt.Sprint(r[0])
		}
		list = append(list, s)
	}
	match := strings.Join(list, ", ")
	if len(list) > 1 {
		match = "[" + match + "]"
	}
	switch {
	case seen:
		fmt.Fprintf(&b, "  # The packets of calls: the survey saw them on these ports.\n")
	default:
		fmt.Fprintf(&b, "  # The packets of calls. CHANGE the ports to those of your phones, or match dscp: ef.\n")
	}
	fmt.Fprintf(&b, "  - {name: voice, match: [{protocol: udp, port: %s}]}\n", match)
	for _, c := range w.chosen {
		match := "{app: " + strings.Join(c.apps, "}, {app: ") + "}"
		if len(c.apps) > 1 {
			match = "{app: [" + strings.Join(c.apps, ", ") + "]}"
		}
		fmt.Fprintf(&b, "  # %s.\n  - {name: %s, match: [%s]}\n", sentence(c.what), c.name, match)
	}
	return b.String()
}

func sentence(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// entries is how a policy treats the classes, in one direction.
func (w *writer) entries(way int) string {
	var b strings.Builder
	if way == 0 {
		b.WriteString("      # Calls go first, up to the rate of CALLS calls; the policer drops what exceeds it.\n      - {class: voice, mark: ef, priority: 1, police: {calls: CALLS, codec: CODEC}}\n")
	} else {
		b.WriteString("      # Calls may arrive in bursts from the provider's queue: a tenth more than their rate, and a long burst.\n      - {class: voice, mark: ef, priority: 1, police: {rate: INRATE, burst: INBURST}}\n")
	}
	for _, c := range w.chosen {
		why := "an assumption: CHANGE it to what they need"
		if w.Survey != nil {
			if why = "the least: none was seen"; c.seen[way] > 0 {
				why = fmt.Sprintf("the busiest minute had %s; a fifth more is promised", Round(c.seen[way]))
				if c.name == "bulk" {
					why = fmt.Sprintf("the busiest minute had %s; it gets what the others leave", Round(c.seen[way]))
				}
			}
		}
		fmt.Fprintf(&b, "      - {class: %s, mark: %s, at-least: %d%%%s}   # %s\n", c.name, c.mark, c.percent[way], c.queue, why)
	}
	if len(w.chosen) > 0 {
		b.WriteString("      # All other traffic divides what is left between its flows; whatever marking its hosts gave it goes.\n      - {class: rest, mark: df, queue: {drop: fq-codel}}\n")
	} else if way == 0 {
		b.WriteString("      # All other traffic divides the extra bandwidth between its flows.\n      - {class: rest, queue: {drop: fq-codel}}\n")
	} else {
		b.WriteString("      - {class: rest, queue: {drop: fq-codel}}\n")
	}
	return b.String()
}

// assumptions are the facts of the file, and what it takes for granted.
func (w *writer) assumptions() string {
	if w.LineFrom == "" && len(w.chosen) == 0 && w.Survey == nil {
		return ""
	}
	lines := []string{
		fmt.Sprintf("the line carries UP out and DOWN in: %s", cmp.Or(w.LineFrom, "as you said")),
		"the shapes are OUTSHAPE and INSHAPE of that, so that packets queue here and not at the provider",
		fmt.Sprintf("the line counts bytes as FRAMING: %s", cmp.Or(w.FramingFrom, "an assumption, CHANGE it if it is wrong")),
		fmt.Sprintf("at most CALLS calls of CODEC at a time: %s", cmp.Or(w.CallsFrom, "as you said")),
	}
	if w.Delay > 0 {
		lines = append(lines, "the line takes LATENCY one way: measured")
	} else {
		lines = append(lines, "the line takes LATENCY one way: an assumption")
	}
	if w.Buffer > 0 {
		lines = append(lines, "the provider's queue holds BUFFER: measured")
	} else {
		lines = append(lines, "the provider's queue holds BUFFER: an assumption")
	}
	if w.Survey != nil {
		lines = append(lines, fmt.Sprintf("traffic is what %s saw in %s from %s", plainWords(strings.Join(w.Survey.Sources, ", ")), survey.Span(w.Survey.Seconds), w.Survey.From.Format("2006-01-02 15:04")))
	}
	if len(w.chosen) > 0 {
		lines = append(lines, "no host's marking is trusted: classes go by ports and applications, and everything is marked anew (RFC 4594)")
	}
	return "# What it rests on:\n#   - " + strings.Join(lines, "\n#   - ") + "\n"
}

// plainWords leaves out what would end a comment, or tell a terminal something.
func plainWords(s string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f || r >= 0x80 && r < 0xa0 || r == 0x2028 || r == 0x2029 || r == 0xfeff {
			return '?'
		}
		return r
	}, s)
}

// sites returns the subnets of the site: those given, or those of the survey's clients with most bytes.
func (w *writer) sites() (out []netip.Prefix) {
	if len(w.Inside) > 0 || w.Survey == nil {
		return w.Inside
	}
	for _, s := range w.Survey.Of("client") {
		a, err := netip.ParseAddr(s.Name)
		if err != nil || a.IsLinkLocalUnicast() || a.IsMulticast() || a.IsUnspecified() {
			continue
		}
		length := 24
		if a.Is6() {
			length = 64
		}
		p, _ := a.Prefix(length)
		if !slices.ContainsFunc(out, func(o netip.Prefix) bool { return o.Overlaps(p) }) {
			out = append(out, p)
		}
		if len(out) == 8 {
			break
		}
	}
	return out
}

func (w *writer) subnets() string {
	var out []string
	for _, p := range w.sites() {
		out = append(out, quoted(p.String()))
	}
	if out == nil {
		return "192.0.2.0/24"
	}
	return strings.Join(out, ", ")
}

// world is what is behind the provider: everything, where addresses were seen.
func (w *writer) world() string {
	if w.Survey == nil && len(w.Inside) == 0 {
		return "198.51.100.0/24"
	}
	return `0.0.0.0/0, "::/0"`
}

// host returns an address of the site, the n-th, of the first subnet of IPv4, and one beyond.
func (w *writer) host(n byte) (here, there string) {
	there = fmt.Sprintf("198.51.100.%d", n)
	for _, p := range w.sites() {
		if p.Addr().Is4() && p.Bits() <= 24 {
			b := p.Addr().As4()
			b[3] = n
			return netip.AddrFrom4(b).String(), there
		}
		if p.Addr().Is4() {
			return p.Addr().Next().String(), there
		}
	}
	if s := w.sites(); len(s) > 0 {
		b := s[0].Addr().As16()
		b[15] = n
		return `"` + netip.AddrFrom16(b).String() + `"`, fmt.Sprintf(`"2001:db8:51::%x"`, n)
	}
	return fmt.Sprintf("192.0.2.%d", n), there
}

// maxReplayed is how many parts of the survey's mix the rehearsal has.
const maxReplayed = 12

// traffic is what the rehearsal sends.
func (w *writer) traffic(downloads int) string {
	var b strings.Builder
	here, there := w.host(20)
	ports := ""
	if ranges, _ := w.callPorts(); ranges[0][0] != 16384 {
		ports = fmt.Sprintf(", from-port: %d", ranges[0][0]&^1)
	}
	fmt.Fprintf(&b, "      - {name: calls, calls: CALLS, codec: CODECPLAYOUT, between: [%s, %s]%s}\n", here, there, ports)
	if w.Survey != nil {
		w.replay(&b)
	} else {
		w.typical(&b)
	}
	here, there = w.host(40)
	fmt.Fprintf(&b, "      - {name: downloads, tcp: %d, from: %s, to: %s, from-port: 443}\n", downloads, there, here)
	here, there = w.host(41)
	fmt.Fprintf(&b, "      - {name: upload, tcp: 1, from: %s, to: %s, to-port: 443}\n", here, there)
	return b.String()
}

// typical is traffic of each class, where none was seen.
func (w *writer) typical(b *strings.Builder) {
	for i, c := range w.chosen {
		w.sent[c.name] = true
		here, there := w.host(byte(50 + i))
		switch c.name {
		case "signalling":
			fmt.Fprintf(b, "      - {name: call-setup, rate: 16kbit/s, packet: 600B, arrivals: poisson, from: %s, to: %s, to-port: 5060}\n", here, there)
			fmt.Fprintf(b, "      - {name: call-answers, rate: 16kbit/s, packet: 600B, arrivals: poisson, from: %s, to: %s, from-port: 5060}\n", there, here)
		case "video":
			rate := min(2*unit.MbitPerSecond, w.promise(i, 0)/2, w.promise(i, 1)/2)
			fmt.Fprintf(b, "      - {name: conference, video: %s, from: %s, to: %s, to-port: 5004}\n", Round(rate), here, there)
			fmt.Fprintf(b, "      - {name: conference-in, video: %s, from: %s, to: %s, from-port: 5004}\n", Round(rate), there, here)
		case "business":
			fmt.Fprintf(b, "      - {name: desks, requests: 4, answer: 20kB, think: 1s, from: %s, to: %s, to-port: 5432}\n", here, there)
		case "bulk":
			fmt.Fprintf(b, "      - {name: backup, tcp: 1, from: %s, to: %s, to-port: 873}\n", here, there)
		}
	}
}

func (w *writer) promise(i, way int) unit.Rate {
	return w.shapes[way] * unit.Rate(w.chosen[i].percent[way]) / 100
}

// Round leaves a rate three digits, and never makes it more.
func Round(r unit.Rate) unit.Rate {
	step := unit.Rate(1)
	for r/step >= 1000 {
		step *= 10
	}
	return max(1000, r/step*step)
}

// replay writes the busiest minute of the survey, but for its calls: they are planned for.
func (w *writer) replay(b *strings.Builder) {
	parts, err := w.Survey.Replay(time.Time{}, true)
	if err != nil { // there is nothing to replay
		return
	}
	shown := 0
	for _, p := range parts {
		if p.Kind == "calls" || !w.crosses(p.From, p.To) || shown == maxReplayed {
			continue
		}
		shown++
		if k := kindOf(p.App); k != nil {
			w.sent[k.name] = true
		}
		size := fmt.Sprintf("%s: %s", p.Kind, Round(p.Rate))
		switch p.Kind {
		case "tcp":
			size = fmt.Sprintf("tcp: 1, app-rate: %s", Round(p.Rate))
		case "rate":
			size += fmt.Sprintf(", packet: %dB, arrivals: poisson", p.Packet)
		}
		fmt.Fprintf(b, "      - {name: %s, %s, from: %s, to: %s", p.Name, size, quoted(p.From), quoted(p.To))
		for _, end := range []struct {
			key  string
			port uint16
		}{{"from-port", p.FromPort}, {"to-port", p.ToPort}} {
			if end.port > 0 {
				fmt.Fprintf(b, ", %s: %d", end.key, end.port)
			}
		}
		b.WriteString("}\n")
	}
}

// quoted writes an address as YAML has it.
func quoted(address string) string {
	if strings.Contains(address, ":") {
		return `"` + address + `"`
	}
	return address
}

// crosses reports whether one end is at the site, and the other is not.
func (w *writer) crosses(from, to string) bool {
	c, err := netip.ParseAddr(from)
	s, err2 := netip.ParseAddr(to)
	if err != nil || err2 != nil {
		return false
	}
	at := func(a netip.Addr) bool {
		return slices.ContainsFunc(w.sites(), func(p netip.Prefix) bool { return p.Contains(a) })
	}
	return at(c) != at(s) && !c.IsMulticast() && !s.IsMulticast()
}

// expected is what the rehearsal is judged by.
func (w *writer) expected() string {
	var b strings.Builder
	b.WriteString("      - voice loss = 0\n      - voice delay p99 <= DELAY\n      - voice mos >= MOS\n")
	if len(w.chosen) > 0 {
		b.WriteString("      - voice arrive as ef\n      - rest arrive as df\n")
		left := w.shapes[1] - w.voiceRate(1)
		for i := range w.chosen {
			left -= w.promise(i, 1)
		}
		fmt.Fprintf(&b, "      - downloads goodput >= %s   # half of what is promised to nobody else\n", Round(max(1000, left/2)))
		if w.shapes[0] >= 3*unit.MbitPerSecond && w.shapes[1] >= 8*unit.MbitPerSecond { // where a full packet takes no time to speak of
			fmt.Fprintf(&b, "      - rest delay p99 <= %s   # fq-codel keeps its queues short\n", unit.FormatDuration(roundUp(max(linkDelay, w.Delay)+90e6, 10e6)))
		}
	}
	for i, c := range w.chosen {
		if !w.sent[c.name] {
			continue
		}
		fmt.Fprintf(&b, "      - %s arrive as %s\n", c.name, c.mark)
		if w.Survey != nil {
			continue
		}
		switch c.name {
		case "signalling":
			b.WriteString("      - signalling loss = 0\n")
		case "video":
			b.WriteString("      - video loss <= 0.5%\n")
		case "business":
			slow := min(w.promise(i, 0), w.promise(i, 1))
			answer := 2*slow.Time(20_000) + 8*max(linkDelay, w.Delay)
			fmt.Fprintf(&b, "      - desks completion p95 <= %s\n", unit.FormatDuration(roundUp(answer+150e6, 50e6)))
		case "bulk":
			fmt.Fprintf(&b, "      - backup goodput >= %s   # most of its promise\n", Round(w.promise(i, 0)*6/10))
		}
	}
	return b.String()
}

// bursts is how many full packets come from the provider at a time at most, by the senders that begin anew now and then.
func (w *writer) bursts() int {
	const window, together = 10, 3
	if len(w.chosen) == 0 && w.Survey == nil {
		return 0
	}
	senders := 1
	if w.Survey != nil {
		for _, m := range w.mixes[:min(len(w.mixes), maxReplayed)] {
			if m.way == 1 && m.Protocol == "tcp" {
				senders++
			}
		}
	} else if slices.ContainsFunc(w.chosen, func(c class) bool { return c.name == "business" }) {
		senders = together
	}
	return window * min(senders, together)
}

// Planned returns how many calls to plan for where so many were seen at a time.
func Planned(seen int) int { return seen + max(2, (seen+callsSpare-1)/callsSpare) }

// CodecSeen returns the codec of most calls of a survey; "": it does not tell.
func CodecSeen(s *survey.Result) string {
	count := make(map[string]int)
	most := ""
	for _, c := range s.Calls {
		if c.Codec != "" {
			if count[c.Codec]++; count[c.Codec] > count[most] || count[c.Codec] == count[most] && c.Codec < most {
				most = c.Codec
			}
		}
	}
	return most
}
