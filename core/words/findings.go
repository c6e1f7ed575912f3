package words

// The findings of a check: what is wrong, what follows from it, and the way out.
var (
	BoundBelowCall = finding("`{entry}` may have {ceiling}, which is less than one call takes",
		"a call of {codec} takes {per-call} there: {lost} of every call is lost",
		"give it {needed}, which the {calls} calls of `{rehearsal}` take")
	BoundBelowCalls = finding("the {calls} calls of `{rehearsal}` take {needed}, and `{entry}` may have {ceiling}",
		"when all talk, {lost} of their packets are lost; for half a minute at a time one call can lose half of its packets; {fit} calls fit",
		"give it {needed}, as `police: {{calls: {calls}, codec: {codec}}` does, or plan for {fit} calls")
	BurstBelowInterval = finding("the burst of {burst} holds {held} packets of `{entry}`, and its {calls} calls send as many at once when they fall together",
		"up to {lost} of {calls} packets of an interval are lost, although the rate suffices",
		"give the burst {enough}")
	BurstBelowPacket = finding("the packets of `{traffic}` take {packet}, and the burst of `{entry}` is {burst}",
		"every one of them is dropped, however slowly they come",
		"give the burst at least {packet}; twice as much lets two come together")
	ConditionNeverHolds = finding("a condition of `{class}` asks for {what}",
		"it never holds",
		"write them as two conditions if either is meant, or mend one of them")
	AllExcepted = finding("all that `{class}` asks for is in its `except`",
		"the class takes no packet",
		"narrow the `except`, or remove the class")
	EachOneServer = finding("`{entry}` has a limit for each {each}, and all its packets in `{rehearsal}` {come-from} {host}",
		"the {hosts} hosts at the other end share one limit",
		"write `each: {other}`")
	ExemptOneWay = finding("`{traffic}` is excluded from `{class}`, but `{reverse}` is included",
		"the same conversation is in the class on its way back",
		"write the exception for both directions")
	LimitBelowExpected = finding("`{entry}` may have {ceiling}, and {expected} is expected",
		"that cannot hold",
		"raise its bound, or expect less")
	LossAboveExpected = finding("`{entry}` may have {ceiling}, is offered {offered}, and {expected} is expected",
		"at least {lost} is lost",
		"raise its bound to {offered}, or expect less")
	ExpectationEstimated = finding("by a fluid estimate, {estimate}, and {expected} is expected",
		"the rehearsal will probably fail",
		"rehearse it: imbrel rehearse FILE {rehearsal} --suggest")
	ArrivesMarkedOtherwise = finding("the packets of `{traffic}` are of `{class}`, and arrive as {dscp}",
		"{expected} cannot hold",
		"{where-marked}")
	LeavesMarkedOtherwise = finding("the packets of `{traffic}` are of `{class}`, and leave {path} as {dscp}",
		"{expected} cannot hold",
		"{where-marked}")
	ExpectationUntested = finding("no traffic of `{rehearsal}` is in `{subject}`",
		"there is nothing to judge",
		"add such traffic, or mend the class: imbrel explain … --why says why a packet is not in it")
	FramingForgotten = finding("the shape counts bytes as `{own}`, and the link as `{link}`",
		"{shape} of call packets take {takes} on a link of {carries}, of full packets {full-packets}",
		"give the interface `framing: {link}`")
	InNeverQueues = finding("nothing ever waits in `{policy}`",
		"its priorities, shares and queues do nothing: what comes in has already waited, before the link",
		"give the policy a `shape` below what the link delivers, or attach it outgoing at the far end")
	MarkUnserved = finding("`{traffic}` is marked {dscp} at {where}, and here it is in the rest, which {effect}",
		"where the link is full, it waits with all other traffic of the rest",
		"add an entry for a class with `match: [{{{asks}}]`")
	ReachUnknown = finding("it is unknown whether each entry of `{policy}` is ever reached",
		"there are more than {max-entries} entries, or packets fall into more than {max-pieces} pieces: nothing is claimed of them",
		"see where a packet goes: imbrel explain FILE")
	AroundTakesNone = finding("`{entry}` never takes a packet: the entry around it, `{parent}`, takes none of the class",
		"{lost}",
		"let `{class-name}` take them, or move the entry")
	TakenBefore = finding("`{entry}` never takes a packet: the entries before it take all its packets",
		"{lost}",
		"put it before them, or narrow the entries before it")
	TakenBy = finding("`{entry}` never takes a packet: {takers} before it {take} all its packets",
		"{lost}",
		"put it before line {at!}, or narrow the entries before it")
	NoRest = finding("`rest` is promised {promise} of {whole}",
		"when the other classes are busy, routing, management and all traffic without a class get nothing",
		"promise less to the others, or give `rest` an `at-least` of some per cent; `at-least: 0%` says that it is meant")
	OneEnd = finding("only this end of the link has a policy that shares it out",
		"what {path} sends waits in the carrier's queue of {carries}, calls behind downloads",
		"attach a policy with a `shape` below {carries} at {path} out")
	OpenTrust = finding("`{class}` trusts the marking of every host",
		"whoever marks his packets so is treated like it, up to the limit of the class",
		"add `from` with those who may send it, or name the application")
	ValueShadowed = finding("{what} of `{entry}` never comes to its entry at line {at!}: {takers} before it {take} all of its packets",
		"{example}",
		"put it before them, or remove it")
	PartlyShadowed = finding("of the condition `{condition}` of `{entry}`, {left} comes to its entry at line {at!}: {takers} before it {take} the rest",
		"{example}",
		"put the particular before the general, or let it be if it is meant")
	PolicyUnattached = finding("the policy `{policy}` is attached nowhere",
		"it does nothing",
		"add a line under `attach`, or remove it")
	PressureNeverComes = finding("the limit of `{entry}` starts at a load of {load}, and there is {whole}",
		"it never comes",
		"start it below what there is")
	PressureFlaps = finding("the load of `{rehearsal}` is {free} without the limit of `{entry}`, and {limited} with it, which ends below {ends}",
		"it comes and goes about every {period!}",
		"end it below {limited}")
	PromiseInsidePolicer = finding("the policer of `{entry}` drops before its entries count",
		"{asks} can count on nothing: a flood in another entry of `{entry}` takes their part of the {rate!}",
		"write `at-most: {rate!}` in place of `police`")
	QueueTooDeep = finding("a full queue of `{entry}` holds a packet for {wait}, and {expected} is expected",
		"it is offered more than it is promised, so its packets come late before any is lost",
		"give its `queue` a `limit` below {limit}")
	QueueTooShallow = finding("the queue of `{entry}` holds {holds}, and {on-the-way} are on their way at {promise} over a round trip of {round-trip}",
		"a TCP flow of `{traffic}` keeps about {keeps} of that rate",
		"give it a `limit` of {on-the-way}")
	ServerNameAlone = finding("`{server-name}` of `{app}` is that name alone",
		"www.{server-name} is not of the application",
		`write [{server-name}, "*.{server-name}"] if all of it is meant`)
	ShapeAboveFarEnd = finding("the shape of {shape} is above the {far-shape} that `{policy}` lets in at {path}",
		"up to {excess} waits in the queues there",
		"shape below {far-shape} here")
	ShapeAboveLink = finding("`{policy}` keeps no promise",
		"{why}",
		"give it a `shape` below {carries}, such as `shape: 95%`")
	ShapeAbovePort = finding("the shape of {shape} is above the {rate} that the interface sends",
		"it never shapes",
		"is less than {carries} meant? `shape: 95%` follows the link")
	ShapeAtLink = finding("the shape of {shape} is all that the link carries, or nearly",
		"when the link carries {loss} less, nothing that is promised is kept",
		"shape a few per cent below: `shape: 95%` follows the link")
	MarkNowhere = finding("`{entry}` marks in a {layer}, and frames leave without one",
		"nothing carries the mark",
		"add a {layer} (`framing` of the interface for a tag, a tunnel of kind `mpls` for a label), or remove the mark")
	MarkTrustedLater = finding("`{class}` has priority by its marking alone, and hosts at {path} can mark their packets so",
		"a download that is marked like a call shares the bound of the calls",
		"mark packets where they come in, or add `from` to the class")
	PolicerFarBelow = finding("`{rehearsal}` offers {offered} to `{entry}`, and its policer passes {rate}",
		"it drops {lost}, although {expected} is expected",
		"mark the excess down with `red: {{map: NAME}` in place of `red: drop`, or raise the rate")
	PriorityAboveLink = finding("the entries with priority may have {sum}, and there is {whole}",
		"their bounds bound nothing: they can take every promise of the others",
		"bound them by what their traffic takes; `imbrel budget` says it for calls")
	ServerNameUnseen = finding("`{class}` is recognised by server names alone, and no rehearsal replays a capture",
		"rehearsed traffic shows no server name, so the class is empty in every rehearsal",
		"replay a capture, or give the application ports or addresses as well")
	SlowerFurtherOn = finding("`{policy}` divides {whole}, and then `{traffic}` crosses {path}, which carries {carries} and has no policy",
		"packets wait there in one queue for all classes, and no promise of `{policy}` holds",
		"attach a policy there, or shape to {carries}")
	WeightsReversed = finding("`{low}` has a smaller weight than `{high}`, {low-weight} and {high-weight}, and is expected to get more",
		"{more} and {less}: when both are busy, `{high}` gets more",
		"swap the weights, or the expectations")
	ShapeFarBelow = finding("the shape of {shape} leaves most of the {carries} that the link carries",
		"{unused} of the link is never used, while packets are dropped",
		"is {meant} meant? `shape: 95%` follows the link")
	EachTakesAll = finding("each {each} in `{entry}` may have {rate}, and there is {around}",
		"one instance can take the whole rate",
		"lower it, or leave it out")
	LimitShared = finding("the {hosts} hosts in `{entry}` share one limit of {limit}",
		"when all are busy each has {each}",
		"write `each: {by}` if each may have it, or accept this")
	SlowLink = finding("a full packet takes {time}, and `{entry}` waits for one that has begun",
		"each hop like it adds up to {time} of delay and jitter to a call",
		"let the others send smaller packets (a lower MTU), use fragment interleaving or preemption where both ends have it, or take a faster link")
	TagNowhere = finding("`{class}` asks for a {layer}, and frames have none",
		"the condition never holds, and its packets fall to the entries after it",
		"{fix}")
	TimesOverlap = finding("the times `{first}` and `{second}` of `{entry}` overlap",
		"for {minutes} minutes of a week, first from {from} on, the entry in line {line!} has all its packets",
		"let one end where the other begins")
	TimeUnrehearsed = finding("{none-or-all} within the time `{time}`, {span}",
		"{never}",
		"mend the time, or add a rehearsal with a `starts-at`")
	TimeWithoutZone = finding("the time `{time}` has no zone",
		"it is taken as UTC, all the year",
		"add `zone`, such as Europe/Oslo")
	TrafficUnclassified = finding("the calls of `{traffic}` are in no class but the rest",
		"they share the queue of downloads wherever it is full",
		"see why: imbrel explain FILE --from {from} --to {to} --looks-like-rtp --why")
	UnboundedPriority = finding("the priority of `{entry}` has no bound",
		"it can take all of {whole}, and what is promised to the others is worth nothing then",
		"give it `police` or `at-most`; `imbrel budget` reckons how much its calls take")
	LimitAbovePort = finding("`{entry}` is bounded by {rate!}, and the interface sends {port}",
		"it is no bound",
		"is a smaller unit meant?")
	LimitTiny = finding("`{entry}` is bounded by {rate!} of {whole}",
		"a full packet takes {time} at that rate",
		"is {meant!} meant?")
	LimitFactor = finding("`{entry}` is bounded by {rate!}, and by {other!} in line {other-line!}: exactly {factor} times",
		"{meaning}",
		"mend one of them, or accept it with the reason")
	Unused = finding("the {what} `{name}` is used nowhere",
		"it does nothing",
		"use it, or remove it")
	VoiceAsControl = finding("the calls in `{entry}` leave as {dscp}, which is network control",
		"they compete with routing on every hop",
		"mark them `ef`")
	VoiceWithoutPriority = finding("the calls of `{traffic}` are in `{entry}`, which has no priority",
		"where the link is full, a call's packet waits for those of the others, each {time} long",
		"give it `priority: 1`, and a bound")

	Mistake = finding("{mistake}",
		"no command can use the file",
		"{help}")

	AddressNowhere = finding("`{class}` asks for `{key}` {prefix}, which is in no subnet of the network",
		"no packet has such an address, so the condition takes none",
		"mend the address, or add its subnet to an interface's `subnets`")
	AnswersInRest = finding("`{requests}` is in `{class}`, and `{answers}`, which carries the data, is in no class but the rest",
		"where {interface} is full, the data waits with all other traffic of the rest",
		"let the class take both directions: `port` in place of `to-port` or `from-port`, or a condition for each direction")
	MarkTakenOff = finding("`{traffic}` is marked {dscp} at {where}, and here `{entry}` marks it {now}",
		"where {later} is full, it waits with all other traffic of the rest",
		"let `{entry}` keep the mark, or mark with {dscp}")

	// Parts of these sentences.
	NoPacketHas          = row("its `{key}`, and no packet has that")
	OtherVersion         = row("`from` addresses and `to` addresses of the other version of IP, and no packet has both")
	NoPacketHasBoth      = row("its `{key}` and its `{other}`, and no packet has both")
	NoPacketHasAll       = row("what no packet has all of")
	GoTo                 = row("go to")
	ComeFrom             = row("come from")
	EstimateRate         = row("`{subject}` gets {rate}")
	EstimateLoss         = row("{lost} of `{traffic}` is lost")
	EstimateWait         = row("the queue of `{entry}` at {at} is full, and a packet waits {wait} in it")
	EstimateFills        = row("the queue of `{entry}` at {at} fills to {size}")
	EstimateHolds        = row("the queue of `{entry}` at {at} holds {size}")
	NothingMarks         = row("nothing on its way marks it: give an entry a `mark`, or the class that it falls to")
	MarksChange          = row("mend the `mark`: {changes}")
	MarkedBy             = row("`{entry}` in line {line!} marks it {dscp}")
	MarkChanges          = row("[[{before}, then ]]{entry} in line {line!} makes {dscp} of {was}")
	KeepsMark            = row("keeps the mark and does not serve it")
	RewritesMark         = row("rewrites the mark to {dscp}")
	DoneToNoPacket       = row("what it says is done to no packet[[; {example}]]")
	PromiseKeptForNobody = row("the {promise} promised to it are kept for nobody[[; {example}]]")
	PacketGoesTo         = row("a packet {packet}, goes to `{entry}`")
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
