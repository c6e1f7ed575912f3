package words

// What got worse for a traffic by the policies.
var (
	PaysMOS         = row("{name} has MOS {with} ({without}[[ {reference}]])")
	PaysLoss        = row("{name} loses {with} ({without}[[ {reference}]])")
	PaysGoodput     = row("{name} gets {with} ({without}[[ {reference}]])")
	PaysCompletion  = row("{name} completes within {with} at p95 ({without}[[ {reference}]])")
	PaysDelay       = row("{name} has a p99 delay of {with} ({without}[[ {reference}]])")
	WithoutPolicies = row("without the policies")
	WhoPays         = row("Who pays: {payments;}[[; and {more} more]].")
	NobodyPays      = row("Who pays: nobody. Nothing got worse by the policies.")
)
