package words

// How two results differ before anything is measured.
var (
	TwoRehearsals = row("the results are of two rehearsals, `{old}` and `{new}`")
	OtherDuration = row("the old run lasted {old} and the new one {new}, so numbers of packets are not compared")
	OtherSeeds    = row("the seeds are {old} and {new}, so part of each difference is chance")
	Interrupted   = row("the {which} run was interrupted")
	OnlyIn        = row("`{traffic}` is only in the {which} run")
)
