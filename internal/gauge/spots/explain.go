package spots

import (
	"context"
	"slices"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/gauge/probe"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// explain finds out what lost places and stamps at wrong places mean.
func (r *run) explain(ctx context.Context) error {
	if r.steps > 0 {
		real, err := r.repeatsAfter(ctx, r.steps)
		if err != nil {
			return err
		}
		if real > 0 {
			r.Report.Loss = &gauge.Loss{Repeats: true, Real: real, Exact: true}
			return nil
		}
	}
	if !slices.ContainsFunc(r.spots, func(s spot) bool { return s.state() == gauge.Missing }) {
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
	r.Report.Loss = loss
	return err
}

// lostReads is what the lost places read as.
func (r *run) lostReads() gauge.LostAs {
	var all []mark.Reading
	changing := false
	for i := range r.spots {
		if s := &r.spots[i]; s.state() == gauge.Missing {
			all = append(all, s.first.Readings...)
			changing = changing || s.first.Sum != s.second.Sum
		}
	}
	return probe.ReadsAs(all, changing)
}

// repeatsAfter finds out whether addresses repeat after a distance, or a part of it, by writing at one place and
// looking at the other. It returns the real size, or 0.
func (r *run) repeatsAfter(ctx context.Context, step int64) (int64, error) {
	sector := int64(r.Dev.SectorSize())
	if step%sector != 0 || step >= r.Dev.Size() {
		return 0, nil
	}
	defer r.phase(meter.Bound, 0)()
	// The distance itself is written last: when that shows, the card's memory has forgotten what was written before it
	// too.
	parts := func(d int64) (all []int64) {
		for _, k := range []int64{2, 3, 5, 7, 11, 13} {
			if d%(k*sector) == 0 {
				all = append(all, d/k)
			}
		}
		return append(all, d)
	}
	for real := step; ; {
		found, err := r.confirm(ctx, parts(real))
		if err != nil || found == 0 || found == real {
			return found, err
		}
		real = found
	}
}

// confirmPlaces is at how many places it is looked whether a distance shows; at none of them may what was written there
// stand.
const confirmPlaces = 3

// confirm gives the least of the distances at which writing at a place changes what another place reads; 0 if there is
// none.
func (r *run) confirm(ctx context.Context, distances []int64) (int64, error) {
	sector := int64(r.Dev.SectorSize())
	type pair struct{ low, high int64 }
	pairs := map[int64][]pair{}
	var low, high, all []int64
	taken := map[int64]bool{}
	for _, d := range distances {
		for try := 0; len(pairs[d]) < confirmPlaces && try < 1000; try++ {
			most := min(d, r.Dev.Size()-d) / sector
			p := r.random.Int64N(most) * sector
			if taken[p] || taken[p+d] || r.covered(p, sector) || r.covered(p+d, sector) {
				continue
			}
			taken[p], taken[p+d] = true, true
			pairs[d] = append(pairs[d], pair{p, p + d})
			low, high, all = append(low, p), append(high, p+d), append(all, p, p+d)
		}
	}
	shows := func(d int64) (bool, error) {
		if len(pairs[d]) == 0 {
			return r.seenAtBothEnds(d), nil
		}
		seen := 0
		for _, p := range pairs[d] {
			o, err := r.Probe(p.low, sector)
			if err != nil || o.State == gauge.Good {
				return false, err
			}
			if len(o.Readings) > 0 && o.Readings[0].Kind == mark.Elsewhere && o.Readings[0].Of*mark.Size == p.high {
				seen++ // at others, what displaces may have overwritten it
			}
		}
		return seen > 0, nil
	}
	if len(all) > 0 {
		last := distances[len(distances)-1]
		if _, err := r.stampAt(ctx, func() (bool, error) { return shows(last) }, all, low, high); err != nil {
			return 0, err
		}
	}
	best := int64(0)
	for _, d := range distances {
		yes, err := shows(d)
		if err != nil {
			return 0, err
		}
		if yes && (best == 0 || d < best) {
			best = d
		}
	}
	return best, nil
}

// seenAtBothEnds tells whether all spots whose sectors are a distance apart show that they are one: the card is so
// little too small that no other place is left to try.
func (r *run) seenAtBothEnds(d int64) bool {
	is := func(k mark.Reading, of int64) bool { return k.Kind == mark.Elsewhere && k.Of*mark.Size == of }
	seen := 0
	for off := int64(0); off < r.Dev.Size()-d && off < 64*probe.SampleSize; off += mark.Size {
		low, ok := r.readingAt(off)
		high, also := r.readingAt(off + d)
		if !ok || !also {
			continue
		}
		if !is(low, off+d) && !is(high, off) {
			return false
		}
		seen++
	}
	return seen > 0
}

// readingAt is what was read last where a spot is.
func (r *run) readingAt(off int64) (k mark.Reading, ok bool) {
	for i := range r.spots {
		if s := &r.spots[i]; off >= s.off && off < s.end() && len(s.second.Readings) > 0 {
			return s.second.Readings[(off-s.off)/mark.Size], true
		}
	}
	return k, false
}

// covered tells whether a sector is part of a spot.
func (r *run) covered(off, n int64) bool {
	i, _ := slices.BinarySearchFunc(r.spots, off, func(s spot, off int64) int {
		if s.end() <= off {
			return -1
		}
		return 1
	})
	return i < len(r.spots) && r.spots[i].off < off+n
}

// stampAt saves what stands in sectors, and writes stamps there, in the order of the lists. When it returns, nothing
// but the card answers for them; forgotten says when the card's memory doesn't either, and stampAt tells whether it
// said so.
func (r *run) stampAt(
	ctx context.Context, forgotten func() (bool, error), all []int64, lists ...[]int64,
) (bool, error) {
	sector := int64(r.Dev.SectorSize())
	var batch []journal.Place
	unread := map[int64]bool{}
	for _, off := range all {
		p, err := r.original(off, sector)
		switch {
		case card.IsBadPlace(err):
			unread[off] = true
		case err != nil:
			return false, err
		default:
			batch = append(batch, p)
		}
	}
	if err := r.keep(batch); err != nil {
		return false, err
	}
	r.extra = append(r.extra, all...)
	for _, list := range lists {
		for _, off := range list {
			if unread[off] {
				continue
			}
			if err := r.Put(off, sector); err != nil && !card.IsBadPlace(err) {
				return false, err
			}
		}
	}
	if ctx.Err() != nil {
		return false, context.Cause(ctx)
	}
	if err := r.Settle(); err != nil {
		return false, err
	}
	forgot, err := r.displace(ctx, mostPieces, forgotten)
	if err != nil {
		return false, err
	}
	return forgot, r.Settle()
}

// lookAgain reads the places once more that are right beyond the first lost one, after more has been written: it may be
// the card's memory that answered.
func (r *run) lookAgain(ctx context.Context) error {
	first := slices.IndexFunc(r.spots, func(s spot) bool { return s.state() == gauge.Missing })
	var doubtful []*spot
	for i := first; i < len(r.spots); i++ {
		s := &r.spots[i]
		if st := s.state(); !s.skipped && !s.failed && (st == gauge.Good || st == gauge.Shaky) {
			doubtful = append(doubtful, s)
		}
	}
	if len(doubtful) == 0 {
		return nil
	}
	defer r.phase(meter.Rewrite, fillMore)()
	if _, err := r.displace(ctx, fillMore, nil); err != nil {
		return err
	}
	if err := r.Settle(); err != nil {
		return err
	}
	for _, s := range doubtful {
		o, err := r.Probe(s.off, s.n)
		if err != nil {
			return err
		}
		if o.State == gauge.Missing {
			s.first, s.second = o, o
			r.memory = r.Report.Displaced
		}
	}
	return nil
}

// shape finds out how the lost places lie: all from one on to the card's end; all between two; or here and there. The
// last is no loss of a part of the card if they are few.
func (r *run) shape(ctx context.Context) (*gauge.Loss, error) {
	var tested []*spot
	for i := range r.spots {
		if s := &r.spots[i]; !s.skipped && !s.failed {
			tested = append(tested, s)
		}
	}
	lost := func(i int) bool { return tested[i].state() == gauge.Missing }
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
	if keeps, yes := anywhere(tested); yes {
		return &gauge.Loss{Anywhere: true, Real: keeps}, nil
	}
	if used, err := r.usedUp(ctx, tested); used || err != nil {
		return &gauge.Loss{Anywhere: true, Real: r.keptBytes(tested)}, err
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
	toTheEnd := last == n-1 && r.size == r.Dev.Size()
	switch {
	case !toTheEnd && count < max(n/20, 3):
		return nil, nil
	case !toTheEnd && inside < count*9/10 || inside < (last-start+1)*9/10:
		return &gauge.Loss{Anywhere: true}, nil // it is lost here and there: how much it holds, these places can't tell
	}
	if first, _ := tested[0].missing(r.Dev.SectorSize()); count == n && first == 0 {
		// it may keep what was written last, but no more of it
		return &gauge.Loss{Anywhere: true, Most: r.Report.Displaced}, nil
	}
	r.sentinel, _ = tested[last].missing(r.Dev.SectorSize())
	loss := &gauge.Loss{Exact: true}
	defer r.phase(meter.Bound, 0)()
	below := -int64(r.Dev.SectorSize())
	if start > 0 {
		below = tested[start-1].off
	}
	from, _ := tested[start].missing(r.Dev.SectorSize())
	real, err := r.boundary(ctx, below, from, true)
	if err != nil {
		return nil, err
	}
	loss.Real = real.from
	if real.exact() { // both sides, as they are now
		sector := int64(r.Dev.SectorSize())
		if real.from == 0 {
			return &gauge.Loss{Anywhere: true, Most: r.Report.Displaced}, nil
		}
		if o, err := r.Probe(real.from-sector, sector); err != nil || o.State == gauge.Missing {
			return &gauge.Loss{Anywhere: true, Most: r.Report.Displaced}, err
		}
	} else {
		loss.Exact, loss.Most = false, real.to
	}
	if !toTheEnd && last < n-1 && r.size == r.Dev.Size() {
		_, to := tested[last].missing(r.Dev.SectorSize())
		end, err := r.boundary(ctx, to, tested[last+1].off, false)
		if err != nil {
			return nil, err
		}
		loss.Tail = r.size - end.to
		loss.Exact = loss.Exact && end.exact()
	}
	return loss, nil
}

// anywhere tells whether the lost spots are those that were written last, or first, wherever they are: then the card
// gives out its room as it is asked for it and had no more, or keeps what was written last. It gives how much is kept
// of the spots, bytes.
func anywhere(tested []*spot) (keeps int64, yes bool) {
	byOrder := slices.SortedFunc(slices.Values(tested), func(a, b *spot) int { return a.order - b.order })
	isLost := func(s *spot) bool { return s.state() == gauge.Missing }
	kept := func(s *spot) bool { return !isLost(s) }
	const enough = 3
	for _, order := range [][]*spot{byOrder, reversed(byOrder)} {
		from := slices.IndexFunc(order, isLost)
		late := order[from:]
		if len(late) >= enough && from >= enough && !slices.ContainsFunc(late, kept) {
			for _, s := range order[:from] {
				keeps += s.n
			}
			return keeps, true
		}
	}
	return 0, false
}

// freshPlaces is how many sectors are tried to find out whether the card has any room left.
const freshPlaces = 16

// usedUp finds out whether the few lost spots, if they are the last that were written, are lost since the card has no
// room left: then what is written to any other place is lost too.
func (r *run) usedUp(ctx context.Context, tested []*spot) (bool, error) {
	last := slices.MaxFunc(tested, func(a, b *spot) int { return a.order - b.order })
	if last.state() != gauge.Missing {
		return false, nil
	}
	sector := int64(r.Dev.SectorSize())
	var at []int64
	var between []layout.Extent // two spots that are kept
	for i := 1; i < len(tested); i++ {
		if from := tested[i-1].end(); tested[i-1].state() == gauge.Good && tested[i].state() == gauge.Good &&
			tested[i].off-from >= sector {
			between = append(between, layout.Extent{Offset: from, Length: tested[i].off - from})
		}
	}
	for try := 0; len(between) > 0 && len(at) < freshPlaces && try < 100*freshPlaces; try++ {
		e := between[r.random.IntN(len(between))]
		off := e.Offset/sector*sector + r.random.Int64N(e.Length/sector)*sector
		if !r.covered(off, sector) && !slices.Contains(at, off) && !r.inPiece(off) {
			at = append(at, off)
		}
	}
	if len(at) < freshPlaces/2 {
		return false, nil
	}
	r.sentinel, _ = last.missing(r.Dev.SectorSize())
	if _, err := r.stampAt(ctx, r.forgotten, at, at, r.sentinels()); err != nil {
		return false, err
	}
	lost := 0
	for _, off := range at {
		o, err := r.Probe(off, sector)
		if err != nil {
			return false, err
		}
		if o.State == gauge.Missing {
			lost++
		}
	}
	return lost > len(at)*9/10, nil
}

// inPiece tells whether a sector was written with what stands there, and so has room.
func (r *run) inPiece(off int64) bool {
	return slices.ContainsFunc(r.displacing.pieces, func(p journal.Place) bool {
		e := extentOf(p)
		return off >= e.Offset && off < e.End()
	})
}

// keptBytes are those of the spots that are kept.
func (r *run) keptBytes(tested []*spot) (n int64) {
	for _, s := range tested {
		if s.state() == gauge.Good {
			n += s.n
		}
	}
	return n
}

func reversed[E any](all []E) []E {
	all = slices.Clone(all)
	slices.Reverse(all)
	return all
}

// missing gives the first and the last sector of a lost spot in which something is lost.
func (s *spot) missing(sector int) (first, last int64) {
	first = -1
	for i, k := range s.first.Readings {
		if probe.StateOf(k.Kind) == gauge.Missing {
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

// boundaryPlaces is how many sectors are tried at once.
const boundaryPlaces = 32

// bounds are between which places something is: not below from, and not above to.
type bounds struct {
	from, to int64 // bytes
}

func (b bounds) exact() bool { return b.from == b.to }

// boundary looks for the first sector that is other than those below it: lost, where those below hold (falls), or the
// other way round. below and above are sectors whose state is known.
func (r *run) boundary(ctx context.Context, below, above int64, falls bool) (bounds, error) {
	sector := int64(r.Dev.SectorSize())
	for above-below > sector {
		var at []int64
		for i := range int64(boundaryPlaces) {
			off := below + mulDiv((above-below)/sector, i+1, boundaryPlaces+1)*sector
			if off > below && off < above && (len(at) == 0 || off > at[len(at)-1]) && !r.covered(off, sector) {
				at = append(at, off)
			}
		}
		if len(at) == 0 {
			if at = r.within(below, above); len(at) == 0 {
				break
			}
		} else if forgot, err := r.stampAt(ctx, r.forgotten, at, at, r.sentinels()); err != nil {
			return bounds{}, err
		} else if !forgot { // what is right may be the memory's answer: where it is lost counts, and no more is known
			r.blind = true
		}
		found := above
		for _, off := range at {
			o, err := r.Probe(off, sector)
			if err != nil {
				return bounds{}, err
			}
			if (o.State == gauge.Missing) == falls {
				found = off
				break
			}
			if !r.blind {
				below = off
			}
		}
		if r.blind {
			return bounds{max(below+sector, 0), found}, nil
		}
		above = found
	}
	return bounds{above, above}, nil
}

// sentinels are written after what is to be seen: the sector that is known to be lost, and another one, since some
// cards read where nothing is kept as what was written last.
func (r *run) sentinels() []int64 {
	for i := range r.spots {
		if s := &r.spots[i]; !s.skipped && !s.failed && (r.sentinel < s.off || r.sentinel >= s.end()) {
			return []int64{r.sentinel, s.off}
		}
	}
	return []int64{r.sentinel}
}

// forgotten tells whether the card's memory has forgotten the sector that is known to be lost, which is written last.
func (r *run) forgotten() (bool, error) {
	o, err := r.Probe(r.sentinel, int64(r.Dev.SectorSize()))
	return o.State == gauge.Missing, err
}

// within are the sectors between two that are parts of spots, and so have stamps already.
func (r *run) within(below, above int64) (at []int64) {
	sector := int64(r.Dev.SectorSize())
	for off := below + sector; off < above; off += sector {
		if r.covered(off, sector) {
			at = append(at, off)
		}
	}
	return at
}
