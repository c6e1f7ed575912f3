package words

import (
	"fmt"
	"time"

	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/unit"
)

// What a device does less than was asked.
var (
	LessPromise = row("`{entry}` is promised {is} in place of {was}")
	LessRate    = row("the policer of `{entry}` passes {is} in place of {was}[[: {calls}]]")
	MoreBurst   = row("the burst of `{entry}` is {is} in place of {was}: what is less urgent may wait {wait} longer")
	NotCounted  = row("packets of `{entry}` are not counted, because its class matches `vlan`")
	SharedQueue = row("`{entry}` shares a queue with the rest, which is promised {total}: before, `{entry}` was promised {own} and the rest {rest}[[; its packets are not marked {mark} any more]]")
)

// CallsFit returns how many calls fit, where that is fewer than were to fit.
func CallsFit(were, are int) string {
	if are >= were {
		return ""
	}
	return fmt.Sprintf("%s of G.711 fit in place of %d", humanize.Plural(are, "call"), were)
}

// Wait returns how long so many bytes take at a rate.
func Wait(size unit.Size, rate unit.Rate) time.Duration {
	return time.Duration(int64(size) * 8 * int64(time.Second) / int64(max(rate, 1)))
}
