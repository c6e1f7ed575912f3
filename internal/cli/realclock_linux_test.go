package cli_test

func init() {
	realClock = append(realClock, []measurement{
		{"AcceptanceOfALine", trying(acceptOnce)},
		{"AnswerUnderForgeries", trying(answerUnderForgeriesOnce)},
		{"FarEndThatLies", farEndThatLies},
		{"Call", trying(callOnce)},
		{"FloodsShare", trying(floodsShareOnce)},
		{"DeliverVerifiesByCounters", trying(verifiedByCounters)},
		{"Gate", trying(gateOnce)},
		{"Measure", trying(measureOnce)},
		{"Probe", trying(probeOnce)},
		{"ProbeThroughAGate", trying(probeThroughAGateOnce)},
		{"Prove", trying(proveOnce)},
		{"ProveTells", trying(proveTellsOnce)},
		{"ProveWhatIsTooLarge", trying(proveTooLargeOnce)},
		{"GateAsAService", trying(serviceOnce)},
		{"GateKeepsItsRights", gateKeepsItsRights},
		{"NothingBypassesTheShape", nothingBypassesTheShape},
	}...)
}
