package recognise

import (
	"net/netip"
	"strings"
	"time"

	"golang.org/x/net/dns/dnsmessage"
)

// maxAnswers is how many records of an answer are read.
const maxAnswers = 64

// answer remembers which addresses a DNS answer (RFC 1035 §4) gives for the
// name that was asked. Aliases lead from that name to others, so every address
// in the answer belongs to it. Of a message that ends early what is whole counts.
func (r *Recogniser) answer(now time.Duration, b []byte) {
	var p dnsmessage.Parser
	h, err := p.Start(b)
	if err != nil || !h.Response || h.RCode != dnsmessage.RCodeSuccess {
		return
	}
	questions, err := p.AllQuestions()
	if err != nil || len(questions) != 1 {
		return
	}
	asked := strings.ToLower(strings.TrimSuffix(questions[0].Name.String(), "."))
	if asked == "" {
		return
	}
	for range maxAnswers {
		record, err := p.AnswerHeader()
		if err != nil {
			return
		}
		switch record.Type {
		case dnsmessage.TypeA:
			a, err := p.AResource()
			if err != nil {
				return
			}
			r.names.put(now, netip.AddrFrom4(a.A)).value = asked
		case dnsmessage.TypeAAAA:
			a, err := p.AAAAResource()
			if err != nil {
				return
			}
			r.names.put(now, netip.AddrFrom16(a.AAAA)).value = asked
		default:
			if p.SkipAnswer() != nil {
				return
			}
		}
	}
}
