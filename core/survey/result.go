package survey

import (
	"cmp"
	"errors"
	"fmt"
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"imbrel.example/imbrel/core/codepoint"
	"imbrel.example/imbrel/core/humanize"
	"imbrel.example/imbrel/core/policy"
)

// A Sum is what one application, host or marking sent.
type Sum struct {
	Name       string `json:"name"` // "": it is not known, or there is none
	ServerName string `json:"server_name,omitempty"`
	Bytes      int64  `json:"bytes"`                 // of IP packets
	Error      int64  `json:"error_bytes,omitempty"` // of the bytes, at most so many were another's
	Packets    int64  `json:"packets"`
	Flows      int64  `json:"flows"`
	MeanBps    int64  `json:"mean_bps"` // over the whole survey

	// Nil where the records did not say: BusiestSecond of flows that last longer, the others where there were too many to keep.
	BusiestSecond *Peak     `json:"busiest_second,omitempty"`
	BusiestMinute *Peak     `json:"busiest_minute,omitempty"`
	P95MinuteBps  *int64    `json:"p95_minute_bps,omitempty"`         // of all minutes of the survey, also those without traffic
	Part          *float64  `json:"part_of_busiest_minute,omitempty"` // of what everything together sent in its busiest minute
	Minutes       [][]int64 `json:"minutes,omitempty"`                // runs of minutes: the first, since 1970, and the bytes of each from then on
}

// A Peak is the most that was sent in a step of time, and when that began.
type Peak struct {
	Bps int64     `json:"bps"`
	At  time.Time `json:"at"`
}

// A Group is the sums of one grouping, those with most bytes first.
type Group struct {
	By   string `json:"by"`
	Sums []Sum  `json:"sums"`
}

// A Mix is what was of one application, direction and marking: what a rehearsal replays.
type Mix struct {
	App        string  `json:"app"`
	Protocol   string  `json:"protocol"`
	Port       uint16  `json:"port"` // the server's; 0: above the registered ones
	Direction  string  `json:"direction"`
	DSCP       string  `json:"dscp"`
	VLAN       *uint16 `json:"vlan,omitempty"`
	FromClient bool    `json:"from_client"`
	Client     string  `json:"client"` // one of them
	Server     string  `json:"server"`
	Sum
}

// A Marked is traffic whose marking is not what RFC 4594 advises.
type Marked struct {
	App     string  `json:"app"`
	DSCP    string  `json:"dscp"`
	Advised string  `json:"advised"`
	Bytes   int64   `json:"bytes"`
	Part    float64 `json:"part"` // of the application's bytes
}

// A Result is a survey.
type Result struct {
	Survey  int       `json:"survey"` // the version of this form
	From    time.Time `json:"from"`
	To      time.Time `json:"to"`
	Seconds float64   `json:"seconds"`
	Sources []string  `json:"sources"`
	Total   Sum       `json:"total"`
	Groups  []Group   `json:"groups"`
	Mix     []Mix     `json:"mix"`
	Calls   []Call    `json:"calls"`
	AtOnce  int       `json:"calls_at_once"` // the most at a time: two directions between the same ports are one
	Marked  []Marked  `json:"marked"`
	Notes   []string  `json:"notes"`
	Coarse  bool      `json:"seconds_unknown,omitempty"` // some records did not say in which seconds they were
}

// Version of a result's form.
const Version = 1

// keepMinutes is for how many sums of a grouping a result has the minutes.
const keepMinutes = 50

// Result returns what was summed.
func (s *Survey) Result() *Result {
	r := &Result{Survey: Version, From: moment(s.from), To: moment(s.to), Sources: []string{}, Groups: []Group{}, Mix: []Mix{}, Calls: []Call{}, Marked: []Marked{}, Notes: []string{}, Coarse: s.coarse}
	for _, n := range append(s.all(), &s.total) {
		s.settle(n)
	}
	length := max(s.to-s.from, time.Second)
	r.Seconds = length.Seconds()
	r.Total = s.sum(&s.total, length, true)
	for i := range s.tables {
		all := byBytes(s.tables[i].least)
		if len(all) == 0 {
			continue
		}
		g := Group{By: Groupings[i].Name}
		for k, n := range all {
			g.Sums = append(g.Sums, s.sum(n, length, k < keepMinutes))
		}
		r.Groups = append(r.Groups, g)
	}
	for k, n := range byBytes(s.mix.least) {
		m := Mix{App: n.key.name, Protocol: policy.ProtocolName(uint8(n.key.number >> 56)), Port: uint16(n.key.number >> 16), Direction: Direction(n.key.number >> 8 & 0xff).String(), DSCP: codepoint.DSCP(n.key.number & 63).Name(), FromClient: n.key.number&fromClient != 0,
			Client: n.sampleFrom.String(), Server: n.sampleTo.String(), Sum: s.sum(n, length, k < keepMinutes)}
		if tag := n.key.number >> 40 & 0xffff; tag > 0 {
			vlan := uint16(tag - 1)
			m.VLAN = &vlan
		}
		m.Sum.Name = ""
		r.Mix = append(r.Mix, m)
	}
	for _, c := range s.calls {
		if c.received >= minCall {
			r.Calls = append(r.Calls, c.call(s.from))
		}
	}
	r.Calls = append(r.Calls, s.merged...)
	slices.SortFunc(r.Calls, func(a, b Call) int {
		return cmp.Or(cmp.Compare(worth(a), worth(b)), cmp.Compare(b.Lost, a.Lost), cmp.Compare(b.JitterMs, a.JitterMs), cmp.Compare(a.FromS, b.FromS), cmp.Compare(a.From, b.From), cmp.Compare(a.FromPort, b.FromPort))
	})
	r.AtOnce = atOnce(r.Calls)
	r.marks()
	if s.lost > 0 {
		r.Notes = append(r.Notes, humanize.Count(s.lost)+" streams of RTP beyond the first "+humanize.Count(MaxCalls)+" are not among the calls")
	}
	if s.refused > 0 {
		r.Notes = append(r.Notes, humanize.Count(s.refused)+" records have times that make no sense, or more than 40 days from the others")
	}
	return r
}

// Sources returns what the surveys that were merged had read.
func (s *Survey) Sources() []string { return s.sources }

// minCall is how many packets a stream of RTP has at least, to be called a call.
const minCall = 25

func worth(c Call) float64 {
	if c.MOS == nil {
		return 5
	}
	return *c.MOS
}

func moment(d time.Duration) time.Time { return time.Unix(0, int64(d)).UTC() }

func byBytes(all []*sum) []*sum {
	all = slices.Clone(all)
	slices.SortFunc(all, func(a, b *sum) int {
		return cmp.Or(cmp.Compare(b.bytes, a.bytes), cmp.Compare(b.packets, a.packets), a.key.addr.Compare(b.key.addr), cmp.Compare(a.key.name, b.key.name), cmp.Compare(a.key.number, b.key.number))
	})
	return all
}

// sum returns what is known of a sum in a survey of a length.
func (s *Survey) sum(n *sum, length time.Duration, minutes bool) Sum {
	r := Sum{Name: n.key.name, ServerName: n.named, Bytes: n.bytes, Error: n.over, Packets: n.packets, Flows: n.flows, MeanBps: int64(math.Round(float64(8*n.bytes) / length.Seconds()))}
	if n.key.addr.IsValid() {
		r.Name = n.key.addr.String()
	}
	if !s.coarse && n.over == 0 {
		r.BusiestSecond = &Peak{8 * n.busiest, time.Unix(n.busiestAt, 0).UTC()}
	}
	if n.unminuted || n.over > 0 {
		return r
	}
	var busiest, total minute
	for _, m := range n.minutes {
		if m.bytes > busiest.bytes {
			busiest = m
		}
	}
	for _, m := range s.total.minutes {
		if m.bytes > total.bytes {
			total = m
		}
	}
	first, last := int64(s.from/time.Minute), int64(s.to/time.Minute)
	r.BusiestMinute = &Peak{busiest.bytes * 8 / 60, time.Unix(60*busiest.at, 0).UTC()}
	p95 := percentile95(n.minutes, last-first+1) * 8 / 60
	r.P95MinuteBps = &p95
	if total.bytes > 0 {
		part := float64(n.in(total.at)) / float64(total.bytes)
		r.Part = &part
	}
	if minutes {
		for i, m := range n.minutes {
			if i == 0 || m.at != n.minutes[i-1].at+1 {
				r.Minutes = append(r.Minutes, []int64{m.at})
			}
			run := &r.Minutes[len(r.Minutes)-1]
			*run = append(*run, m.bytes)
		}
	}
	return r
}

func (n *sum) in(at int64) int64 {
	i, found := slices.BinarySearchFunc(n.minutes, at, func(m minute, at int64) int { return cmp.Compare(m.at, at) })
	if !found {
		return 0
	}
	return n.minutes[i].bytes
}

// percentile95 returns the least number of bytes that 95 % of so many minutes do not exceed.
func percentile95(minutes []minute, all int64) int64 {
	var list []int64
	for _, m := range minutes {
		list = append(list, m.bytes)
	}
	slices.Sort(list)
	above := int(all - (all*95+99)/100) // minutes that may exceed it
	if above >= len(list) {
		return 0
	}
	return list[len(list)-1-above]
}

// atOnce returns how many calls there were at most at a time: two directions are one call.
func atOnce(calls []Call) int {
	type edge struct {
		at   float64
		step int
	}
	var edges []edge
	ways := make(map[[4]string]float64) // until when a conversation is counted
	sorted := slices.Clone(calls)
	slices.SortFunc(sorted, func(a, b Call) int { return cmp.Compare(a.FromS, b.FromS) })
	for _, c := range sorted {
		if c.Video {
			continue
		}
		a, b := [2]string{c.From, fmt.Sprint(c.FromPort)}, [2]string{c.To, fmt.Sprint(c.ToPort)}
		if a[0] > b[0] || a[0] == b[0] && a[1] > b[1] {
			a, b = b, a
		}
		k, until := [4]string{a[0], a[1], b[0], b[1]}, c.FromS+c.LastsS
		if before, counted := ways[k]; !counted || before < c.FromS {
			edges = append(edges, edge{c.FromS, 1}, edge{until, -1})
			ways[k] = until
		}
	}
	slices.SortFunc(edges, func(a, b edge) int { return cmp.Or(cmp.Compare(a.at, b.at), cmp.Compare(b.step, a.step)) })
	most, now := 0, 0
	for _, e := range edges {
		now += e.step
		most = max(most, now)
	}
	return most
}

// marks finds what is marked otherwise than RFC 4594 advises: applications without their marking, and others with one of those above.
func (r *Result) marks() {
	advised := make(map[string]codepoint.DSCP)
	for _, a := range policy.Catalogue() {
		advised[a.Name] = a.Advised
	}
	bytes, all := make(map[[2]string]int64), make(map[string]int64)
	for i := range r.Mix {
		m := &r.Mix[i]
		bytes[[2]string{m.App, m.DSCP}] += m.Bytes
		all[m.App] += m.Bytes
	}
	for k, n := range bytes {
		want, known := advised[k[0]]
		d, err := codepoint.ParseDSCP(strings.ToLower(k[1]))
		if err != nil || !known || d == want || want>>3 == d>>3 && d>>3 >= 1 && d>>3 <= 4 { // another drop precedence of the same class
			continue
		}
		if want == 0 && d < codepoint.CS5 { // best effort, and the host asks for more, or less: nothing that matters
			continue
		}
		r.Marked = append(r.Marked, Marked{k[0], k[1], want.Name(), n, float64(n) / float64(max(all[k[0]], 1))})
	}
	slices.SortFunc(r.Marked, func(a, b Marked) int {
		return cmp.Or(cmp.Compare(above(b), above(a)), cmp.Compare(advised[b.App], advised[a.App]), cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(a.App, b.App), cmp.Compare(a.DSCP, b.DSCP))
	})
}

// above is 1 for traffic that is marked above what is advised, which takes from others, and 0 for that below.
func above(m Marked) int {
	d, _ := codepoint.ParseDSCP(strings.ToLower(m.DSCP))
	if want, _ := codepoint.ParseDSCP(strings.ToLower(m.Advised)); d > want {
		return 1
	}
	return 0
}

// Of returns the group of a grouping; nil: nothing was summed by it.
func (r *Result) Of(by string) []Sum {
	for i := range r.Groups {
		if r.Groups[i].By == by {
			return r.Groups[i].Sums
		}
	}
	return nil
}

// ErrNoSurvey says that a result is not one that a survey saved.
var ErrNoSurvey = errors.New("it is not a saved survey, or of another version")

// Merge adds a saved survey. Where both have sums that were given up, their errors add up.
func (s *Survey) Merge(r *Result) error {
	from, to := time.Duration(r.From.UnixNano()), time.Duration(r.To.UnixNano())
	if r.Survey != Version || from <= 0 || to < from {
		return ErrNoSurvey
	}
	if s.from > 0 && (to-s.from > MaxLength || s.to-from > MaxLength) || to-from > MaxLength {
		return fmt.Errorf("the surveys are from more than %d days: one holds at most so many", MaxLength/(24*time.Hour))
	}
	if s.from == 0 || from < s.from {
		s.from = from
	}
	s.to = max(s.to, to)
	s.coarse = s.coarse || r.Coarse
	if err := s.merge(&s.total, &r.Total); err != nil {
		return err
	}
	for _, g := range r.Groups {
		i := slices.IndexFunc(Groupings, func(o Grouping) bool { return o.Name == g.By })
		if i < 0 {
			return ErrNoSurvey
		}
		for k := range g.Sums {
			n := &g.Sums[k]
			id := key{name: n.Name}
			if by := g.By; by == "client" || by == "server" {
				addr, err := netip.ParseAddr(n.Name)
				if err != nil {
					return ErrNoSurvey
				}
				id = key{addr: addr}
			}
			t := &s.tables[i]
			into := t.at(s, id)
			into.named = cmp.Or(n.ServerName, into.named)
			if err := s.mergeInto(t, into, n); err != nil {
				return err
			}
		}
	}
	for i := range r.Mix {
		m := &r.Mix[i]
		protocol, err := policy.ParseProtocol(m.Protocol)
		d, err2 := codepoint.ParseDSCP(strings.ToLower(m.DSCP))
		way := slices.Index(directionWords[:], m.Direction)
		sample, err3 := netip.ParseAddr(m.Client)
		server, err4 := netip.ParseAddr(m.Server)
		tag := uint64(0)
		client := uint64(0)
		if m.FromClient {
			client = fromClient
		}
		if m.VLAN != nil {
			tag = uint64(*m.VLAN&0xfff) + 1
		}
		if errors.Join(err, err2, err3, err4) != nil || way < 0 {
			return ErrNoSurvey
		}
		into := s.mix.at(s, key{name: m.App, number: uint64(protocol)<<56 | tag<<40 | uint64(m.Port)<<16 | uint64(way)<<8 | client | uint64(d)})
		if into.packets == 0 {
			into.sampleFrom, into.sampleTo = sample, server
		}
		if err := s.mergeInto(&s.mix, into, &m.Sum); err != nil {
			return err
		}
	}
	shift := (from - s.from).Seconds()
	for _, c := range r.Calls {
		if len(s.merged) >= MaxCalls {
			s.lost++
			continue
		}
		c.FromS += shift
		s.merged = append(s.merged, c)
	}
	s.sources = append(s.sources, r.Sources...)
	return nil
}

func (s *Survey) mergeInto(t *table, into *sum, n *Sum) error {
	err := s.merge(into, n)
	t.sink(into)
	if s.minutes > MaxMinutes {
		s.forgetMinutes()
	}
	return err
}

func (s *Survey) merge(into *sum, n *Sum) error {
	if n.Bytes < 0 || n.Packets < 0 || n.Flows < 0 || n.Error < 0 || n.Bytes > 1<<60 {
		return ErrNoSurvey
	}
	into.bytes, into.packets, into.flows, into.over = into.bytes+n.Bytes, into.packets+n.Packets, into.flows+n.Flows, into.over+n.Error
	if p := n.BusiestSecond; p != nil && p.Bps/8 > into.busiest {
		into.busiest, into.busiestAt = p.Bps/8, p.At.Unix()
	}
	if n.Minutes == nil && n.Bytes > 0 {
		s.minutes -= int64(len(into.minutes))
		into.minutes, into.unminuted = nil, true
	}
	if into.unminuted {
		return nil
	}
	low, high := int64(s.from/time.Minute), int64(s.to/time.Minute)
	for _, run := range n.Minutes {
		for k := 1; k < len(run); k++ {
			at := run[0] + int64(k) - 1
			if at < low || at > high || run[k] < 0 || run[k] > 1<<60 {
				return ErrNoSurvey
			}
			s.inMinute(into, at, run[k])
		}
	}
	return nil
}

// Span says a length of time as people do.
func Span(seconds float64) string {
	d := time.Duration(seconds * float64(time.Second))
	switch {
	case d < 2*time.Minute:
		return strconv.FormatFloat(d.Seconds(), 'g', 3, 64) + " s"
	case d < 2*time.Hour:
		return strconv.FormatFloat(d.Minutes(), 'g', 3, 64) + " min"
	case d < 48*time.Hour:
		return strconv.FormatFloat(d.Hours(), 'g', 3, 64) + " h"
	}
	return strconv.FormatFloat(d.Hours()/24, 'g', 3, 64) + " days"
}
