package gauge

import (
	"bytes"
	"cmp"
	"context"
	"slices"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/meter"
)

// maxReread is how many bad blocks are read a second time: more are no single bad places, and reading all of them again would double the time.
const maxReread = 512

// readBack reads a stretch and compares it. counted says that this is the reading from start to end, whose progress is kept.
func (r *wholeRun) readBack(ctx context.Context, from, to int64, phase meter.Phase, counted bool) error {
	r.meter.Begin(phase, to-from)
	start := time.Now()
	r.reading.Start(start)
	at := from
	defer func() { r.rep.TookPhase(phase, at-from, start) }()
	for at < to {
		next := min(at+r.part(to), to)
		if err := r.each(ctx, at, next, r.compareBlock); err != nil {
			return err
		}
		at = next
		if counted {
			r.back = at
			if time.Since(r.kept) > keepEvery {
				r.keep()
			}
		}
	}
	return nil
}

// part is how much is read before the progress is kept, bytes.
func (r *wholeRun) part(to int64) int64 {
	return max(64<<20, to/256/BlockSize*BlockSize)
}

func (r *wholeRun) compareBlock(ctx context.Context, buf []byte, off int64) error {
	err := r.readAt(buf, off)
	switch {
	case card.IsBadPlace(err):
		err = r.readNarrowly(ctx, buf, off)
	case err == nil && r.run.Right(buf, number(off)) < len(buf)/mark.Size:
		err = r.compareSectors(ctx, buf, off)
	}
	r.reading.Mark(off, int64(len(buf)), time.Now())
	r.meter.Add(int64(len(buf)))
	return err
}

// compareSectors notes what is wrong in a stretch that was read, and reads it a second time: a place that reads right then is unsteady.
func (r *wholeRun) compareSectors(ctx context.Context, buf []byte, off int64) error {
	first := r.judge(buf, off)
	r.mu.Lock()
	again := r.reread < maxReread
	r.reread++
	r.mu.Unlock()
	second := first
	changing := false
	if again {
		other, err := r.blocks.Get(ctx)
		if err != nil {
			return err
		}
		defer r.blocks.Put(other)
		other = other[:len(buf)]
		if r.cached() {
			if err := r.dev.Forget(); err != nil {
				return err
			}
		}
		switch err := r.readAt(other, off); {
		case card.IsBadPlace(err): // then the first reading counts
		case err != nil:
			return err
		default:
			second = r.judge(other, off)
			changing = !bytes.Equal(buf, other)
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	var e Stretch
	add := func() {
		if e.Length > 0 {
			r.bad.Add(e)
		}
	}
	for i := range first.readings {
		one, two := first.readings[i], second.readings[i]
		state := stateOf(one.Kind)
		switch {
		case one.Kind == mark.Right && two.Kind == mark.Right:
			continue
		case one.Kind == mark.Right || two.Kind == mark.Right:
			state = Shaky
		case state == Worn && r.bad.At(off+int64(i)*mark.Size) == Worn:
			// counted before, when a block was read that is read again
		case state == Worn:
			r.bad.Bits += int64(one.Bits)
		case len(r.lostSample) < 4096:
			r.lostSample = append(r.lostSample, one)
			r.changing = r.changing || changing && one.Kind == mark.Foreign && two.Kind == mark.Foreign
		}
		at := off + int64(i)*mark.Size
		if e.State == state && e.End() == at {
			e.Length += mark.Size
			continue
		}
		add()
		e = StretchOf(at, mark.Size, state)
	}
	add()
	return nil
}

// readNarrowly reads what can be read of a block that failed, compares it, and notes the rest.
func (r *wholeRun) readNarrowly(ctx context.Context, buf []byte, off int64) error {
	failed, err := r.narrow(off, int64(len(buf)), func(at, n int64) error {
		part := buf[at-off : at-off+n]
		if err := r.readAt(part, at); err != nil {
			return err
		}
		if r.run.Right(part, number(at)) < len(part)/mark.Size {
			return r.compareSectors(ctx, part, at)
		}
		return nil
	})
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, e := range failed {
		r.bad.Add(e)
	}
	if len(failed) == 0 {
		r.bad.Add(StretchOf(off, mark.Size, Shaky))
	}
	return err
}

// Reach is how much of what was written last a card is expected to have in its own memory at most, bytes: up to a GiB, but no more than a part of a
// small card.
func Reach(size int64) int64 {
	return min(max(size/64, Displaced), 1<<30, size/2) / sampleSize * sampleSize
}

// again writes the middle once more, when it has been read back, so that the card's own memory has that and neither its end nor its start, which its end may have overwritten.
func (r *wholeRun) again(ctx context.Context) error {
	n := Reach(r.limit)
	from := (r.limit - n) / 2 / BlockSize * BlockSize
	if n == 0 {
		return nil
	}
	if err := r.readBack(ctx, from, from+n, meter.ReadBack, false); err != nil {
		return err
	}
	r.middle, r.bad = r.bad, Bad{}
	r.meter.Begin(meter.Rewrite, n)
	if err := r.inOrder(ctx, from, from+n, r.rewriteBlock); err != nil {
		return err
	}
	r.rep.Displaced = n
	return r.flush()
}

// findLoss looks whether what is bad is the loss of a part of the card: all from a place on, a sixteenth of it and more, or addresses that repeat.
func (r *wholeRun) findLoss(ctx context.Context) (*Loss, error) {
	lost, total := r.lost()
	kept := r.limit - total // at the last reading; the middle was read before
	r.mergeMiddle()
	if len(lost) == 0 {
		if lost, total = r.lost(); len(lost) == 0 {
			return nil, nil
		}
	}
	if step, err := r.repeatsIn(ctx, lost, total); step > 0 || err != nil {
		return &Loss{Repeats: true, Real: step, Exact: true}, err
	}
	lost, total = r.lost()
	last := lost[len(lost)-1]
	switch {
	case lost[0].Offset == 0 && lost[0].Length >= leastLoss(0) && len(lost) < 8: // what was written first is lost
		return &Loss{Anywhere: true, Real: max(r.limit-lost[0].Length-Displaced, 0), Most: max(r.limit-lost[0].Length, kept)}, nil
	case last.End() == r.limit && r.limit == r.dev.Size():
		return &Loss{Real: r.startOfRun(lost), Exact: true}, nil
	case total < r.limit/16:
		return nil, nil // single bad places
	}
	biggest := slices.MaxFunc(lost, func(a, b Stretch) int { return cmp.Compare(a.Length, b.Length) })
	if biggest.Offset == 0 { // as above, of a small card
		return &Loss{Anywhere: true, Real: max(r.limit-biggest.Length-Displaced, 0), Most: max(r.limit-biggest.Length, kept)}, nil
	}
	loss := &Loss{Real: biggest.Offset, Exact: true}
	if r.limit == r.dev.Size() {
		loss.Tail = r.limit - biggest.End()
	}
	return loss, nil
}

// mergeMiddle adds what was wrong in the middle before it was written once more.
func (r *wholeRun) mergeMiddle() {
	worn := r.bad.Bytes[Worn]
	for _, e := range r.middle.List {
		r.bad.Add(e)
	}
	if n := r.middle.Bytes[Worn]; n > 0 {
		r.bad.Bits += r.middle.Bits * (r.bad.Bytes[Worn] - worn) / n // the others were counted again
	}
	r.middle = Bad{}
}

// lost lists what is lost, and how much that is, bytes.
func (r *wholeRun) lost() (lost []Stretch, total int64) {
	for _, e := range r.bad.List {
		if e.State == Missing {
			lost = append(lost, e)
			total += e.Length
		}
	}
	return lost, total
}

// leastReal is the least distance at which addresses are taken to repeat, bytes. What has been written here and there may be some sectors apart by chance.
const leastReal = 64 << 10

// repeatsIn tells after which distance addresses repeat, if what is lost has been overwritten by what belongs elsewhere; 0 if it hasn't.
func (r *wholeRun) repeatsIn(ctx context.Context, lost []Stretch, total int64) (step int64, err error) {
	const samples = 16
	seen, all := 0, 0
	for _, e := range lost[max(len(lost)-samples, 0):] {
		for i := range int64(samples) {
			off := e.Offset + e.Length*i/samples/sampleSize*sampleSize
			o, err := r.test(off, min(sampleSize, e.End()-off))
			if err != nil {
				return 0, err
			}
			if o.state != Missing { // it may have been written again since
				continue
			}
			all++
			for j, k := range o.readings {
				d := k.Of*mark.Size - off - int64(j)*mark.Size
				if k.Kind != mark.Elsewhere || d == 0 {
					continue
				}
				seen++
				step = card.Period(step, max(d, -d))
			}
		}
	}
	// As much must be overwritten as is written beyond the real size, but for what the card's memory answers for.
	beyond := r.limit - step
	if seen == 0 || seen < all || step < leastReal || step >= r.limit || total > beyond || total < beyond-Displaced {
		return 0, nil
	}
	last, err := r.readsAsLast(ctx, lost[len(lost)-1].Offset, step)
	if err != nil || last {
		return 0, err
	}
	return step, nil
}

// readsAsLast tells whether a lost place reads as what was written last, wherever that was: when something else has been written, and the card's memory has forgotten what was
// before, it reads otherwise. A place at which addresses repeat doesn't change by that: those that may be the same, step apart, are left out. Before it is read first, as much is
// written, since a memory that stores late may still have to store what belongs there. What is written begins and ends elsewhere each time, so that what is written last, or stored
// last, is another sector; three times, since with one size of memory it may be the same one twice.
func (r *wholeRun) readsAsLast(ctx context.Context, off, step int64) (bool, error) {
	sector := int64(r.dev.SectorSize())
	at := min(BlockSize+sector, r.limit/2/sector*sector) // all else begins at whole blocks: what is written last is another one now
	end := min(at+Reach(r.limit), r.limit/4*3/sector*sector)
	var first outcome
	for i, sectors := range []int64{0, 3, 10} {
		odd := sectors * sector
		if err := r.leavingOut(ctx, at+odd, end-odd, off, step, odd); err != nil {
			return false, err
		}
		o, err := r.test(off, sector)
		if err != nil {
			return false, err
		}
		if i == 0 {
			first = o
		} else if o.sum != first.sum {
			return true, nil
		}
	}
	return false, nil
}

// leavingOut writes a stretch again, but for the sectors that are a multiple of step from off. Each piece begins with so many odd bytes, which shift the blocks behind them.
func (r *wholeRun) leavingOut(ctx context.Context, at, end, off, step, odd int64) error {
	for at < end {
		left := at + ((off-at)%step+step)%step
		to := min(left, end)
		first := min(at+odd, to)
		if err := r.inOrder(ctx, at, first, r.rewriteBlock); err != nil {
			return err
		}
		if err := r.inOrder(ctx, first, to, r.rewriteBlock); err != nil {
			return err
		}
		at = left + int64(r.dev.SectorSize())
	}
	return nil
}

// startOfRun is where the last lost stretch starts; gaps in it that are short against it, which may be answers from the card's memory, or worn places,
// don't end it.
func (r *wholeRun) startOfRun(lost []Stretch) int64 {
	start := lost[len(lost)-1].Offset
	sum := lost[len(lost)-1].Length
	for i := len(lost) - 2; i >= 0; i-- {
		if gap := start - lost[i].End(); gap > (sum+lost[i].Length)/8 {
			break
		}
		start = lost[i].Offset
		sum += lost[i].Length
	}
	return start
}
