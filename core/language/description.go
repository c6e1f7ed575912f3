package language

import (
	"slices"
	"strings"
	"time"

	"imbrel.example/imbrel/core/codec"
	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/packet"
	"imbrel.example/imbrel/core/policy"
	"imbrel.example/imbrel/core/unit"
)

// Parts of a document that are not yet as the model has them.
type (
	// A document is a policy file as it is written.
	document struct {
		policy.File
		times      []namedTime
		attach     []attachLine
		network    networkLines
		loads      []loadLines
		rehearsals []rehearsalLines
	}
	namedTime struct {
		policy.Span
		zone policy.Ref
	}
	attachLine struct {
		policy.Source
		policy policy.Ref
		at     []placeRef
	}
	// placeRef names an interface, or several by a pattern, and a direction.
	placeRef struct {
		policy.Ref
		direction policy.Direction
	}
	networkLines struct {
		policy.Source
		nodes   []nodeLines
		links   []*policy.Link
		tunnels []policy.Tunnel
		bundles []policy.Bundle
	}
	nodeLines struct {
		policy.Node
		interfaces []interfaceLine
	}
	interfaceLine struct {
		policy.Interface
		link *siteLink
	}
	// A siteLink is a link written at the interface of one of its ends.
	siteLink struct {
		policy.Source
		to              policy.Ref
		sends, receives unit.Rate
		delay, buffer   time.Duration
		loss            policy.LinkLoss
		jitter          policy.LinkJitter
		framing         *packet.Framing
		mtu, cost       int
		halfDuplex      halfDuplex
		contract        []policy.ContractLine // of what is sent
		delivers        []policy.ContractLine // of what is received
	}
	shaping struct {
		policy.Source
		rate  unit.Share
		burst policy.ShapeBurst
	}
	// A number may be one that rises or falls over a time.
	rampLine struct {
		policy.Ramp
		toRate  unit.Rate
		toCalls int
	}
	loadLines struct {
		policy.Source
		name    string
		traffic []trafficLine
		taken   bool // by some rehearsal
	}
	rehearsalLines struct {
		policy.Rehearsal
		traffic []trafficLine
	}
	trafficLine struct {
		policy.Traffic
		load     policy.Ref
		survey   string
		app      policy.Ref
		codec    string
		interval time.Duration
		bitRate  unit.Rate
		fec      bool
		between  []policy.Ref
	}
	halfDuplex struct {
		policy.Source
		rate unit.Rate
		turn time.Duration
	}
	// A policeLine is a policer whose calls are not yet of a codec.
	policeLine struct {
		policy.Police
		codec    string
		interval time.Duration
		bitRate  unit.Rate
	}
)

// orMeasured lets a set of keys stand where the rate of a measured line is put before the file is read.
func orMeasured[V any](s shape[V]) shape[V] {
	return shape[V]{say: s.say, read: s.read, schema: func(d definitions) schema {
		return schema{"anyOf": []schema{s.schema(d), {"type": "object", "required": []string{"measured"}, "additionalProperties": false,
			"properties": schema{"measured": schema{"type": "string"}, "part": schema{"type": "string"}, "direction": schema{"enum": []string{"out", "in"}}}}}}
	}}
}

var (
	addresses = as(oneOrMany(ref("an address, a prefix, a group's name, or `here`")), func(given []policy.Ref) *policy.Addresses { return &policy.Addresses{Given: given} })

	aGroup = shape[policy.Group]{say: addresses.say, schema: addresses.schema, read: func(r *reader, n Value) (policy.Group, bool) {
		a, ok := addresses.read(r, n)
		return policy.Group{Source: policy.Source{At: n.At}, Addresses: *a}, ok
	}}

	anApp = object("application",
		on("tcp", "its TCP ports", oneOrMany(ports), func(a *policy.App, v []policy.Range) { a.TCP = v }),
		on("udp", "its UDP ports", oneOrMany(ports), func(a *policy.App, v []policy.Range) { a.UDP = v }),
		on("server-name", "TLS server names and HTTP hosts; *.weather.example is every name below", oneOrMany(value("a server name such as *.weather.example", parseServerName)), func(a *policy.App, v []string) { a.ServerNames = v }),
		on("looks-like", "rtp: recognised by header and sequence over a few packets", words("rtp"), func(a *policy.App, _ string) { a.LooksLike = policy.LooksLikeRTP }),
	)

	aMap = shape[policy.MarkTable]{say: "DSCPs, each followed by another, as in {af41: af42, cs3: le}",
		schema: func(d definitions) schema {
			return schema{"type": "object", "additionalProperties": aDSCP.schema(d)}
		},
		read: readMap}

	aSpan = object("named time",
		on("days", "mon, tue, … or a range such as mon-fri, or a list; every day when not given", oneOrMany(value("a day such as mon, or a range such as mon-fri", parseDays)), func(s *namedTime, v [][7]bool) {
			for _, days := range v {
				for d, on := range days {
					s.Days[d] = s.Days[d] || on
				}
			}
		}),
		must("from", `a time of day such as "08:30"`, aMinute, func(s *namedTime, v int) { s.From = v }),
		must("to", `a time of day; the next day's when earlier than from, the whole day when the same`, aMinute, func(s *namedTime, v int) { s.To = v }),
		on("zone", "a time zone such as Europe/Oslo; UTC when not given", ref("a time zone such as Europe/Oslo"), func(s *namedTime, v policy.Ref) { s.zone = v }),
	)

	aCondition = conditionShape()

	aClass = object("class",
		must("name", "a name to use in `treat`", identifier("class"), func(c *policy.Class, v policy.Ref) { c.Name = v.Text }),
		must("match", "a list of conditions: the class takes a packet for which one of them holds", list(aCondition), func(c *policy.Class, v []policy.Condition) { c.Match = v }),
		on("except", "conditions under which it does not", list(aCondition), func(c *policy.Class, v []policy.Condition) { c.Except = v }),
	)

	aMark = either(
		as(aDSCP, func(d codepoint.DSCP) *policy.Mark { return &policy.Mark{DSCP: &d} }),
		as(object("marking",
			on("dscp", "the DSCP", aDSCP, func(m *policy.Mark, v codepoint.DSCP) { m.DSCP = &v }),
			on("map", "a map of `maps`, by which the DSCP becomes another", ref("the name of a map"), func(m *policy.Mark, v policy.Ref) { m.MapName = v }),
			on("precedence", "the IP precedence: the upper three bits of the DSCP; the lower stay", aThreeBits("an IP precedence"), func(m *policy.Mark, v uint8) { m.Precedence = &v }),
			on("dei", "the drop eligible indicator of the VLAN tag", flag, func(m *policy.Mark, v bool) { m.DEI = &v }),
			on("pcp", "the priority code point of the VLAN tag", aThreeBits("a priority code point"), func(m *policy.Mark, v uint8) { m.PCP = &v }),
			on("tc", "the traffic class of the topmost MPLS label", aThreeBits("a traffic class"), func(m *policy.Mark, v uint8) { m.TC = &v }),
		), func(m policy.Mark) *policy.Mark { return &m }))

	anAction = either(
		as(words("pass", "drop"), func(w string) policy.Action { return policy.Action{Drop: w == "drop"} }),
		object("action",
			on("mark", "what the packets are marked with", aMark, func(a *policy.Action, v *policy.Mark) { a.Mark = v }),
			on("map", "a map of `maps`", ref("the name of a map"), func(a *policy.Action, v policy.Ref) { a.Mark = &policy.Mark{MapName: v} }),
		))

	aPolice = as(object("policer",
		on("rate", "the sustained rate (CIR)", aShare, func(p *policeLine, v unit.Share) { p.Rate = v }),
		on("burst", "the size of the token bucket (CBS): how much may come at once", aSize, func(p *policeLine, v unit.Size) { p.Burst = v }),
		on("calls", "in place of `rate` and `burst`: the rate of so many calls as the interface counts bytes, and a burst of two packets a call", count("a number of calls", 1, 100_000), func(p *policeLine, v int) { p.Calls = v }),
		on("codec", "of the calls", words(codec.Names()...), func(p *policeLine, v string) { p.codec = v }),
		on("interval", "between the packets of a call; the codec's usual one when not given", someTime, func(p *policeLine, v time.Duration) { p.interval = v }),
		on("bitrate", "of a codec whose bit rate can be chosen (opus)", aRate, func(p *policeLine, v unit.Rate) { p.bitRate = v }),
		on("ip", "the IP version of the calls: 4 (when not given) or 6", anIPVersion, func(p *policeLine, v bool) { p.IPv6 = v }),
		on("excess-burst", "a second bucket (EBS, RFC 2697): what only it holds is yellow", aSize, func(p *policeLine, v unit.Size) { p.Excess = v }),
		on("peak", "the peak rate (PIR, RFC 2698): what exceeds it is red, what exceeds only `rate` yellow", aShare, func(p *policeLine, v unit.Share) { p.Peak = v }),
		on("peak-burst", "the size of the peak's bucket (PBS)", aSize, func(p *policeLine, v unit.Size) { p.PeakBurst = v }),
		on("aware", "true: packets keep at most the colour they arrive with", flag, func(p *policeLine, v bool) { p.Aware = v }),
		on("green", "what is done with what conforms: pass (when not given), drop, {mark:} or {map:}", anAction, func(p *policeLine, v policy.Action) { p.Green = v }),
		on("yellow", "the same for yellow; pass when not given", anAction, func(p *policeLine, v policy.Action) { p.Yellow = v }),
		on("red", "the same for red; drop when not given", anAction, func(p *policeLine, v policy.Action) { p.Red = v }),
		on("when", "when the policer is in force; always when not given", aWhen, func(p *policeLine, v *policy.When) { p.When = v }),
	), func(p policeLine) *policeLine { return &p })

	aLimit = value("a time such as 40ms, a size such as 30kB, or a number of packets such as 50", parseQueueLimit)

	aQueue = object("queue",
		on("limit", "how much may wait: a time such as 40ms, a size such as 30kB, or a number of packets such as 50", aLimit, func(q *policy.Queue, v policy.Queue) {
			q.Time, q.Bytes, q.Packets = v.Time, v.Bytes, v.Packets
		}),
		on("drop", "what is dropped, and when: tail (when not given), "+policy.OrList(policy.Droppers()[1:]), oneOf[policy.Dropper](policy.Droppers()), func(q *policy.Queue, v policy.Dropper) { q.Drop = v }),
		on("ecn", "true: mark instead of dropping where the packet allows it (RFC 3168)", flag, func(q *policy.Queue, v bool) { q.ECN = v }),
		on("from", "of red: the average queue from which on it drops, as `limit` is written; 15 % of the limit when not given", aLimit, func(q *policy.Queue, v policy.Queue) { q.RED.From = &v }),
		on("to", "of red: the average queue at which it drops by `probability`; 45 % of the limit when not given", aLimit, func(q *policy.Queue, v policy.Queue) { q.RED.To = &v }),
		on("probability", "of red: the part of the packets dropped at `to`; from there it rises to all at twice that. 10% when not given", aPart, func(q *policy.Queue, v float64) { q.RED.Probability = v }),
		on("weight", "of red: that of the newest packet in the average; 0.002 when not given", value("a number such as 0.002, above 0 and up to 1", parseWeight), func(q *policy.Queue, v float64) { q.RED.Weight = v }),
	)

	aBurst = object("burst",
		must("to", "the rate it may reach", aShare, func(b *policy.Burst, v unit.Share) { b.To = v }),
		must("for", "for how long at most", someTime, func(b *policy.Burst, v time.Duration) { b.For = v }),
	)

	aCeiling = either(
		as(aShare, func(s unit.Share) *policy.Ceiling { return &policy.Ceiling{Rate: s} }),
		as(object("upper limit",
			must("rate", "the sustained upper limit", aShare, func(c *policy.Ceiling, v unit.Share) { c.Rate = v }),
			on("burst", "above it for a while: {to:, for:}", aBurst, func(c *policy.Ceiling, v policy.Burst) { c.Burst = &v }),
			on("when", "when the limit is active; always when not given", aWhen, func(c *policy.Ceiling, v *policy.When) { c.When = v }),
		), func(c policy.Ceiling) *policy.Ceiling { return &c }))

	aBlock = either(
		as(flag, func(on bool) blocking { return blocking{on: on} }),
		object("block",
			must("when", "when the entry's packets are dropped", aWhen, func(b *blocking, v *policy.When) { b.on, b.when = true, v }),
		))

	aPressure = func(doc string) shape[policy.Pressure] {
		return object("load "+doc,
			must("load", "of the interface, a rate or a percentage of what it has to share", aShare, func(p *policy.Pressure, v unit.Share) { p.Load = v }),
			on("for", "how long it lasts first", aDuration, func(p *policy.Pressure, v time.Duration) { p.For = v }),
		)
	}

	aWhen = either(
		as(ref("the name of a time"), func(n policy.Ref) *policy.When { return &policy.When{TimeName: n} }),
		as(object("pressure",
			must("starts", "the load at or above which it comes into force: {load:, for:}", aPressure("above which"), func(w *policy.When, v policy.Pressure) { w.Starts = v }),
			must("ends", "the load below which it goes out of force again: {load:, for:}", aPressure("below which"), func(w *policy.When, v policy.Pressure) { w.Ends = v }),
		), func(w policy.When) *policy.When { return &w }))

	anEntry = entryShape()

	aShaping = either(
		as(aShare, func(v unit.Share) shaping { return shaping{rate: v} }),
		object("shape",
			must("rate", "the rate, as `shape` alone has it", aShare, func(s *shaping, v unit.Share) { s.rate = v }),
			must("burst", "how much leaves at the rate of the interface at once when less was sent before: a size such as 12kB, or a time at `rate` such as 4ms", value("a size such as 12kB or a time such as 4ms", parseShapeBurst), func(s *shaping, v policy.ShapeBurst) { s.burst = v }),
		))

	aContractLine = object("contract",
		must("rate", "what the carrier passes for good (CIR), as `framing` of the link counts", aRate, func(c *policy.ContractLine, v unit.Rate) { c.Rate.Rate = v }),
		must("burst", "what may come at once beyond that (CBS)", aSize, func(c *policy.ContractLine, v unit.Size) { c.Police.Burst = v }),
		on("excess", "a rate beyond `rate` whose packets are yellow (EIR, RFC 4115); with `excess-burst`", aRate, func(c *policy.ContractLine, v unit.Rate) { c.Peak.Rate = v }),
		on("excess-burst", "what may come at once of `excess` (EBS); without `excess`, a second bucket by RFC 2697", aSize, func(c *policy.ContractLine, v unit.Size) { c.Excess = v }),
		on("peak", "the peak rate (PIR, RFC 2698): what exceeds it is red, what exceeds only `rate` yellow; with `peak-burst`", aRate, func(c *policy.ContractLine, v unit.Rate) { c.Peak.Rate = v }),
		on("peak-burst", "what may come at once of `peak` (PBS)", aSize, func(c *policy.ContractLine, v unit.Size) { c.PeakBurst = v }),
		on("dscp", "the code points that the line is about; the last line has none, and is about all others", oneOrMany(aDSCP), func(c *policy.ContractLine, v []codepoint.DSCP) { c.DSCPs = v }),
		on("aware", "true: packets keep at most the colour they arrive with", flag, func(c *policy.ContractLine, v bool) { c.Aware = v }),
		on("by", "where `aware` reads the colour: dscp (its drop precedence, when not given) or dei (yellow when it is set)", words("dscp", "dei"), func(c *policy.ContractLine, v string) { c.ByDEI = v == "dei" }),
		on("green", "what is done with what conforms: pass (when not given), drop, {mark:} or {map:}", anAction, func(c *policy.ContractLine, v policy.Action) { c.Green = v }),
		on("yellow", "the same for yellow; pass when not given", anAction, func(c *policy.ContractLine, v policy.Action) { c.Yellow = v }),
		on("red", "the same for red; drop when not given", anAction, func(c *policy.ContractLine, v policy.Action) { c.Red = v }),
	)

	aContract = oneOrMany(aContractLine)

	aPolicy = object("policy",
		must("name", "a name to use in `attach`", identifier("policy"), func(p *policy.Policy, v policy.Ref) { p.Name = v.Text }),
		on("shape", "the rate all its entries share, below what the link really carries; a percentage is of what it carries; {measured: FILE, part: 95%, direction: out} is of a measured line, and {rate:, burst:} has a burst", orMeasured(aShaping), func(p *policy.Policy, v shaping) {
			if p.Shape, p.Burst = v.rate, v.burst; len(v.Keys()) > 0 {
				p.Moved("shape", v.PlaceOf("rate"))
			}
		}),
		on("follows-after", "of a shape: how long after the link's rate has changed the shape changes in proportion. The link reports its rate to the device, as by ITU-T Y.1731 ETH-BN. Without this key the shape stays", aDuration, func(p *policy.Policy, v time.Duration) { p.Follows, p.FollowsAfter = true, v }),
		must("treat", "the list of entries, tried in order", list(anEntry), func(p *policy.Policy, v []policy.Entry) { p.Treat = v }),
	)

	anAttachment = object("attachment",
		must("policy", "the name of a policy", ref("the name of a policy"), func(a *attachLine, v policy.Ref) { a.policy = v }),
		must("at", "the interface and the direction, as `node/interface out` (away from the node) or `in` (towards it); a pattern such as `*/wan out`; or a list of them", oneOrMany(aPlace), func(a *attachLine, v []placeRef) { a.at = v }),
	)

	aFraming = either(listed(framingWords(), "", value("a framing such as ethernet, ethernet-vlan or aal5-pppoe-llc", ParseFraming)), ownFraming)

	ownFraming = as(object("framing of your own",
		must("bytes", "added to every packet", count("a number of bytes", 0, 1000), func(f *framing, v int) { f.Bytes = int32(v) }),
		on("minimum", "the least a packet takes, in bytes", count("a number of bytes", 0, 9000), func(f *framing, v int) { f.Minimum = int32(v) }),
		on("cell", "payload and whole of a cell, such as 48/53", value("payload and whole of a cell, such as 48/53", parseCells), func(f *framing, v [2]int) { f.Payload, f.Cell = int32(v[0]), int32(v[1]) }),
	), func(f framing) packet.Framing { f.Name = "own"; return f.Framing })

	aPart = value("a percentage such as 0.5%", func(s string) (float64, error) {
		p, err := unit.ParsePercent(s)
		return float64(p) / float64(unit.Whole), err
	})

	aLoss = either(
		as(aPart, func(v float64) policy.LinkLoss { return policy.LinkLoss{Part: v} }),
		object("loss",
			must("part", "of the packets, on average", aPart, func(l *policy.LinkLoss, v float64) { l.Part = v }),
			must("burst", "how many packets in a row get lost on average, 1 or more", value("a number such as 3", parseBurst), func(l *policy.LinkLoss, v float64) { l.Burst = v }),
		))

	aJitter = either(
		as(aDuration, func(v time.Duration) policy.LinkJitter { return policy.LinkJitter{Mean: v} }),
		object("jitter",
			must("mean", "its mean", aDuration, func(j *policy.LinkJitter, v time.Duration) { j.Mean = v }),
			on("kind", "even (from 0 to twice the mean, when not given), exponential or heavy-tailed", oneOf[policy.JitterKind](policy.JitterWords()), func(j *policy.LinkJitter, v policy.JitterKind) { j.Kind = v }),
			on("overtake", "true: packets may overtake others", flag, func(j *policy.LinkJitter, v bool) { j.Overtake = v }),
		))

	// A rate, or one that rises: {from:, to:, over:}.
	aRateRamp = either(
		as(aRate, func(v unit.Rate) rampLine { return rampLine{toRate: v} }),
		object("ramp",
			must("from", "the rate at the start", aRate, func(p *rampLine, v unit.Rate) { p.FromRate = v }),
			must("to", "the rate at the end", aRate, func(p *rampLine, v unit.Rate) { p.toRate = v }),
			must("over", "the time from one to the other", someTime, func(p *rampLine, v time.Duration) { p.Over = v }),
		))
	someCalls  = count("a number of calls", 1, 100_000)
	aCallsRamp = either(
		as(someCalls, func(v int) rampLine { return rampLine{toCalls: v} }),
		object("ramp of calls",
			must("from", "the calls at the start", count("a number of calls", 0, 100_000), func(p *rampLine, v int) { p.FromCalls = v }),
			must("to", "the calls at the end, more than at the start", someCalls, func(p *rampLine, v int) { p.toCalls = v }),
			must("over", "the time from one to the other", someTime, func(p *rampLine, v time.Duration) { p.Over = v }),
		))

	aPlayout = either(
		as(aDuration, func(v time.Duration) [2]time.Duration { return [2]time.Duration{v} }),
		object("playout buffer",
			must("min", "the least that it holds", aDuration, func(p *[2]time.Duration, v time.Duration) { p[0] = v }),
			must("max", "the most", someTime, func(p *[2]time.Duration, v time.Duration) { p[1] = v }),
		))

	aHalfDuplex = either(
		as(aRate, func(v unit.Rate) halfDuplex { return halfDuplex{rate: v} }),
		object("half-duplex",
			must("rate", "that both directions share", aRate, func(h *halfDuplex, v unit.Rate) { h.rate = v }),
			on("turn-around", "the time between two packets of different directions; none when not given", aDuration, func(h *halfDuplex, v time.Duration) { h.turn = v }),
		))

	aSiteLink = object("link of a site",
		must("to", "the node at the other end, which gets an interface with this node's name", ref("the name of a node"), func(l *siteLink, v policy.Ref) { l.to = v }),
		on("sends", "what the link really carries from here; the interface's rate when not given", aRate, func(l *siteLink, v unit.Rate) { l.sends = v }),
		on("receives", "what it really carries to here; the interface's rate when not given", aRate, func(l *siteLink, v unit.Rate) { l.receives = v }),
		on("delay", "the propagation delay one way", aDuration, func(l *siteLink, v time.Duration) { l.delay = v }),
		on("loss", "the part of the packets that gets lost on it, or {part:, burst:}", aLoss, func(l *siteLink, v policy.LinkLoss) { l.loss = v }),
		on("jitter", "a delay beyond that, of each packet anew: its mean, or {mean:, kind:, overtake:}", aJitter, func(l *siteLink, v policy.LinkJitter) { l.jitter = v }),
		on("contract", "what was bought for what is sent from here: {rate:, burst:, …} or a list of them; the carrier drops or marks what exceeds it", aContract, func(l *siteLink, v []policy.ContractLine) { l.contract = v }),
		on("contract-back", "the same for what comes to here", aContract, func(l *siteLink, v []policy.ContractLine) { l.delivers = v }),
		on("buffer", "how much the carrier's queues hold, 100ms when not given", someTime, func(l *siteLink, v time.Duration) { l.buffer = v }),
		on("framing", "how the carrier counts bytes, in both directions; as the interface when not given", aFraming, func(l *siteLink, v packet.Framing) { l.framing = &v }),
		on("mtu", "the `mtu` of both ends where they have none of their own", anMTU, func(l *siteLink, v int) { l.mtu = v }),
		on("cost", "of the routes over it; 1 when not given", count("a cost", 1, 65535), func(l *siteLink, v int) { l.cost = v }),
		on("half-duplex", "the rate that both directions share, in place of `sends` and `receives`", aHalfDuplex, func(l *siteLink, v halfDuplex) { l.halfDuplex = v }),
	)

	anInterface = object("interface",
		must("name", "its name at this node", identifier("interface"), func(i *interfaceLine, v policy.Ref) { i.Name = v.Text }),
		must("rate", "the rate it sends at", aRate, func(i *interfaceLine, v unit.Rate) { i.Rate = v }),
		on("framing", "what every rate on it counts; ethernet when not given", aFraming, func(i *interfaceLine, v packet.Framing) { i.Framing = v }),
		on("vlan", "it routes: the VLAN of the tag that what it sends has; without it, it switches and tags are kept", aVLAN, func(i *interfaceLine, v *uint16) { i.VLAN = v }),
		on("subnets", "the prefixes of the hosts at it", oneOrMany(aPrefix), func(i *interfaceLine, v []prefix) { i.Subnets = v }),
		on("address", "its own: the node sends and receives by it", oneOrMany(anAddress), func(i *interfaceLine, v []address) { i.Address = v }),
		on("nat", "addresses of hosts become its own `address` in what it sends: before-policy or after-policy says whether its policies see that", words(policy.NATWords()...), func(i *interfaceLine, v string) {
			i.NAT = policy.NAT(1 + slices.Index(policy.NATWords(), v))
		}),
		on("ring", "a FIFO of the hardware behind the queues of the policy: how many packets it holds; none when not given", count("a number of packets", 1, 65536), func(i *interfaceLine, v int) { i.Ring = v }),
		on("mtu", "the longest IP packet that it sends, with labels and outer headers: 1500B when neither it nor its link says", anMTU, func(i *interfaceLine, v int) { i.MTU = v }),
		on("link", "the link to another node, in place of an entry in `links`", aSiteLink, func(i *interfaceLine, v siteLink) { i.link = &v }),
	)

	aNode = object("node",
		must("name", "its name", identifier("node"), func(n *nodeLines, v policy.Ref) { n.Name = v.Text }),
		must("interfaces", "the list of its interfaces", list(anInterface), func(n *nodeLines, v []interfaceLine) { n.interfaces = v }),
		on("icmp", "filtered: it sends and passes no word that a packet is too large; such words pass when not given", words("filtered"), func(n *nodeLines, v string) { n.Filters = true }),
	)

	aLinkEnd = object("end of a link",
		must("at", "the interface, as node/interface", anInterfaceName, func(e *policy.LinkEnd, v policy.Ref) { e.AtName = v }),
		on("sends", "what the link really carries from here; the interface's rate when not given", aRate, func(e *policy.LinkEnd, v unit.Rate) { e.Sends = v }),
		on("contract", "what was bought for what is sent from here: {rate:, burst:, …} or a list of them; the carrier drops or marks what exceeds it", aContract, func(e *policy.LinkEnd, v []policy.ContractLine) { e.Contract = v }),
		on("buffer", "how much the carrier's queue holds, 100ms when not given", someTime, func(e *policy.LinkEnd, v time.Duration) { e.Buffer = v }),
		on("framing", "how the carrier counts bytes; as the interface when not given", aFraming, func(e *policy.LinkEnd, v packet.Framing) { e.Framing = &v }),
	)

	aLink = as(object("link",
		must("ends", "a list of its two ends", list(aLinkEnd), func(l *policy.Link, v []policy.LinkEnd) { l.Ends = v }),
		on("delay", "the propagation delay one way", aDuration, func(l *policy.Link, v time.Duration) { l.Delay = v }),
		on("loss", "the part of the packets that gets lost on it, in each direction, or {part:, burst:}", aLoss, func(l *policy.Link, v policy.LinkLoss) { l.Loss = v }),
		on("jitter", "a delay beyond that, of each packet anew: its mean, or {mean:, kind:, overtake:}", aJitter, func(l *policy.Link, v policy.LinkJitter) { l.Jitter = v }),
		on("mtu", "the `mtu` of both ends where they have none of their own", anMTU, func(l *policy.Link, v int) { l.MTU = v }),
		on("cost", "of the routes over it; 1 when not given", count("a cost", 1, 65535), func(l *policy.Link, v int) { l.Cost = v }),
		on("half-duplex", "the rate that both directions share, in place of the `sends` of the ends", aHalfDuplex, func(l *policy.Link, v halfDuplex) {
			l.HalfDuplex, l.TurnAround = v.rate, v.turn
		}),
	), func(l policy.Link) *policy.Link { return &l })

	aBundle = object("bundle",
		must("name", "its name", identifier("bundle"), func(b *policy.Bundle, v policy.Ref) { b.Name = v.Text }),
		must("members", "the interfaces at one end of its links, as node/interface; all of one node, towards one other", list(anInterfaceName), func(b *policy.Bundle, v []policy.Ref) { b.MemberNames = v }),
		on("hash", "by what a flow goes to a member: flow (addresses, protocol and ports, when not given) or pair (addresses alone)", words("flow", "pair"), func(b *policy.Bundle, v string) { b.ByPair = v == "pair" }),
	)

	aTunnel = object("tunnel",
		must("name", "its name", identifier("tunnel"), func(t *policy.Tunnel, v policy.Ref) { t.Name = v.Text }),
		must("kind", "mpls (one way), gre or ipsec (both ways)", oneOf[policy.TunnelKind](policy.TunnelKindWords()), func(t *policy.Tunnel, v policy.TunnelKind) { t.Kind = v }),
		must("through", "the nodes from its start to its end, each linked to the next", list(ref("the name of a node")), func(t *policy.Tunnel, v []policy.Ref) { t.ThroughName = v }),
		on("labels", "of mpls: how many are pushed, 1 when not given", count("a number of labels", 1, 8), func(t *policy.Tunnel, v int) { t.Labels = v }),
		on("model", "uniform, pipe (when not given) or short-pipe: what of the outer marking the packet keeps (RFC 3270 §2.6, RFC 2983)", oneOf[policy.TunnelModel](policy.TunnelModelWords()), func(t *policy.Tunnel, v policy.TunnelModel) { t.Model = v }),
		on("pop", "of mpls: penultimate (when not given) or ultimate: which node takes the topmost label off", oneOf[policy.Pop](policy.PopWords()), func(t *policy.Tunnel, v policy.Pop) { t.Pop = v }),
		on("from", "of gre and ipsec: the outer header's address at the start", anAddress, func(t *policy.Tunnel, v address) { t.From = v }),
		on("to", "of gre and ipsec: the outer header's address at the end", anAddress, func(t *policy.Tunnel, v address) { t.To = v }),
		on("df", "of gre and ipsec: keep (when not given), or clear: its outer packets may be fragmented, whatever those within say", words("keep", "clear"), func(t *policy.Tunnel, v string) { t.ClearDF = v == "clear" }),
		on("replay-window", "of ipsec: its end drops a packet that comes after one of a sequence number so much greater (RFC 4303 §3.4.3), 64 when not given; 0 is none", value("a number of packets from 0 to 65536", parseWindow), func(t *policy.Tunnel, v int) { t.Window = v }),
		on("sa-per", "of ipsec: class: each class of the policy where packets enter has a security association, and so sequence numbers, of its own (RFC 4301 §4.1)", words("class"), func(t *policy.Tunnel, v string) { t.SAPerClass = true }),
		on("mss", "the most data of a TCP segment that connections through it agree on", bytesBetween("a segment size", 64, 65495), func(t *policy.Tunnel, v int) { t.MSS = v }),
	)

	aNetwork = object("network",
		must("nodes", "the list of nodes", list(aNode), func(n *networkLines, v []nodeLines) { n.nodes = v }),
		on("links", "the list of links", list(aLink), func(n *networkLines, v []*policy.Link) { n.links = v }),
		on("bundles", "links that are one to the routes, their flows spread by a hash", list(aBundle), func(n *networkLines, v []policy.Bundle) { n.bundles = v }),
		on("tunnels", "the list of tunnels", list(aTunnel), func(n *networkLines, v []policy.Tunnel) { n.tunnels = v }),
	)

	aDevice = object("device",
		must("address", "where it is managed: a host, or HOST:PORT; the port is 830 when not given", value("a host such as 192.0.2.17, or HOST:PORT", hostPort(policy.DevicePort)), func(d *policy.Device, v string) { d.Address = v }),
		on("answers", "where `imbrel answer` listens at the node, for `deliver --verify NAME --calls`: a host, or HOST:PORT; the port is 862 when not given", value("a host such as 192.0.2.17, or HOST:PORT", hostPort(policy.AnswerPort)), func(d *policy.Device, v string) { d.Answers = v }),
		on("user", "as whom; the flag --user when not given", aText, func(d *policy.Device, v string) { d.User = v }),
		on("key", "the file of the private key, relative to this file; the flag --key when not given", aText, func(d *policy.Device, v string) { d.Key = v }),
		on("profile", "what the device cannot do, for `rehearse --as-delivered`: a profile of the program, or a file relative to this one", aText, func(d *policy.Device, v string) { d.Profile = v }),
		on("host-key", "the fingerprint of the device's own key; when not given, the key it had first", value("a fingerprint such as SHA256:…", parseFingerprint), func(d *policy.Device, v string) { d.HostKey = v }),
	)

	aTraffic = object("traffic",
		on("name", "its name in results", identifier("traffic"), func(t *trafficLine, v policy.Ref) { t.Name = v.Text }),
		on("load", "in place of all else: the name of traffic in `loads`", ref("the name of a load"), func(t *trafficLine, v policy.Ref) { t.load = v }),
		on("calls", "a number of calls, or one that rises: {from:, to:, over:}", aCallsRamp, func(t *trafficLine, v rampLine) { t.Calls, t.Ramp = v.toCalls, v.ramp() }),
		on("erlangs", "in place of `calls`: how many there are on average, which come and go at random", value("a number of calls such as 8", parseErlangs), func(t *trafficLine, v float64) {
			t.Erlangs, t.Calls = v, max(1, int(v+0.5))
		}),
		on("holding", "how long such a call lasts on average", someTime, func(t *trafficLine, v time.Duration) { t.Holding = v }),
		on("speech", "the part of the time in which each end talks; silence is not sent", aPart, func(t *trafficLine, v float64) { t.Speech = v }),
		on("rtcp", "true: with the control packets of RTP (RFC 3550 §6), on the next higher ports", flag, func(t *trafficLine, v bool) { t.RTCP = v }),
		on("codec", "of the calls", words(codec.Names()...), func(t *trafficLine, v string) { t.codec = v }),
		on("interval", "between the packets of a call; the codec's usual one when not given", someTime, func(t *trafficLine, v time.Duration) { t.interval = v }),
		on("bitrate", "of a codec whose bit rate can be chosen (opus)", aRate, func(t *trafficLine, v unit.Rate) { t.bitRate = v }),
		on("between", "the two addresses of the calls; of hellos, two interfaces with an `address`, or two such addresses", list(ref("an address such as 10.44.8.20, or an interface as node/interface")), func(t *trafficLine, v []policy.Ref) { t.between = v }),
		on("hellos", "hellos of two neighbours, both ways: the time between those of one", someTime, func(t *trafficLine, v time.Duration) { t.Every = v }),
		on("dead", "how long a neighbour waits for a hello before it gives the other up", someTime, func(t *trafficLine, v time.Duration) { t.Dead = v }),
		on("playout", "the listener's playout buffer, 40ms when not given; {min:, max:} adapts to the delays", aPlayout, func(t *trafficLine, v [2]time.Duration) { t.Playout, t.PlayoutMost = v[0], v[1] }),
		on("fec", "true: of opus, each packet has a copy of the one before, in less quality; Bpl is 20 in place of 10", flag, func(t *trafficLine, v bool) { t.fec = v }),
		on("admit", "how many of the calls are held at once at most: others are refused", someCalls, func(t *trafficLine, v int) { t.Admit = v }),
		on("rate", "of a stream, in IP bytes, or one that rises or falls: {from:, to:, over:}", aRateRamp, func(t *trafficLine, v rampLine) { t.Rate, t.Ramp = v.toRate, v.ramp() }),
		on("packet", "the length of its IP packets; of a video, the longest, 1200B when not given", aSize, func(t *trafficLine, v unit.Size) { t.Packet = v }),
		on("arrivals", "constant (evenly spaced by the sender's own clock, when not given), exact (by an exact clock), poisson, or on-off: in bursts", oneOf[policy.Arrivals](policy.ArrivalsWords()), func(t *trafficLine, v policy.Arrivals) { t.Arrivals = v }),
		on("skew", "by how many parts in a million a sender's clock is off at most, 50ppm when not given; 0: it is exact, and no packet is late", value("parts in a million such as 20ppm, or 0", parseSkew), func(t *trafficLine, v int) { t.Skew = v }),
		on("phase", "of calls, streams, video and hellos: how long after `starts` every sender sends its first packet, by an exact clock; at moments drawn from the seed when not given", aDuration, func(t *trafficLine, v time.Duration) { t.Phase = &v }),
		on("on", "of on-off: how long a burst lasts on average", someTime, func(t *trafficLine, v time.Duration) { t.On = v }),
		on("off", "of on-off: how long a pause lasts on average", someTime, func(t *trafficLine, v time.Duration) { t.Off = v }),
		on("lengths", "constant, or exponential: `packet` is then their mean", words("constant", "exponential"), func(t *trafficLine, v string) { t.Varied = v == "exponential" }),
		on("video", "the mean rate of a video, in IP bytes", aRate, func(t *trafficLine, v unit.Rate) { t.Rate = v }),
		on("frames", "of a video, a second; 25 when not given", count("a number of frames a second", 1, 240), func(t *trafficLine, v int) { t.Frames = v }),
		on("key-frames", "of a video, from one to the next; there are none when not given", someTime, func(t *trafficLine, v time.Duration) { t.KeyFrames = v }),
		on("tcp", "a number of TCP flows", count("a number of flows", 1, 100_000), func(t *trafficLine, v int) { t.Flows = v }),
		on("bytes", "that each flow carries before it closes; without it, it goes on to the end", aSize, func(t *trafficLine, v unit.Size) { t.Bytes = v }),
		on("app-rate", "at which the application writes; as fast as TCP takes it when not given", aRate, func(t *trafficLine, v unit.Rate) { t.AppRate = v }),
		on("requests", "a number of clients that send a request, wait for the answer, and think", count("a number of clients", 1, 100_000), func(t *trafficLine, v int) { t.Flows = v }),
		on("pages", "a number of clients that fetch a page of several objects, and think", count("a number of clients", 1, 100_000), func(t *trafficLine, v int) { t.Flows = v }),
		on("request", "the length of a request, 400B when not given", aSize, func(t *trafficLine, v unit.Size) { t.Request = v }),
		on("answer", "the length of the answer to a request", aSize, func(t *trafficLine, v unit.Size) { t.Bytes = v }),
		on("think", "the mean time between an answer, or a page, and the next request", aDuration, func(t *trafficLine, v time.Duration) { t.Think = v }),
		on("objects", "of a page", count("a number of objects", 1, 10_000), func(t *trafficLine, v int) { t.Objects = v }),
		on("object", "the mean length of an object; a few are much longer", aSize, func(t *trafficLine, v unit.Size) { t.Bytes = v }),
		on("connections", "over which a page is fetched at a time, 6 when not given", count("a number of connections", 1, 100), func(t *trafficLine, v int) { t.Connections = v }),
		on("control", "the congestion control of the flows: cubic when not given, or newreno", words("cubic", "newreno"), func(t *trafficLine, v string) { t.NewReno = v == "newreno" }),
		on("paced", "true: the segments of a flow are spread over its round trip", flag, func(t *trafficLine, v bool) { t.Paced = v }),
		on("delayed-acks", "false: every segment is acknowledged at once, not every other", flag, func(t *trafficLine, v bool) { t.EveryACK = !v }),
		on("receive-window", "how much the receiver of a flow can hold, 4MiB when not given", aSize, func(t *trafficLine, v unit.Size) { t.ReceiveWindow = v }),
		on("initial-window", "the segments that a flow begins with, 10 when not given", count("a number of segments", 1, 1000), func(t *trafficLine, v int) { t.InitialWindow = v }),
		on("survey", "in place of all else: a saved survey, relative to this file, whose traffic of one minute is sent", aText, func(t *trafficLine, v string) { t.survey = v }),
		on("minute", "of a survey: busiest when not given, or a time such as 2026-03-02T08:30, in UTC", aText, func(*trafficLine, string) {}),
		on("app", "the application that it is of: it gives the port, and the server name, that are not given", ref("the name of an application"), func(t *trafficLine, v policy.Ref) { t.app = v }),
		on("server-name", "of TCP: what each connection's client asks for in its first bytes, by a TLS hello, or by an HTTP request to port 80 or 8080", value("a server name such as www.weather.example", parseServerName), func(t *trafficLine, v string) { t.ServerName = v }),
		on("from", "the sender", anAddress, func(t *trafficLine, v address) { t.From = v }),
		on("to", "the receiver", anAddress, func(t *trafficLine, v address) { t.To = v }),
		on("protocol", "udp when not given", aProtocol, func(t *trafficLine, v uint8) { t.Protocol = v }),
		on("from-port", "the sender's port; of calls, the first call's at the first address", aPort, func(t *trafficLine, v uint16) { t.FromPort = v }),
		on("to-port", "the receiver's port; of calls, the first call's at the second address", aPort, func(t *trafficLine, v uint16) { t.ToPort = v }),
		on("vlan", "the VLAN of the tag that its hosts send with", aVLAN, func(t *trafficLine, v *uint16) { t.VLAN = v }),
		on("pcp", "the priority code point of that tag", aThreeBits("a priority code point"), func(t *trafficLine, v uint8) { t.PCP = &v }),
		on("ecn", "true: its packets say that their transport understands congestion marks (ECT(0), RFC 3168)", flag, func(t *trafficLine, v bool) { t.ECN = v }),
		on("df", "false: its packets of IPv4 may be fragmented on their way; with true, or when not given, their DF bit is set", flag, func(t *trafficLine, v bool) { t.MayFragment = !v }),
		on("capture", "a pcap or pcapng file to replay, relative to this file", aText, func(t *trafficLine, v string) { t.Capture = v }),
		on("enters", "the interface where the capture's packets arrive, as node/interface", anInterfaceName, func(t *trafficLine, v policy.Ref) { t.EntersName = v }),
		on("speed", "at which a capture is replayed, against its own; 100% when not given", value("a percentage such as 200%", parseSpeed), func(t *trafficLine, v float64) { t.Speed = v }),
		on("loop", "true: the capture begins again when it ends", flag, func(t *trafficLine, v bool) { t.Loop = v }),
		on("dscp", "the marking its packets arrive with; none when not given", aDSCP, func(t *trafficLine, v codepoint.DSCP) { t.DSCP = v }),
		on("starts", "when, from the start of the rehearsal", aDuration, func(t *trafficLine, v time.Duration) { t.Starts = v }),
		on("lasts", "for how long; to the end when not given", someTime, func(t *trafficLine, v time.Duration) { t.Lasts = v }),
	)

	anExpectation = shape[policy.Expectation]{say: policy.ExpectationForm, schema: func(definitions) schema {
		return schema{"title": policy.ExpectationForm, "anyOf": []schema{{"type": "string", "pattern": `^\S.* (` + strings.Join(policy.MetricWords(), "|") + `) .*\S$`}, {"type": "object"}}}
	}, read: func(r *reader, n Value) (policy.Expectation, bool) {
		if n.Kind == Keyed && len(n.Keys) == 1 && n.Items[0].Kind == Scalar { // YAML makes a map of `sales : guests …`
			n.Kind, n.Text = Scalar, n.Keys[0].Text+" : "+n.Items[0].Text
		}
		e, ok := value(policy.ExpectationForm, policy.ParseExpectation).read(r, n)
		e.At = n.At
		return e, ok
	}}

	aLoad = shape[loadLines]{say: list(aTraffic).say, schema: func(d definitions) schema { return list(aTraffic).schema(d) }, read: func(r *reader, n Value) (loadLines, bool) {
		traffic, ok := list(aTraffic).read(r, n)
		return loadLines{Source: policy.Source{At: n.At}, traffic: traffic}, ok
	}}

	anEvent = object("event",
		must("at", "when, from the start of the rehearsal", aDuration, func(e *policy.Event, v time.Duration) { e.At = v }),
		on("link", "the link to which it happens, by the interface at one of its ends, as node/interface", anInterfaceName, func(e *policy.Event, v policy.Ref) { e.LinkName = v }),
		on("policy", "in place of `link`: the policy that is in force from then on at `place`", ref("the name of a policy"), func(e *policy.Event, v policy.Ref) { e.PolicyName = v }),
		on("place", "of `policy`: the interface and the direction, as `node/interface out`", aPlace, func(e *policy.Event, v placeRef) { e.PlaceName, e.Direction = v.Ref, v.direction }),
		on("name", "its name in results and expectations; when not given, the link and what happens, such as ternrock/radio 6Mbit/s", aText, func(e *policy.Event, v string) { e.Name = v }),
		on("sends", "what the link carries away from that end from then on", aRate, func(e *policy.Event, v unit.Rate) { e.Sends = &v }),
		on("receives", "what it carries to that end", aRate, func(e *policy.Event, v unit.Rate) { e.Receives = &v }),
		on("loss", "the part of the packets that it loses, in each direction, or {part:, burst:}", aLoss, func(e *policy.Event, v policy.LinkLoss) { e.Loss = &v }),
		on("delay", "its propagation delay one way", aDuration, func(e *policy.Event, v time.Duration) { e.Delay = &v }),
		on("down", "for how long it carries nothing", someTime, func(e *policy.Event, v time.Duration) { e.Down, e.Lasts = true, v }),
		on("detected", "of `down`: how long after the link fails, or is there again, the routes follow: a multiplier × an interval (RFC 5880); they never do when not given", aDuration, func(e *policy.Event, v time.Duration) { e.Detected = max(v, 1) }),
		on("lasts", "how long until the link is as before; to the end when not given", someTime, func(e *policy.Event, v time.Duration) { e.Lasts = v }),
		on("over", "how long the change takes, evenly; it is sudden when not given", someTime, func(e *policy.Event, v time.Duration) { e.Over = v }),
	)

	aRehearsal = object("rehearsal",
		must("name", "its name, for the command line", identifier("rehearsal"), func(h *rehearsalLines, v policy.Ref) { h.Name = v.Text }),
		must("lasts", "how long the traffic runs", someTime, func(h *rehearsalLines, v time.Duration) { h.Lasts = v }),
		on("warm-up", "from the start, in which nothing is measured", someTime, func(h *rehearsalLines, v time.Duration) { h.WarmUp = v }),
		on("starts-at", "the date and time it plays at, such as 2026-03-02T08:30, in UTC", aMoment, func(h *rehearsalLines, v time.Time) { h.StartAt = v }),
		must("traffic", "the list of traffic", list(aTraffic), func(h *rehearsalLines, v []trafficLine) { h.traffic = v }),
		on("events", "the list of what happens to links meanwhile", list(anEvent), func(h *rehearsalLines, v []policy.Event) { h.Events = v }),
		on("expect", "the list of expectations", list(anExpectation), func(h *rehearsalLines, v []policy.Expectation) { h.Expect = v }),
	)

	aFile = object("policy file",
		must("imbrel", "the version of the language: `imbrel: 1` is the first line", count("the version of the language", 1, 1), func(f *document, v int) { f.Version = v }),
		on("title", "for people", aText, func(f *document, v string) { f.Title = v }),
		on("include", "other policy files, relative to this one, whose parts are read as if they were written here", list(aText), func(*document, []string) {}),
		on("groups", "named address sets", named("group", aGroup, func(g *policy.Group, id policy.Ref) { g.Name, g.At = id.Text, id.At }), func(f *document, v []policy.Group) { f.Groups = v }),
		on("apps", "what applications look like on the wire", named("application", anApp, func(a *policy.App, id policy.Ref) { a.Name, a.At = id.Text, id.At }), func(f *document, v []policy.App) { f.Apps = v }),
		on("maps", "maps of DSCPs for marking anew", named("map", aMap, func(m *policy.MarkTable, id policy.Ref) { m.Name, m.At = id.Text, id.At }), func(f *document, v []policy.MarkTable) { f.Maps = v }),
		on("times", "named times, to use in `when`", named("time", aSpan, func(s *namedTime, id policy.Ref) { s.Name, s.At = id.Text, id.At }), func(f *document, v []namedTime) { f.times = v }),
		on("classes", "the list of classes", list(aClass), func(f *document, v []policy.Class) { f.Classes = v }),
		on("policies", "the list of policies", list(aPolicy), func(f *document, v []policy.Policy) { f.Policies = v }),
		on("attach", "where each policy is in force", list(anAttachment), func(f *document, v []attachLine) { f.attach = v }),
		on("network", "nodes and links", aNetwork, func(f *document, v networkLines) { f.network = v }),
		on("devices", "the nodes that `deliver` brings this file to, each with where it is managed", named("node", aDevice, func(d *policy.Device, id policy.Ref) { d.Name, d.At = id.Text, id.At }), func(f *document, v []policy.Device) { f.Devices = v }),
		on("loads", "named traffic, for several rehearsals", named("load", aLoad, func(l *loadLines, id policy.Ref) { l.name, l.At = id.Text, id.At }), func(f *document, v []loadLines) { f.loads = v }),
		on("rehearsals", "the list of rehearsals", list(aRehearsal), func(f *document, v []rehearsalLines) { f.rehearsals = v }),
	)
)

// ramp returns the ramp that was written, or nil.
func (p *rampLine) ramp() *policy.Ramp {
	if p.Over == 0 {
		return nil
	}
	r := p.Ramp
	return &r
}

// blocking is a `block`: always, or sometimes.
type blocking struct {
	policy.Source
	on   bool
	when *policy.When
}

// A framing is one of the writer's own.
type framing struct {
	policy.Source
	packet.Framing
}

// conditionShape describes a condition from the table of keys.
func conditionShape() shape[policy.Condition] {
	var keys []key[policy.Condition]
	for _, k := range policy.Keys() {
		row := k.Row()
		add := func(c *policy.Condition, t policy.Term) {
			t.Key = k
			c.Terms = append(c.Terms, t)
		}
		switch row.Kind {
		case policy.AddressSets:
			keys = append(keys, on(row.Name, row.Doc, addresses, func(c *policy.Condition, v *policy.Addresses) { add(c, policy.Term{Addresses: v}) }))
		case policy.AppNames, policy.InterfaceNames:
			keys = append(keys, on(row.Name, row.Doc, oneOrMany(ref(row.Value)), func(c *policy.Condition, v []policy.Ref) { add(c, policy.Term{Given: v}) }))
		default:
			keys = append(keys, on(row.Name, row.Doc, oneOrMany(value(row.Value, row.Parse)), func(c *policy.Condition, v []policy.Range) { add(c, policy.Term{Ranges: v}) }))
		}
	}
	return object("condition", keys...)
}

// entryShape describes an entry, which may contain entries.
func entryShape() shape[policy.Entry] {
	var self shape[policy.Entry]
	nested := shape[[]policy.Entry]{
		say:    "a list of entries within this one",
		schema: func(d definitions) schema { return schema{"type": "array", "items": self.schema(d)} },
		read:   func(r *reader, n Value) ([]policy.Entry, bool) { return list(self).read(r, n) },
	}
	type entry = policy.Entry
	self = object("entry",
		must("class", "the class it treats, or `rest`", ref("the name of a class, or `rest`"), func(e *entry, v policy.Ref) { e.ClassName = v }),
		on("mark", "the DSCP that its packets leave with, or {dscp:, map:, pcp:, tc:}", aMark, func(e *entry, v *policy.Mark) { e.Mark = v }),
		on("priority", "strict priority; 1 is the most urgent", count("a priority", 1, policy.MaxPriority), func(e *entry, v int) { e.Priority = v }),
		withReader("police", "a meter; what exceeds it is dropped, or marked", aPolice, func(r *reader, e *entry, v *policeLine) { e.Police = r.police(v) }),
		on("at-least", "what it is promised when everybody wants everything", aPromise, func(e *entry, v unit.Share) { e.AtLeast = v }),
		on("at-most", "an upper limit: packets wait rather than exceed it", aCeiling, func(e *entry, v *policy.Ceiling) { e.AtMost = v }),
		on("weight", "its part of what is left over, against its siblings'", count("a weight", 1, 1_000_000), func(e *entry, v int) { e.Weight = v }),
		on("queue", "how much may wait, and what is dropped", aQueue, func(e *entry, v policy.Queue) { e.Queue = v }),
		on("each", "a separate policer, limits and queue for every source, destination, flow, vlan or interface", oneOrMany(words(policy.EachWords()...)), func(e *entry, v []string) {
			for _, w := range v {
				for i, word := range policy.EachWords() {
					if w == word {
						e.Each |= 1 << i
					}
				}
			}
		}),
		on("when", "a named time, or {starts:, ends:}: while it does not hold, the entry is skipped", aWhen, func(e *entry, v *policy.When) { e.When = v }),
		on("block", "true: all its packets are dropped; {when:}: only sometimes", aBlock, func(e *entry, v blocking) { e.Block, e.BlockWhen = v.on, v.when }),
		on("treat", "entries within this one", nested, func(e *entry, v []entry) { e.Treat = v }),
		on("inside", "the policy whose entries are within this one", ref("the name of a policy"), func(e *entry, v policy.Ref) { e.Inside = v }),
	)
	return self
}

// readMap reads a map of DSCPs.
func readMap(r *reader, n Value) (policy.MarkTable, bool) {
	m := policy.MarkTable{Source: policy.Source{At: n.At}}
	for d := range m.To {
		m.To[d] = codepoint.DSCP(d)
	}
	if n.Kind != Keyed {
		r.expected(n, "DSCPs, each followed by another, as in {af41: af42, cs3: le}")
		return m, false
	}
	seen := make(map[codepoint.DSCP]bool)
	for i := range n.Keys {
		from, ok1 := aDSCP.read(r, n.Keys[i])
		to, ok2 := aDSCP.read(r, n.Items[i])
		if !ok1 || !ok2 {
			continue
		}
		if seen[from] {
			r.problem(n.Keys[i].At, len(n.Keys[i].Text), "keep one", "%s is mapped twice", from.Name())
		}
		seen[from], m.To[from] = true, to
	}
	return m, true
}

// Schema returns the JSON Schema of the language, from the very description
// that the reader follows.
func Schema() map[string]any {
	d := make(definitions)
	root := aFile.schema(d)
	return schema{
		"$schema": "https://json-schema.org/draft/2020-12/schema", "title": "Imbrel policy file, version 1",
		"$id": "https://imbrel.example/policy-1.schema.json", "$ref": root["$ref"], "$defs": d,
		"examples": []any{schema{"imbrel": 1,
			"classes":  []any{schema{"name": "voice", "match": []any{schema{"to-port": "16384-32767", "protocol": "udp"}}}},
			"policies": []any{schema{"name": "wan", "shape": "95%", "treat": []any{schema{"class": "voice", "mark": "ef", "priority": 1, "police": schema{"calls": 6, "codec": "g711"}}, schema{"class": "rest", "at-least": "20%"}}}},
		}},
	}
}
