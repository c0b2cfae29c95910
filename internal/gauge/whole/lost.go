package whole

import (
	"cmp"
	"context"
	"slices"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/gauge/probe"
)

// findLoss looks whether what is bad is the loss of a part of the card: all from a place on, a sixteenth of it and
// more, or addresses that repeat.
func (r *run) findLoss(ctx context.Context) (*gauge.Loss, error) {
	lost, total := r.lost()
	kept := r.limit - total // at the last reading; the middle was read before
	r.MergeMiddle()
	if len(lost) == 0 {
		if lost, total = r.lost(); len(lost) == 0 {
			return nil, nil
		}
	}
	if step, err := r.repeatsIn(ctx, lost, total); step > 0 || err != nil {
		return &gauge.Loss{Repeats: true, Real: step, Exact: true}, err
	}
	lost, total = r.lost()
	last := lost[len(lost)-1]
	switch {
	case lost[0].Offset == 0 && lost[0].Length >= leastLoss(0) && len(lost) < 8: // what was written first is lost
		return &gauge.Loss{
			Anywhere: true, Real: max(r.limit-lost[0].Length-gauge.Displaced, 0),
			Most: max(r.limit-lost[0].Length, kept),
		}, nil
	case last.End() == r.limit && r.limit == r.Dev.Size():
		return &gauge.Loss{Real: r.startOfRun(lost), Exact: true}, nil
	case total < r.limit/16:
		return nil, nil // single bad places
	}
	biggest := slices.MaxFunc(lost, func(a, b gauge.Stretch) int { return cmp.Compare(a.Length, b.Length) })
	if biggest.Offset == 0 { // as above, of a small card
		return &gauge.Loss{
			Anywhere: true, Real: max(r.limit-biggest.Length-gauge.Displaced, 0),
			Most: max(r.limit-biggest.Length, kept),
		}, nil
	}
	loss := &gauge.Loss{Real: biggest.Offset, Exact: true}
	if r.limit == r.Dev.Size() {
		loss.Tail = r.limit - biggest.End()
	}
	return loss, nil
}

// lost lists what is lost, and how much that is, bytes. Single places that were joined over what is good are bad
// places, and no loss of a part of the card.
func (r *run) lost() (lost []gauge.Stretch, total int64) {
	for _, e := range r.Bad.List {
		if e.State == gauge.Missing && e.Bytes() >= e.Length/8*7 {
			lost = append(lost, e)
			total += e.Bytes()
		}
	}
	return lost, total
}

// leastReal is the least distance at which addresses are taken to repeat, bytes. What has been written here and there
// may be some sectors apart by chance.
const leastReal = 64 << 10

// repeatsIn tells after which distance addresses repeat, if what is lost has been overwritten by what belongs
// elsewhere; 0 if it hasn't.
func (r *run) repeatsIn(ctx context.Context, lost []gauge.Stretch, total int64) (step int64, err error) {
	const samples = 16
	seen, all := 0, 0
	for _, e := range lost[max(len(lost)-samples, 0):] {
		for i := range int64(samples) {
			off := e.Offset + e.Length*i/samples/probe.SampleSize*probe.SampleSize
			o, err := r.Probe(off, min(probe.SampleSize, e.End()-off))
			if err != nil {
				return 0, err
			}
			if o.State != gauge.Missing { // it may have been written again since
				continue
			}
			all++
			for j, k := range o.Readings {
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
	if seen == 0 || seen < all || step < leastReal || step >= r.limit || total > beyond ||
		total < beyond-gauge.Displaced {
		return 0, nil
	}
	last, err := r.readsAsLast(ctx, lost[len(lost)-1].Offset, step)
	if err != nil || last {
		return 0, err
	}
	return step, nil
}

// readsAsLast tells whether a lost place reads as what was written last, wherever that was: when something else has
// been written, and the card's memory has forgotten what was before, it reads otherwise. A place at which addresses
// repeat doesn't change by that: those that may be the same, step apart, are left out. Before it is read first, as much
// is written, since a memory that stores late may still have to store what belongs there. What is written begins and
// ends elsewhere each time, so that what is written last, or stored last, is another sector; three times, since with
// one size of memory it may be the same one twice.
func (r *run) readsAsLast(ctx context.Context, off, step int64) (bool, error) {
	sector := int64(r.Dev.SectorSize())
	// all else begins at whole blocks: what is written last is another one now
	at := min(gauge.BlockSize+sector, r.limit/2/sector*sector)
	end := min(at+probe.Reach(r.limit), r.limit/4*3/sector*sector)
	var first probe.Outcome
	for i, sectors := range []int64{0, 3, 10} {
		odd := sectors * sector
		if err := r.leavingOut(ctx, at+odd, end-odd, off, step, odd); err != nil {
			return false, err
		}
		o, err := r.Probe(off, sector)
		if err != nil {
			return false, err
		}
		if i == 0 {
			first = o
		} else if o.Sum != first.Sum {
			return true, nil
		}
	}
	return false, nil
}

// leavingOut writes a stretch again, but for the sectors that are a multiple of step from off. Each piece begins with
// so many odd bytes, which shift the blocks behind them.
func (r *run) leavingOut(ctx context.Context, at, end, off, step, odd int64) error {
	for at < end {
		left := at + ((off-at)%step+step)%step
		to := min(left, end)
		first := min(at+odd, to)
		if err := r.InOrder(ctx, at, first, r.RewriteBlock); err != nil {
			return err
		}
		if err := r.InOrder(ctx, first, to, r.RewriteBlock); err != nil {
			return err
		}
		at = left + int64(r.Dev.SectorSize())
	}
	return nil
}

// startOfRun is where the last lost stretch starts; gaps in it that are short against it, which may be answers from the
// card's memory, or worn places, don't end it.
func (r *run) startOfRun(lost []gauge.Stretch) int64 {
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
