package words

// What follows where packets do not fit their path, and the way out.
var (
	SenderTold    = row("the first are dropped; then their sender knows, and sends shorter ones")
	SenderNotTold = row("they are dropped, and their sender never learns why: `{node}` filters ICMP")
	SendAtMost    = row("let the sender's packets have {most} at most, or raise the `mtu` of the links on the way")
	LimitSegments = row("limit the segments: `mss: {most!}` at the tunnel, or raise the `mtu` of the links on the way")
)
