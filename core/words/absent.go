package words

// Why there is nothing to measure for an expectation.
var (
	NoneArrived        = row("none of its packets arrived")
	NoneSent           = row("no packet of `{subject}` was sent")
	NoneCameTo         = row("no packet of `{subject}` came to {interface} {direction}")
	NoneLeft           = row("no packet of `{subject}` was sent there")
	NoEntryOf          = row("no policy that is attached has an entry of `{subject}`, and a packet counts for the class of its entry")
	NoCall             = row("there is no call in `{subject}`")
	NoHellos           = row("there are no hellos in `{subject}`")
	NoTCPFlow          = row("there is no TCP flow at work in `{subject}`; replayed captures and streams have none")
	DataGoesBack       = row("the data of `{traffic}` goes the other way, and is not in `{subject}`: only its requests and acknowledgements are")
	NoRoundTrip        = row("no round trip was measured: no segment was acknowledged")
	FlowsWithoutEnd    = row("its flows have no end: give them `bytes`")
	NoRatioToZero      = row("the {metric} of `{subject}` is 0, so there is no ratio to it")
	BoundsWithPolicies = row("bounds are proven with the policies in force")
	NotProven          = row("not proven")
)
