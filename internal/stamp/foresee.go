package stamp

import (
	"time"

	"zipstamp/internal/meter"
)

// How fast most cards are, bytes a second.
const (
	usualWrite = 20e6
	usualRead  = 80e6
)

// Foresee tells how long it takes to stamp an image of a size onto a card, and to read it back, bytes, by what is known
// of it; past may be nil. It is for the time before the stamp begins.
func Foresee(size int64, past *Past, readBack bool) meter.Foreseen {
	p := newPays(past, false, 0)
	write, read, guessed := p.rates()
	f := meter.Foreseen{Next: meter.TimeFor(size, write), Guessed: guessed}
	switch {
	case past != nil && past.Same && past.Displaced >= Displaced: // it is likely that nothing will be written
		f.Next = meter.TimeFor(size, read)
		if readBack {
			f.Next *= 2
		}
	case readBack:
		f.Next += afterWriting(size, write, read, areasOf(size), false)
	}
	return f
}

// rates are those of writing and reading, and whether both are only what most cards have.
func (p *pays) rates() (write, read float64, guessed bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	write, read = p.writes.rate(), p.reads.rate()
	known := write > 0
	if past := p.past; past != nil {
		if write == 0 {
			write = past.Write
		}
		if read == 0 {
			read = past.Read
		}
		known = write > 0
	}
	if write == 0 {
		write = usualWrite
	}
	if read == 0 {
		read = max(usualRead, write)
	}
	return write, read, !known
}

// afterWriting is how long what follows on the writing takes: in each area, a part is written once more and all is read
// back, and in the end the first block. begun says that the first rewriting is under way or done.
func afterWriting(size int64, write, read float64, areas int, begun bool) (took time.Duration) {
	rewrite := meter.TimeFor(Displaced, write) + meter.TimeFor(Displaced, read)
	took = time.Duration(areas)*(rewrite+meter.TimeFor(size, read)) + meter.TimeFor(BlockSize, read)
	if begun {
		took -= rewrite
	}
	return took
}

// foresee is how long the job will take, seen from a phase.
func (r *run) foresee(now meter.Reading) (f meter.Foreseen, ok bool) {
	size := max(r.likely(), now.Done)
	if size == 0 {
		return f, false
	}
	write, read, guessed := r.pays.rates()
	f.Guessed = guessed
	f.Alike = (now.Phase == meter.Compare || now.Phase == meter.Write) && r.pays.unsure()
	areas := areasOf(size)
	left := areas - int(r.area.Load())
	rest := max(now.Total-now.Done, 0)
	after := func() time.Duration {
		if !r.job.ReadBack {
			return 0
		}
		r.mu.Lock()
		little := r.Kept > 0 && float64(r.Written)*float64(size) < Displaced*float64(max(r.handled, 1))
		r.mu.Unlock()
		took := afterWriting(size, write, read, areas, false)
		if little && areas == 1 {
			took += meter.TimeFor(Displaced, write) + meter.TimeFor(Displaced, read)
		}
		return took
	}
	switch now.Phase {
	case meter.Compare:
		f.Now, f.Next = meter.TimeFor(rest, read), after()
		if r.pays.past != nil && r.pays.past.Displaced >= Displaced { // it is likely that nothing will be written
			f.Next = meter.TimeFor(size, read)
		}
	case meter.Write:
		seconds := float64(rest) * r.pays.cost(write, read) * (1 - r.zeroShare())
		f.Now, f.Next = time.Duration(seconds*float64(time.Second)), after()
	case meter.Try, meter.Discard:
		f.Next = meter.TimeFor(size, write) + after()
	case meter.Rewrite:
		f.Now = meter.TimeFor(rest, write) + meter.TimeFor(rest, read)
		f.Next = afterWriting(size, write, read, left, true)
	case meter.ReadBack:
		f.Now = meter.TimeFor(rest, read)
		f.Next = afterWriting(size, write, read, left, true) - meter.TimeFor(size, read)
		if !r.isOpened() {
			f.Next = 0
		}
	case meter.Flush:
		f.Next = afterWriting(size, write, read, left, true)
	case meter.Finish:
		f.Now = meter.TimeFor(rest, read)
	default: // what is repaired, nobody foresees
		return f, false
	}
	return f, true
}

// isOpened tells whether anything was written.
func (r *run) isOpened() bool {
	r.gate.RLock()
	defer r.gate.RUnlock()
	return r.opened
}

// zeroShare is the share of blocks that are left out since they are zeros.
func (r *run) zeroShare() float64 {
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.zeros.left {
		return 0
	}
	return float64(r.zeros.seen[1]) / float64(r.zeros.seen[0])
}

// unsure tells whether blocks are compared of which nobody knows what the card has in their place.
func (p *pays) unsure() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return !p.off && (p.past == nil || len(p.past.Blocks) == 0) && p.share[anyBlock] > p.slower()
}

// cost is how long a byte takes, seconds, as blocks have been of late.
func (p *pays) cost(write, read float64) float64 {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.off || p.share[anyBlock] <= p.slower() {
		return 1 / write
	}
	return 1/read + (1-p.share[anyBlock])/write
}
