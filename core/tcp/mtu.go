package tcp

// offered takes the data of a segment that the other end says it takes at most.
func (e *End) offered(mss int) {
	o := &e.out
	if mss < 1 || mss >= e.c.MSS || o.acked > 1 {
		return
	}
	e.c.MSS, o.MSS = mss, int64(mss)
	o.first = int64(e.c.InitialWindow) * o.MSS
	o.Size = min(o.Size, o.first)
}

// Fit lets a segment hold at most so many bytes of data from now on, because longer ones do not fit the path (RFC 1191 §6.4, RFC 8201 §5.4). What
// is under way in longer ones counts as lost, and is sent again in shorter ones. It says nothing of congestion: the window stays as it is.
func (e *End) Fit(mss int) {
	o := &e.out
	if mss < 1 || mss >= e.c.MSS {
		return
	}
	e.c.MSS, o.MSS = mss, int64(mss)
	old := o.pieces
	o.pieces = pieces{oldest: none, newer: none, sends: old.sends}
	o.lost, o.nextLost, o.flight, e.again = nil, 0, 0, none
	for n := old.first; n < old.after; n++ {
		p := *old.at(n)
		long := int(p.data) > mss && !p.sacked
		for {
			part := p
			if long && int(p.data) > mss {
				part.data, part.length, part.flags = int32(mss), uint32(mss), p.flags&^FIN
			}
			part.lost = !p.sacked && (p.lost || long)
			number := o.pieces.add(part)
			switch o.pieces.unlink(number); {
			case part.lost:
				o.lost = append(o.lost, number)
			case !part.sacked:
				o.pieces.link(number)
				o.flight += int64(part.data)
			}
			if part.end() >= p.end() {
				break
			}
			p.seq, p.length, p.data = part.end(), p.length-part.length, p.data-part.data
		}
	}
}
