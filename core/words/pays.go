package words

// JudgedHere says how many expectations a gate can judge.
var JudgedHere = row("{judged} of {all|expectation} of `{rehearsal}` can be judged at a gate; {elsewhere} need both ends, a part of the time or another place: use `call` or `prove`.")

// What got worse for a traffic by the policies.
var (
	PaysMOS         = row("`{name}` has MOS {with} ({without}[[ {reference}]])")
	PaysLoss        = row("`{name}` loses {with} ({without}[[ {reference}]])")
	PaysGoodput     = row("`{name}` gets {with} ({without}[[ {reference}]])")
	PaysCompletion  = row("`{name}` completes within {with} at p95 ({without}[[ {reference}]])")
	PaysDelay       = row("`{name}` has a p99 delay of {with} ({without}[[ {reference}]])")
	WithoutPolicies = row("without the policies")
	WhoPays         = row("Who pays: {payments;}[[; and {more} more]].")
	NobodyPays      = row("Who pays: nobody. Nothing got worse by the policies.")
)

// The verdict of a proof, and how the machine held the program up.
var (
	FiguresAgree    = row("{agree} of {all} figures agree")
	FiguresDiffer   = row("{differ} of {all} figures differ ({names}[[ and {more} more]])")
	ProofSays       = row("{figures}; {holds} of {expectations|expectation} hold with real packets.")
	NotJudgedHeldUp = row("The machine could not run Imbrel for {part} of the time; above 2 % a run is neither passed nor failed. Run it again when the machine is quiet.")
	HeldUp          = row("The machine could not run Imbrel for {total} in total (longest pause {longest}). Imbrel's clock paused meanwhile, so the run of {lasts} took {took}. The kernel's TCP did not pause: its figures are less reliable.")
)
