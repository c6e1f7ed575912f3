package words

// Why nothing bounds what a traffic sends.
var (
	UnboundCalls   = row("the calls of `{traffic}` come at random, so any number of them may be held at once")
	UnboundLengths = row("the packets of `{traffic}` are of random lengths, without a longest")
	UnboundPoisson = row("`{traffic}` sends at random times, so any number of its packets may come at once")
	UnboundCapture = row("`{traffic}` is a capture, and nothing says how much of it may come at once")
	UnboundTCP     = row("`{traffic}` is TCP, which sends as fast as it can")
)

// Why the delay of some packets has no bound.
var (
	UnboundWhen       = row("`{policy}` has entries with `when`, and their packets are of another class at other times")
	UnboundWays       = row("flows are spread over several ways at node `{node}`")
	UnboundLength     = row("its packets are too long for {place}")
	UnboundRemarked   = row("the policer of `{class}` at {place} marks some of its packets otherwise, so their class further on is not known")
	UnboundLinkJitter = row("the jitter of the link at {place} has no largest value")
	UnboundLinkLoss   = row("the link at {place} loses packets")
	UnboundContract   = row("the carrier of {place} meters what comes")
	UnboundEvent      = row("the event `{event}` changes ways or policies, and the bounds are for one state of the network")
	UnboundArrivals   = row("nothing bounds what comes to {queue} at {place}: {reason}")
	UnboundRate       = row("{comes} may come to {queue} at {place} for good, and {certain} are certain there")
	UnboundNothing    = row("{queue} is promised nothing at {place}, and what the others leave has no least")
	UnboundPromises   = row("the promises at {place} are {promised} in total, and more urgent traffic leaves them {left}")
	UnboundStarved    = row("more urgent traffic can hold {queue} at {place} back for {time}; the scheduler makes up for {most}")
	UnboundEach       = row("{queue} at {place} has upper limits for each {each}")
	UnboundDropped    = row("its packets are dropped on their way")
	UnboundCircle     = row("it comes from a circle of queues, of which each waits for the one before: {places}")
)

// What may lose packets.
var (
	LosesPoliced = row("the policer of `{class}` at {place} may drop some")
	LosesBlocked = row("`{class}` at {place} is blocked")
	LosesEarly   = row("the queue of `{class}` at {place} may drop some before it is full")
	LosesReplay  = row("others may overtake a packet in the tunnel `{tunnel}` by more than its `replay-window`")
	LosesFull    = row("{queue} at {place} may be full")
)

// What is said of bounds beside a rehearsal.
var (
	ClassProven         = row("{packets}: at most {max}, proven; {seen} seen")
	ClassProvenKept     = row("{packets}: at most {max}, proven; {seen} seen; no loss is possible")
	ClassProvenMeasured = row("{packets}: at most {max}, proven; {rehearsed} rehearsed; {measured} measured")
	ClassProvenFull     = row("{packets}: at most {max}, with a full queue at {place}, proven; {seen} seen")
	ClassNotProven      = row("{packets}: no proven maximum: {reason}")
	ProvenWait          = row("a packet can wait {wait} at {place}[[. To lower this: {advice}]]")
	BoundExceeded       = row("a packet of {traffic} took {seen}, and by its proof none takes more than {max}: one of the two is wrong; please report it with the file")
)

// Of a measurement beside a bound.
var (
	MeasuredLate   = row("{traffic}: {measured} measured, and {max} proven. A packet was in the network for {within} at most; this machine handed it over late.")
	MeasuredBeyond = row("{traffic}: {measured} measured, and {max} proven. A packet was in the network for {within}, and this machine sent packets up to {late} late: one of the figures is wrong; please report it with the file.")
)

// What to change for a smaller bound.
var (
	SoonerBurst   = row("lower the burst of `{class}` ({burst}, {at})")
	SoonerUrgent  = row("let `{class}` send less, which goes first ({at})")
	SoonerBegun   = row("raise the rate of {place}, or send packets shorter than {longest}: a packet that is being sent is not interrupted")
	SoonerLimited = row("raise the upper limit of `{class}` ({at})")
	SoonerRoom    = row("shorten the queue of `{class}` ({room}, {at})")
	SoonerCalls   = row("let fewer senders of `{class}` send at the same moment")
	SoonerPromise = row("raise the promise of `{class}` ({promise}, {at})")
	SoonerCarrier = row("shape {interface} below what its link carries")
	SoonerFIFO    = row("attach a policy at {place}: all packets share one queue there")
	SoonerRate    = row("raise the rate of {place}")
)
