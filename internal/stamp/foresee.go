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
	p := newPays(past, past.isUndefined(), 0)
	write, read, guessed := p.rates()
	f := meter.Foreseen{Next: meter.TimeFor(size, write), Guessed: guessed}
	switch {
	case past.settles() && past.Same: // it is likely that nothing will be written
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
// back; then the first sector is written, as much once more, and what was written again is read. begun says that the
// first rewriting is under way or done.
func afterWriting(size int64, write, read float64, areas int, begun bool) (took time.Duration) {
	took = time.Duration(areas)*(rewriting(write, read)+meter.TimeFor(size, read)) +
		finishing(size, write, read, false)
	if begun {
		took -= rewriting(write, read)
	}
	return took
}

// rewriting is how long it takes to displace what is in a card's cache.
func rewriting(write, read float64) time.Duration {
	return meter.TimeFor(Displaced, write) + meter.TimeFor(Displaced, read)
}

// finishing is how long it takes from the first sector on. displaced says that only reading is left.
func finishing(size int64, write, read float64, displaced bool) time.Duration {
	took := meter.TimeFor(min(2*Displaced+BlockSize, size), read)
	if !displaced {
		took += rewriting(write, read)
		if size < Displaced+BlockSize { // what is beyond a small image is written twice
			took += rewriting(write, read)
		}
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
		return afterWriting(size, write, read, areas, false)
	}
	switch now.Phase {
	case meter.Compare:
		f.Now, f.Next = meter.TimeFor(rest, read), after()
		if r.pays.past.settles() { // it is likely that nothing will be written
			f.Next = meter.TimeFor(size, read)
		}
	case meter.Write:
		seconds := float64(rest) * r.pays.cost(write, read)
		f.Now, f.Next = time.Duration(seconds*float64(time.Second)), after()
	case meter.Try, meter.Discard:
		f.Next = meter.TimeFor(size, write) + after()
	case meter.Rewrite, meter.Flush:
		if now.Phase == meter.Rewrite {
			f.Now = meter.TimeFor(rest, write) + meter.TimeFor(rest, read)
		}
		if f.Next = afterWriting(size, write, read, left, true); r.finishes.Load() {
			f.Next = finishing(size, write, read, true)
		}
	case meter.ReadBack:
		f.Now = meter.TimeFor(rest, read)
		f.Next = afterWriting(size, write, read, left, true) - meter.TimeFor(size, read)
		if !r.isOpened() {
			f.Next = 0
		}
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
