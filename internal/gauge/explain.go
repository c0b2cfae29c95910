package gauge

import (
	"context"
	"slices"

	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/meter"
)

// explain finds out what lost places and stamps at wrong places mean.
func (r *spotsRun) explain(ctx context.Context) error {
	if r.steps > 0 {
		real, err := r.repeatsAfter(ctx, r.steps)
		if err != nil {
			return err
		}
		if real > 0 {
			r.rep.Loss = &Loss{Repeats: true, Real: real, Exact: true}
			return nil
		}
	}
	if !slices.ContainsFunc(r.spots, func(s spot) bool { return s.state() == Missing }) {
		return nil
	}
	if err := r.lookAgain(ctx); err != nil {
		return err
	}
	loss, err := r.shape(ctx)
	if loss != nil {
		loss.Cached = r.memory
		loss.ReadsAs = r.lostReads()
	}
	r.rep.Loss = loss
	return err
}

// lostReads says what the lost places read as.
func (r *spotsRun) lostReads() string {
	var all []mark.Reading
	changing := false
	for i := range r.spots {
		if s := &r.spots[i]; s.state() == Missing {
			all = append(all, s.first.readings...)
			changing = changing || s.first.sum != s.second.sum
		}
	}
	return readsAs(all, changing)
}

// repeatsAfter finds out whether addresses repeat after a distance, or a part of it, by writing at one place and looking at the other. It returns the
// real size, or 0.
func (r *spotsRun) repeatsAfter(ctx context.Context, step int64) (int64, error) {
	sector := int64(r.dev.SectorSize())
	if step%sector != 0 || step >= r.dev.Size() {
		return 0, nil
	}
	defer r.phase(meter.Bound, 0)()
	parts := func(d int64) (all []int64) {
		for _, k := range []int64{2, 3, 5, 7, 11, 13} {
			if d%(k*sector) == 0 {
				all = append(all, d/k)
			}
		}
		return all
	}
	real := int64(0)
	for distances := append(parts(step), step); ; distances = parts(real) {
		found, err := r.confirm(ctx, distances)
		if err != nil || found == 0 {
			return real, err
		}
		if real = found; real == step { // its parts have been tried in the same round
			return real, nil
		}
	}
}

// confirmPlaces is at how many places a distance must show.
const confirmPlaces = 3

// confirm gives the least of the distances at which writing at a place changes what another place reads; 0 if there is none.
func (r *spotsRun) confirm(ctx context.Context, distances []int64) (int64, error) {
	sector := int64(r.dev.SectorSize())
	type pair struct{ low, high int64 }
	pairs := map[int64][]pair{}
	var low, high, all []int64
	taken := map[int64]bool{}
	for _, d := range distances {
		for try := 0; len(pairs[d]) < confirmPlaces && try < 1000; try++ {
			most := min(d, r.dev.Size()-d) / sector
			p := r.random.Int64N(most) * sector
			if taken[p] || taken[p+d] || r.covered(p, sector) || r.covered(p+d, sector) {
				continue
			}
			taken[p], taken[p+d] = true, true
			pairs[d] = append(pairs[d], pair{p, p + d})
			low, high, all = append(low, p), append(high, p+d), append(all, p, p+d)
		}
	}
	if len(all) == 0 {
		return 0, nil
	}
	if err := r.stampAt(ctx, all, low, high); err != nil {
		return 0, err
	}
	best := int64(0)
	for _, d := range distances {
		shows := 0
		for _, p := range pairs[d] {
			o, err := r.test(p.low, sector)
			if err != nil {
				return 0, err
			}
			if len(o.readings) > 0 && o.readings[0].Kind == mark.Elsewhere && o.readings[0].Of*mark.Size == p.high {
				shows++
			}
		}
		if shows > 0 && shows == len(pairs[d]) && (best == 0 || d < best) {
			best = d
		}
	}
	return best, nil
}

// covered tells whether a sector is part of a spot.
func (r *spotsRun) covered(off, n int64) bool {
	i, _ := slices.BinarySearchFunc(r.spots, off, func(s spot, off int64) int {
		if s.end() <= off {
			return -1
		}
		return 1
	})
	return i < len(r.spots) && r.spots[i].off < off+n
}

// stampAt saves what stands in sectors, and writes stamps there, in the order of the lists. When it returns, nothing but the card answers for them.
func (r *spotsRun) stampAt(ctx context.Context, all []int64, lists ...[]int64) error {
	sector := int64(r.dev.SectorSize())
	var batch []journal.Place
	unread := map[int64]bool{}
	for _, off := range all {
		p, err := r.original(off, sector)
		switch {
		case failedThere(err):
			unread[off] = true
		case err != nil:
			return err
		default:
			batch = append(batch, p)
		}
	}
	if err := r.keep(batch); err != nil {
		return err
	}
	r.extra = append(r.extra, all...)
	for _, list := range lists {
		for _, off := range list {
			if unread[off] {
				continue
			}
			if err := r.put(off, sector); err != nil && !failedThere(err) {
				return err
			}
		}
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	fill := int64(fillFirst)
	if r.memory > 0 {
		fill = fillMore
	}
	if err := r.displace(ctx, fill); err != nil {
		return err
	}
	return r.settle()
}

// lookAgain reads the places once more that are right beyond the first lost one, after more has been written: it may be the card's memory that answered.
func (r *spotsRun) lookAgain(ctx context.Context) error {
	first := slices.IndexFunc(r.spots, func(s spot) bool { return s.state() == Missing })
	var doubtful []*spot
	for i := first; i < len(r.spots); i++ {
		s := &r.spots[i]
		if st := s.state(); !s.skipped && !s.failed && (st == Good || st == Shaky) {
			doubtful = append(doubtful, s)
		}
	}
	if len(doubtful) == 0 {
		return nil
	}
	defer r.phase(meter.Rewrite, fillMore)()
	if err := r.displace(ctx, fillMore); err != nil {
		return err
	}
	if err := r.settle(); err != nil {
		return err
	}
	for _, s := range doubtful {
		o, err := r.test(s.off, s.n)
		if err != nil {
			return err
		}
		if o.state == Missing {
			s.first, s.second = o, o
			r.memory = fillFirst
		}
	}
	return nil
}

// shape finds out how the lost places lie: all from one on to the card's end; all between two; or here and there. The last is no loss of a part of the
// card if they are few.
func (r *spotsRun) shape(ctx context.Context) (*Loss, error) {
	var tested []*spot
	for i := range r.spots {
		if s := &r.spots[i]; !s.skipped && !s.failed {
			tested = append(tested, s)
		}
	}
	lost := func(i int) bool { return tested[i].state() == Missing }
	n, count := len(tested), 0
	first, last := -1, -1
	for i := range tested {
		if lost(i) {
			if first < 0 {
				first = i
			}
			last = i
			count++
		}
	}
	if usedUp(tested) {
		return &Loss{}, nil
	}
	// The stretch that is lost: single lost places below it are bad places, and it ends where none follows.
	start := last
	for i, run := last, 0; i >= first; i-- {
		if lost(i) {
			start, run = i, 0
		} else if run++; run > 8 && run > (last-start+1)/8 {
			break
		}
	}
	inside := 0
	for i := start; i <= last; i++ {
		if lost(i) {
			inside++
		}
	}
	toTheEnd := last == n-1 && r.size == r.dev.Size()
	switch {
	case !toTheEnd && count < max(n/20, 3):
		return nil, nil
	case !toTheEnd && inside < count*9/10 || inside < (last-start+1)*9/10:
		return &Loss{}, nil // it is lost here and there: how much it holds, these places can't tell
	}
	loss := &Loss{Exact: true}
	defer r.phase(meter.Bound, 0)()
	below := -int64(r.dev.SectorSize())
	if start > 0 {
		below = tested[start-1].off
	}
	from, _ := tested[start].missing(r.dev.SectorSize())
	real, err := r.narrow(ctx, below, from, true)
	if err != nil {
		return nil, err
	}
	loss.Real = real
	if !toTheEnd && last < n-1 && r.size == r.dev.Size() {
		_, to := tested[last].missing(r.dev.SectorSize())
		end, err := r.narrow(ctx, to, tested[last+1].off, false)
		if err != nil {
			return nil, err
		}
		loss.Tail = r.size - end
	}
	return loss, nil
}

// usedUp tells whether the lost spots are those that were written last, wherever they are: then the card gives out its room as it is asked for it, and
// had no more.
func usedUp(tested []*spot) bool {
	byOrder := slices.SortedFunc(slices.Values(tested), func(a, b *spot) int { return a.order - b.order })
	from := slices.IndexFunc(byOrder, func(s *spot) bool { return s.state() == Missing })
	late := byOrder[from:]
	const enough = 3
	return len(late) >= enough && len(late) < len(tested) && !slices.ContainsFunc(late, func(s *spot) bool { return s.state() != Missing })
}

// missing gives the first and the last sector of a lost spot in which something is lost.
func (s *spot) missing(sector int) (first, last int64) {
	first = -1
	for i, k := range s.first.readings {
		if stateOf(k.Kind) == Missing {
			last = (s.off + int64(i)*mark.Size) / int64(sector) * int64(sector)
			if first < 0 {
				first = last
			}
		}
	}
	if first < 0 { // lost at the second reading only
		return s.off, s.end() - int64(sector)
	}
	return first, last
}

// narrowPlaces is how many sectors are tried at once.
const narrowPlaces = 32

// narrow looks for the first sector that is other than those below it: lost, where those below hold (falls), or the other way round. below and above are sectors whose
// state is known.
func (r *spotsRun) narrow(ctx context.Context, below, above int64, falls bool) (int64, error) {
	sector := int64(r.dev.SectorSize())
	for above-below > sector {
		var at []int64
		for i := range int64(narrowPlaces) {
			off := below + mulDiv((above-below)/sector, i+1, narrowPlaces+1)*sector
			if off > below && off < above && (len(at) == 0 || off > at[len(at)-1]) && !r.covered(off, sector) {
				at = append(at, off)
			}
		}
		if len(at) == 0 {
			at = r.within(below, above)
			if len(at) == 0 {
				return above, nil
			}
		} else if err := r.stampAt(ctx, at, at); err != nil {
			return 0, err
		}
		for _, off := range at {
			o, err := r.test(off, sector)
			if err != nil {
				return 0, err
			}
			if (o.state == Missing) == falls {
				above = off
				break
			}
			below = off
		}
	}
	return above, nil
}

// within are the sectors between two that are parts of spots, and so have stamps already.
func (r *spotsRun) within(below, above int64) (at []int64) {
	sector := int64(r.dev.SectorSize())
	for off := below + sector; off < above; off += sector {
		if r.covered(off, sector) {
			at = append(at, off)
		}
	}
	return at
}
