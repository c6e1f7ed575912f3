package words

// Why a step of an acceptance test fails.
var (
	NothingSent        = row("nothing was sent")
	SentTooSlowly      = row("this machine sent only {rate}: it is busy, and the step says nothing. Test again")
	LostWithinContract = row("{part} was lost, and the contract should pass all")
	MoreThanContract   = row("{rate} arrived, more than the {contract} of the contract: the carrier does not meter, or by another rate")
	LessThanContract   = row("only {rate} arrived of the {contract} of the contract")
)
