package gauge

import (
	"bytes"
	"cmp"
	"context"
	"slices"
	"time"

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
	defer func() { r.rep.took(phase, to-from, start) }()
	for at := from; at < to; {
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
	case failedThere(err):
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
		case failedThere(err): // then the first reading counts
		case err != nil:
			return err
		default:
			second = r.judge(other, off)
			changing = !bytes.Equal(buf, other)
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	var e Extent
	add := func() {
		if e.Length > 0 {
			r.bad.add(e)
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
		case state == Worn && r.bad.at(off+int64(i)*mark.Size) == Worn:
			// counted before, when a block was read that is read again
		case state == Worn:
			r.bad.bits += int64(one.Bits)
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
		e = Extent{at, mark.Size, state}
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
		r.bad.add(e)
	}
	if len(failed) == 0 {
		r.bad.add(Extent{off, mark.Size, Shaky})
	}
	return err
}

// Reach is how much of what was written last a card is expected to have in its own memory at most, bytes: up to a GiB, but no more than a part of a
// small card.
func Reach(size int64) int64 {
	return min(max(size/64, 32<<20), 1<<30, size/4) / sampleSize * sampleSize
}

// again reads the end of the card again, after so much has been written elsewhere that the card's own memory can't answer for it.
func (r *wholeRun) again(ctx context.Context) error {
	n := Reach(r.limit)
	if n == 0 {
		return nil
	}
	r.meter.Begin(meter.Rewrite, n)
	if err := r.displace(ctx, n); err != nil {
		return err
	}
	if err := r.flush(); err != nil {
		return err
	}
	return r.readBack(ctx, (r.limit-n)/BlockSize*BlockSize, r.limit, meter.ReadBack, false)
}

// findLoss looks whether what is bad is the loss of a part of the card: all from a place on, or a sixteenth of it and more.
func (r *wholeRun) findLoss() *Loss {
	var lost []Extent
	total := int64(0)
	for _, e := range r.bad.list {
		if e.State == Missing {
			lost = append(lost, e)
			total += e.Length
		}
	}
	if len(lost) == 0 {
		return nil
	}
	last := lost[len(lost)-1]
	switch {
	case last.End() == r.limit && r.limit == r.dev.Size():
		return &Loss{Real: r.startOfRun(lost), Exact: true}
	case total < r.limit/16:
		return nil // single bad places
	}
	biggest := slices.MaxFunc(lost, func(a, b Extent) int { return cmp.Compare(a.Length, b.Length) })
	loss := &Loss{Real: biggest.Offset, Exact: true}
	if r.limit == r.dev.Size() {
		loss.Tail = r.limit - biggest.End()
	}
	return loss
}

// startOfRun is where the last lost stretch starts; gaps in it that are short against it, which may be answers from the card's memory, or worn places,
// don't end it.
func (r *wholeRun) startOfRun(lost []Extent) int64 {
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
