package words

// The findings of a check: what is wrong, what follows from it, and the way out.
var (
	BoundBelowCall = finding("`{entry}` is limited to {ceiling}, which is less than one call takes",
		"a call of {codec} takes {per-call} there: one call alone loses {lost} of its packets",
		"give it {needed}, which the {calls} calls of `{rehearsal}` take")
	BoundBelowCalls = finding("the {calls} calls of `{rehearsal}` take {needed}, but `{entry}` is limited to {ceiling}",
		"when all talk, {lost} of their packets are lost; for half a minute at a time one call can lose half of its packets; there is room for {fit|call}",
		"give it {needed}, as `police: {{calls: {calls}, codec: {codec}}` does, or plan for {fit|call}")
	BurstBelowInterval = finding("the burst of {burst} holds {held|packet} of `{entry}`, but its {calls} calls can each send one at the same moment",
		"up to {lost} of {calls} packets of an interval are lost, although the rate suffices",
		"give the burst {enough}")
	BurstBelowPacket = finding("the packets of `{traffic}` take {packet}, but the burst of `{entry}` is only {burst}",
		"all are dropped, however slowly they come",
		"raise the burst to at least {packet}; twice as much passes two packets that come together")
	ConditionNeverHolds = finding("a condition of `{class}` asks for {what}",
		"it never holds",
		"write them as two conditions if either is meant, or mend one of them")
	AllExcepted = finding("the `except` of `{class}` covers everything that the class takes",
		"the class takes no packet",
		"narrow the `except`, or remove the class")
	EachOneServer = finding("`{entry}` has a limit for each {each}, but all its packets in `{rehearsal}` {come-from} {host}",
		"the {hosts} hosts at the other end share one limit",
		"write `each: {other}`")
	ExemptOneWay = finding("`{traffic}` is excluded from `{class}`, but `{reverse}` is included",
		"the same conversation is in the class on its way back",
		"write the exception for both directions")
	LimitBelowExpected = finding("`{entry}` is limited to {ceiling}, but {expected} is expected",
		"the expectation cannot hold",
		"raise its limit, or expect less")
	BlockedExpected = finding("`{entry}` is blocked, but {expected} is expected",
		"the expectation cannot hold",
		"let it pass, or expect what a blocked class has: `loss = 100%`")
	LossAboveExpected = finding("`{entry}` is limited to {ceiling} and offered {offered}, but {expected} is expected",
		"at least {lost} is lost",
		"raise its limit to {offered}, or expect less")
	ExpectationEstimated = finding("by a fluid estimate, {estimate}, but {expected} is expected",
		"the rehearsal will probably fail",
		"rehearse it: imbrel rehearse FILE {rehearsal} --suggest")
	ArrivesMarkedOtherwise = finding("the packets of `{traffic}` are in `{class}` and arrive as {dscp}",
		"{expected} cannot hold",
		"{where-marked}")
	LeavesMarkedOtherwise = finding("the packets of `{traffic}` are in `{class}` and leave {path} as {dscp}",
		"{expected} cannot hold",
		"{where-marked}")
	ExpectationExceedable = finding("a packet of {traffic} can take {max}, but {expected} is expected",
		"a rehearsal can pass, and another one with other moments at which the senders begin can fail",
		"see what the bound consists of (imbrel bound FILE --hops), and lower it, or expect more")
	MOSUnreachable = finding("{best}, but {expected} is expected",
		"the expectation cannot hold",
		"expect less, choose another codec, or correct the delay of a link")
	DelayUnreachable = finding("the links on the way of `{traffic}` take {delay} alone, but {expected} is expected",
		"the expectation cannot hold",
		"expect a longer delay, or correct the delay of a link")
	TripUnreachable = finding("the links on the way of `{traffic}` take {delay} there and back, but {expected} is expected",
		"the expectation cannot hold",
		"expect a longer time, or correct the delay of a link")
	GoodputUnreachable = finding("the link of {interface} carries {rate}, of which the data of TCP are {goodput} at most, but {expected} is expected",
		"the expectation cannot hold",
		"expect less, or correct the rate of the link")
	ExpectationUntested = finding("no traffic of `{rehearsal}` is in `{subject}`",
		"there is nothing to judge",
		"add such traffic, or correct the class: imbrel explain … --why says why a packet is not in it")
	FramingForgotten = finding("the shape counts bytes as `{own}`, but the link counts them as `{link}`",
		"{shape} of call packets take {takes} on a link of {carries}, of full packets {full-packets}",
		"give the interface `framing: {link}`")
	InNeverQueues = finding("nothing ever waits in `{policy}`",
		"its priorities, shares and queues do nothing: what comes in has already waited, before the link",
		"give the policy a `shape` below what the link delivers, or attach it outgoing at the far end")
	MarkUnserved = finding("`{traffic}` is marked {dscp} at {where}, but here it falls into the rest, which {effect}",
		"where the link is full, it waits with all other traffic of the rest",
		"add an entry for a class with `match: [{{{asks}}]`")
	ReachUnknown = finding("it is unknown whether each entry of `{policy}` is ever reached",
		"it has more than {max-entries} entries, or its conditions divide packets into more than {max-pieces} pieces: too many to check exactly",
		"see where a packet goes: imbrel explain FILE")
	AroundTakesNone = finding("`{entry}` never takes a packet: the entry around it, `{parent}`, takes none of the class",
		"{lost}",
		"let `{class-name}` take them, or move the entry")
	TakenBefore = finding("`{entry}` never takes a packet: the entries before it take them all first",
		"{lost}",
		"put it before them, or narrow the entries before it")
	TakenBy = finding("`{entry}` never takes a packet: {takers} {take} them all first",
		"{lost}",
		"put it before line {at!}, or narrow the entries before it")
	NoRest = finding("`rest` is promised {promise} of {whole}",
		"when the other classes are busy, routing, management and all traffic without a class get nothing",
		"promise less to the others, or give `rest` an `at-least` of some per cent; `at-least: 0%` says that it is meant")
	OneEnd = finding("only this end of the link has a policy that divides it",
		"what {path} sends waits in the carrier's queue of {carries}, calls behind downloads",
		"attach a policy with a `shape` below {carries} at {path} out")
	OpenTrust = finding("`{class}` trusts the marking of every host",
		"any host that sets this marking gets the treatment of the class, up to its limit",
		"add `from` with the addresses that may send it, or match the application")
	ValueShadowed = finding("{what} of `{entry}` never reaches its entry in line {at!}: {takers} {take} such packets first",
		"{example}",
		"put it before them, or remove it")
	PartlyShadowed = finding("of the condition `{condition}` of `{entry}`, {left} reaches its entry in line {at!}: {takers} {take} the rest first",
		"{example}",
		"put the specific entry before the general one, or leave it if this is meant")
	PolicyUnattached = finding("the policy `{policy}` is attached nowhere",
		"it does nothing",
		"add a line under `attach`, or remove it")
	PressureNeverComes = finding("the limit of `{entry}` starts at a load of {load}, but there is only {whole}",
		"it never starts",
		"let it start at a load that can be reached")
	PressureFlaps = finding("in `{rehearsal}` the load is {free} without the limit of `{entry}` and {limited} with it; the limit ends below {ends}",
		"it starts and ends again about every {period!}",
		"let it end below {limited}")
	PromiseInsidePolicer = finding("the policer of `{entry}` drops before its entries count",
		"{asks} can count on nothing: a flood in another entry of `{entry}` takes their part of the {rate!}",
		"write `at-most: {rate!}` in place of `police`")
	QueueTooDeep = finding("a full queue of `{entry}` holds a packet for {wait}, and {expected} is expected",
		"it is offered more than it is promised, so its packets come late before any is dropped",
		"give its `queue` a `limit` below {limit}")
	QueueTooShallow = finding("the queue of `{entry}` holds {holds}, but {on-the-way} are in flight at {promise} over a round trip of {round-trip}",
		"a TCP flow of `{traffic}` keeps about {keeps} of that rate",
		"give it a `limit` of {on-the-way}")
	ServerNameAlone = finding("`{server-name}` of `{app}` matches only that name",
		"www.{server-name} does not match",
		`write [{server-name}, "*.{server-name}"] if the names below it are meant, too`)
	ShapeAboveFarEnd = finding("the shape of {shape} is above the {far-shape} that `{policy}` lets in at {path}",
		"up to {excess} waits in the queues there",
		"shape below {far-shape} here")
	ShapeAboveLink = finding("`{policy}` keeps no promise",
		"{why}",
		"give it a `shape` below {carries}, such as `shape: 95%`")
	ShapeAbovePort = finding("the shape of {shape} is above the {rate} that the interface sends",
		"it never shapes",
		"is less than {carries} meant? `shape: 95%` follows the link")
	ShapeAtLink = finding("the shape of {shape} leaves no margin below what the link carries",
		"if the link carries {loss} less, no promise is kept",
		"shape a few per cent below: `shape: 95%` follows the link")
	MarkNowhere = finding("`{entry}` writes a mark into a {layer}, but frames leave without one",
		"nothing carries the mark",
		"add a {layer} (`framing` of the interface for a tag, a tunnel of kind `mpls` for a label), or remove the mark")
	MarkTrustedLater = finding("`{class}` has priority by its marking alone, and hosts at {path} can set that marking",
		"a download that is marked like a call shares the bound of the calls",
		"mark packets where they come in, or add `from` to the class")
	PolicerFarBelow = finding("`{rehearsal}` offers {offered} to `{entry}`, but its policer passes only {rate}",
		"it drops {lost}, although {expected} is expected",
		"mark the excess down with `red: {{map: NAME}` in place of `red: drop`, or raise the rate")
	PriorityAboveLink = finding("the entries with priority may take {sum} together, of {whole}",
		"their limits protect nobody: they can take all that is promised to the others",
		"limit them to what their traffic takes; `imbrel budget` calculates it for calls")
	ServerNameUnseen = finding("`{class}` is recognised by server names alone, and no rehearsal replays a capture",
		"no rehearsed traffic shows such a name, so the class is empty in every rehearsal",
		"give TCP of a rehearsal `app` or `server-name`, or replay a capture")
	SlowerFurtherOn = finding("`{policy}` divides {whole}, and then `{traffic}` crosses {path}, which carries {carries} and has no policy",
		"packets wait there in one queue for all classes, and no promise of `{policy}` holds",
		"attach a policy there, or shape to {carries}")
	WeightsReversed = finding("`{low}` has a smaller weight than `{high}`, {low-weight} and {high-weight}, and is expected to get more",
		"{more} and {less}: when both are busy, `{high}` gets more",
		"swap the weights, or the expectations")
	FlowDivided = finding("the policer of `{entry}` marks a part of `{traffic}` {mark}, and at {place} that part is in `{other}`, the other packets in `{class}`",
		"packets overtake others of their flow, which TCP takes for loss",
		"let `{class}` take both marks, or drop the excess")
	FragmentsUnclassified = finding("packets of `{traffic}` come in fragments, and `{class}` takes them by what only the first fragment has, such as ports",
		"a device that does not remember the first fragment puts the others into `{other}`",
		"ask for addresses or a mark as well, or let `{traffic}` send packets that fit its path")
	ShapeExceedsContract = finding("`{policy}` keeps no promise",
		"{why}",
		"give it a `shape` of {bought} or less, such as `shape: 98%`")
	LineExceeded = finding("{entries} may send {sum}, and the contract passes {rate}[[ of packets {marks}]]",
		"the carrier drops or marks the excess, calls like downloads",
		"limit {entries} to {rate}, by `at-most` or the `shape`, or buy more")
	BurstExceedsContract = finding("the burst of the shape exceeds the contract",
		"{why}",
		"let the `burst` of the shape be {fits} or less, or buy a larger one")
	ShapeFarBelow = finding("the shape of {shape} leaves most of the {carries} that the link carries",
		"{unused} of the link is never used, while packets are dropped",
		"is {meant} meant? `shape: 95%` follows the link")
	EachTakesAll = finding("each {each} in `{entry}` may take {rate}, of {around}",
		"one instance can take the whole rate",
		"lower it, or leave it out")
	LimitShared = finding("the {hosts} hosts in `{entry}` share one limit of {limit}",
		"when all are busy each has {each}",
		"write `each: {by}` if each may have that much, or accept this")
	RingTooDeep = finding("the ring of {interface} holds {packets|packet}: full ones take {wait} at {rate}",
		"a packet with priority waits for all of them, behind the queues of the policy",
		"let the ring hold {fewer|packet} at most, or give the policy a `shape` below what the interface sends")
	HalfDuplexShared = finding("the shapes at {one} and {other} let {sum} through, and both directions share {rate}",
		"when both are busy, packets queue on the medium, which ignores classes: no promise holds",
		"make both shapes smaller, such as {half!} each")
	SlowLink = finding("a full packet takes {time} to send, and `{entry}` waits for one that has begun",
		"each such hop adds up to {time} of delay and jitter to a call",
		"let the others send smaller packets (a lower MTU), use fragment interleaving or preemption where both ends have it, or take a faster link")
	TagNowhere = finding("`{class}` asks for a {layer}, but frames here have none",
		"the condition never holds, and its packets fall to the entries after it",
		"{fix}")
	TooLargeForPath = finding("the packets of `{traffic}` do not fit their path: one of {length} leaves {interface} as {leaves}, and {interface} sends {mtu} at most",
		"{effect}",
		"{fix}")
	TimesOverlap = finding("the times `{first}` and `{second}` of `{entry}` overlap",
		"for {minutes} minutes a week, first from {from}, the entry in line {line!} takes all packets",
		"let one end where the other begins")
	TimeUnrehearsed = finding("{none-or-all} within the time `{time}`, {span}",
		"{never}",
		"mend the time, or add a rehearsal with a `starts-at`")
	TimeWithoutZone = finding("the time `{time}` has no zone",
		"it is taken as UTC, all the year",
		"add `zone`, such as Europe/Oslo")
	TrafficUnclassified = finding("no class takes the calls of `{traffic}`: they are in the rest",
		"they share the queue of downloads wherever it is full",
		"see why: imbrel explain FILE --from {from} --to {to} --looks-like-rtp --why")
	UnboundedPriority = finding("the priority of `{entry}` has no bound",
		"it can take all of {whole}, and then no promise to the others is kept",
		"give it `police` or `at-most`; `imbrel budget` calculates how much its calls take")
	LimitAbovePort = finding("`{entry}` is limited to {rate!}, but the interface sends only {port}",
		"the limit has no effect",
		"is a smaller unit meant?")
	LimitTiny = finding("`{entry}` is limited to {rate!} of {whole}",
		"a full packet takes {time} at that rate",
		"is {meant!} meant?")
	LimitFactor = finding("`{entry}` is limited to {rate!} here, and to {other!} in line {other-line!}: a factor of exactly {factor}",
		"{meaning}",
		"correct one of them, or accept this with the reason")
	Unused = finding("the {what} `{name}` is used nowhere",
		"it does nothing",
		"use it, or remove it")
	VoiceAsControl = finding("the calls in `{entry}` leave as {dscp}, which is network control",
		"they compete with routing on every hop",
		"mark them `ef`")
	VoiceWithoutPriority = finding("the calls of `{traffic}` are in `{entry}`, which has no priority",
		"where the link is full, a call's packet waits for packets of other classes, {time} each",
		"give it `priority: 1`, and a bound")

	Mistake = finding("{mistake}",
		"no command can use the file",
		"{help}")

	AddressHidden = finding("`{class}` asks for `{key}` {address}, and {interface} translates addresses {when}: {sees}",
		"the condition takes none of the packets that it is meant for",
		"mark the packets where they come in and ask for the mark, or set `nat` to the other side")
	AddressNowhere = finding("`{class}` asks for `{key}` {prefix}, which is in no subnet of the network",
		"no packet has such an address, so the condition takes none",
		"mend the address, or add its subnet to an interface's `subnets`")
	AnswersInRest = finding("`{requests}` is in `{class}`, but `{answers}`, which carries the data, is in the rest",
		"where {interface} is full, the data waits with all other traffic of the rest",
		"let the class take both directions: `port` in place of `to-port` or `from-port`, or a condition for each direction")
	MarkTakenOff = finding("`{traffic}` is marked {dscp} at {where}, but here `{entry}` marks it {now}",
		"where {later} is full, it waits with all other traffic of the rest",
		"let `{entry}` keep the mark, or mark with {dscp}")

	// Parts of these sentences.
	NoPacketHas          = row("its `{key}`, and no packet has that")
	OtherVersion         = row("`from` addresses and `to` addresses of the other version of IP, and no packet has both")
	NoPacketHasBoth      = row("its `{key}` and its `{other}`, and no packet has both")
	NoPacketHasAll       = row("a combination that no packet has")
	GoTo                 = row("go to")
	ComeFrom             = row("come from")
	EstimateRate         = row("`{subject}` gets {rate}")
	EstimateLoss         = row("{lost} of `{traffic}` is lost")
	EstimateWait         = row("the queue of `{entry}` at {at} is full, and a packet waits {wait} in it")
	EstimateFills        = row("the queue of `{entry}` at {at} fills to {size}")
	EstimateHolds        = row("the queue of `{entry}` at {at} holds {size}")
	NothingMarks         = row("nothing on its way marks it: give the entry that takes it a `mark`")
	MarksChange          = row("mend the `mark`: {changes}")
	MarkedBy             = row("`{entry}` in line {line!} marks it {dscp}")
	MarkChanges          = row("[[{before}, then ]]{entry} in line {line!} makes {dscp} of {was}")
	KeepsMark            = row("keeps the mark, but gives it no treatment of its own")
	RewritesMark         = row("rewrites the mark to {dscp}")
	DoneToNoPacket       = row("its treatment applies to no packet[[; {example}]]")
	PromiseKeptForNobody = row("the {promise} promised to it help nobody[[; {example}]]")
	PacketGoesTo         = row("`{entry}` takes, for example, a packet {packet}")
	Takers               = row("{entries}")
	TakersAndMore        = row("{entries,} and {more} more")
	TakerAt              = row("`{entry}` (line {line!})")
	Takes                = row("takes")
	TogetherTake         = row("together take")
	Take                 = row("take")
	TheCondition         = row("the condition `{condition}`")
	TheValue             = row("`{key} {value}`")
	LayerTag             = row("give the interface a `framing` with a tag, such as ethernet-vlan, or ask for something else")
	LayerLabel           = row("ask for the DSCP, or add the tunnel that pushes the label")
	NoneIsWithin         = row("none of the rehearsals is")
	AllAreWithin         = row("all of the rehearsals are")
	ThenNotJudged        = row("entries that are active then are never judged")
	OtherwiseNotJudged   = row("entries that are active at other times are never judged")
	BitsAndBytes         = row("bits and bytes may be mixed up")
	DigitMissing         = row("a digit may be missing")
	KiloAndMega          = row("kbit/s and Mbit/s may be mixed up")
	FoundAt              = row("at {where}[[ and {more} more]], {finding}")
)
