package gauge

import (
	"context"
	"slices"
	"time"

	"golang.org/x/sync/errgroup"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/meter"
)

// hopelessRow is how many blocks in a row must fail altogether before it is asked whether all that is left fails.
const hopelessRow = 4

// How far behind the head places are read back: from just behind it to beyond the reach of any card's memory, each a quarter
// farther than the one before. A lost place shows as soon as the card's memory has forgotten it.
const (
	nearest  = BlockSize
	farthest = 8 << 30
)

// leastLoss is how long a stretch that seems to be lost must be before it is taken for the end of what is real, bytes: a block of flash that fails is
// at most some MB.
func leastLoss(real int64) int64 { return max(6<<20, real/256) }

// behind looks back from the head: whether the start has been overwritten, and whether what was written before is still there. It returns a loss that is
// certain, and nil otherwise.
func (r *wholeRun) behind() (*Loss, error) {
	if r.cached() {
		if err := r.settle(); err != nil {
			return nil, err
		}
	}
	if loss, overwritten, err := r.repeats(); loss != nil || overwritten || err != nil {
		return loss, err
	}
	return r.trails()
}

// smallMemory bounds the memories for which a distance at which addresses seem to repeat is certain, bytes: with a larger memory than that distance, what is seen may be a multiple
// of it.
const smallMemory = 40 << 20

// repeats looks at the start of the card: there, a card whose addresses repeat has what was written last. overwritten tells whether the start was overwritten at all; then
// what is lost behind the head says nothing.
func (r *wholeRun) repeats() (loss *Loss, overwritten bool, err error) {
	is := func(off int64) (o outcome, d int64, err error) {
		o, err = r.test(off, min(sampleSize, r.head-off))
		return o, distance(o, off), err
	}
	for _, off := range []int64{0, 64 << 10} {
		if off >= r.head {
			break
		}
		_, d, err := is(off)
		if err != nil {
			return nil, false, err
		}
		overwritten = overwritten || d > 0
	}
	if !overwritten {
		return nil, false, nil
	}
	// From its start to some place all has been overwritten, several times over perhaps; only places near that one tell by how few.
	over, right := int64(0), r.head
	for right-over > sampleSize {
		mid := over + (right-over)/2/sampleSize*sampleSize
		if mid == over {
			mid = over + sampleSize
		}
		if _, d, err := is(mid); err != nil {
			return nil, true, err
		} else if d > 0 {
			over = mid
		} else {
			right = mid
		}
	}
	step, seen, same := int64(0), 0, true
	var first mark.Reading
	const samples = 64
	for i := range int64(samples) {
		off := right * i / samples / sampleSize * sampleSize
		if i == samples-1 {
			off = over
		}
		o, d, err := is(off)
		if err != nil {
			return nil, true, err
		}
		if d == 0 {
			continue
		}
		if seen++; seen == 1 {
			first = o.readings[0]
		}
		same = same && o.readings[0] == first
		step = card.Period(step, d)
	}
	switch certain := step > smallMemory || right >= step/8*5; {
	case step == 0 || step >= r.head, seen < samples*9/10, !certain, right <= 2*sampleSize: // so few places may also read as what was written last: more is known farther on
		return nil, true, nil
	case same: // everywhere the same: it reads as what was written last
		return nil, false, nil
	}
	return &Loss{Repeats: true, Real: step}, true, nil
}

// distance is how far from its place a stamp is that overwrote it, bytes: the greatest common divisor of those in an outcome; 0 if none did. Only what was
// written later, which is farther up, can have.
func distance(o outcome, off int64) (step int64) {
	for i, k := range o.readings {
		if d := k.Of*mark.Size - off - int64(i)*mark.Size; k.Kind == mark.Elsewhere && d > 0 {
			step = card.Period(step, d)
		}
	}
	return step
}

// trail are the places behind the head that are read back.
func trail(head int64) (at []int64) {
	for d := int64(nearest); d <= min(head, farthest); d += max(d/4, BlockSize) / sampleSize * sampleSize {
		at = append(at, (head-d)/sampleSize*sampleSize)
	}
	return at
}

// testAll tests places, several at once.
func (s *Subject) testAll(at []int64) ([]outcome, error) {
	all := make([]outcome, len(at))
	var workers errgroup.Group
	workers.SetLimit(inFlight)
	for i, off := range at {
		workers.Go(func() (err error) {
			all[i], err = s.test(off, sampleSize)
			return err
		})
	}
	return all, workers.Wait()
}

// trails reads back places behind the head. Where one is lost, the first lost one is looked for.
func (r *wholeRun) trails() (*Loss, error) {
	lowest, highest := int64(-1), int64(-1)
	at := trail(r.head)
	found, err := r.testAll(at)
	if err != nil {
		return nil, err
	}
	for i, off := range at {
		if found[i].state == Missing {
			j := slices.IndexFunc(found[i].readings, func(k mark.Reading) bool { return stateOf(k.Kind) == Missing })
			sector := int64(r.dev.SectorSize())
			lowest, highest = off+int64(max(j, 0))*mark.Size/sector*sector, max(highest, off)
		}
	}
	if lowest < 0 {
		return nil, nil
	}
	if o, err := r.test(0, sampleSize); err != nil {
		return nil, err
	} else if o.readings != nil && stateOf(o.readings[0].Kind) == Missing {
		return r.keepsTheLast(lowest)
	}
	real, err := r.boundary(0, lowest)
	if err != nil || highest-real < leastLoss(real) {
		return nil, err // perhaps a bad place; more will be known farther on
	}
	// Between the boundary and the highest lost place all must be lost; else these are bad places of a card of the right size.
	const samples = 24
	lost := 0
	for i := range int64(samples) {
		off := real + (highest-real)*i/samples/sampleSize*sampleSize
		o, err := r.test(off, sampleSize)
		if err != nil {
			return nil, err
		}
		if o.state == Missing {
			lost++
			r.lostSample = append(r.lostSample, o.readings...)
			again, err := r.test(off, sampleSize)
			if err != nil {
				return nil, err
			}
			r.changing = r.changing || again.sum != o.sum
		}
	}
	if lost < samples*9/10 {
		r.lostSample = nil
		return nil, nil
	}
	cached := r.head - highest - nearest
	if cached <= BlockSize {
		cached = 0
	}
	return &Loss{Real: real, Cached: cached}, nil
}

// keepsTheLast looks how much is kept of what was written last, where what was written first is lost: wherever it is written, the card keeps only so much.
func (r *wholeRun) keepsTheLast(lost int64) (*Loss, error) {
	kept := r.head // nothing but what was written last, at most
	for kept-lost > BlockSize {
		mid := lost + (kept-lost)/2/sampleSize*sampleSize
		o, err := r.test(mid, sampleSize)
		if err != nil {
			return nil, err
		}
		if o.state == Missing {
			lost = mid
		} else {
			kept = mid
		}
	}
	if lost < leastLoss(0) {
		return nil, nil // perhaps a bad place
	}
	const samples = 24
	for i := range int64(samples) {
		if o, err := r.test(lost*i/samples/sampleSize*sampleSize, sampleSize); err != nil || o.state != Missing {
			return nil, err
		}
	}
	return &Loss{Anywhere: true, Real: max(r.head-kept-Displaced, 0), Most: r.head - lost}, nil // a memory may have answered for the last of it
}

// boundary is the first lost sector between a place that holds and one that is lost, bytes.
func (r *wholeRun) boundary(good, lost int64) (int64, error) {
	sector := int64(r.dev.SectorSize())
	for lost-good > sector {
		mid := good + (lost-good)/2/sector*sector
		o, err := r.test(mid, sector)
		if err != nil {
			return 0, err
		}
		if o.state == Missing {
			lost = mid
		} else {
			good = mid
		}
	}
	return lost, nil
}

// limited asks, after many blocks in a row could not be written at all, whether anything can be written from there on. If not, the boundary is a limit
// of the reader, or of what is left of the card, and the test goes no farther.
func (r *wholeRun) limited() (bool, error) {
	sector := int64(r.dev.SectorSize())
	fails := func(off int64) (bool, error) {
		err := r.put(off, sector)
		if err == nil || card.IsBadPlace(err) {
			return err != nil, nil
		}
		return true, err
	}
	from := r.head - sector
	for i := range int64(16) {
		off := from + (r.limit-sector-from)*i/15/sector*sector
		if bad, err := fails(off); err != nil || !bad {
			r.failedRow = 0
			return false, err
		}
	}
	if bad, err := fails(0); err != nil || bad { // what was written before can't be written any more either
		if err == nil {
			err = &card.StuckError{Offset: r.lastGood(), Err: &card.IOError{Op: "write", Card: "the card", Offset: from, Err: fault.BadPlace}}
		}
		return false, err
	}
	good, bad := int64(0), from
	for bad-good > sector {
		mid := good + (bad-good)/2/sector*sector
		failed, err := fails(mid)
		if err != nil {
			return false, err
		}
		if failed {
			bad = mid
		} else {
			good = mid
		}
	}
	r.rep.Limit = bad
	r.bad = r.bad.Outside(bad, r.dev.Size())
	r.bad.Add(StretchOf(bad, r.limit-bad, Unwritable))
	r.head, r.limit = bad, bad
	return true, nil
}

// lastGood is where the first of the places starts that could not be written up to the head.
func (r *wholeRun) lastGood() int64 {
	at := r.head
	for i := len(r.bad.List) - 1; i >= 0 && r.bad.List[i].State == Unwritable && r.bad.List[i].End() == at; i-- {
		at = r.bad.List[i].Offset
	}
	return at
}

// cutShort ends a test whose verdict is known: what is real is written again where it was overwritten, and read back; and the card's end is looked at,
// which some cards keep.
func (r *wholeRun) cutShort(ctx context.Context, loss *Loss) error {
	r.rep.Loss = loss
	if loss.Anywhere {
		return nil
	}
	r.limit = loss.Real
	from := int64(0)
	if loss.Repeats {
		r.meter.Begin(meter.Rewrite, min(r.head-loss.Real, loss.Real))
		if err := r.inOrder(ctx, 0, min(r.head-loss.Real, loss.Real), r.rewriteBlock); err != nil {
			return err
		}
	} else if r.First == 0 || r.First == r.dev.Size() {
		if err := r.findTail(ctx, loss); err != nil {
			return err
		}
	}
	r.bad = r.bad.Outside(loss.Real, r.dev.Size()) // what was noted beyond is part of the loss
	if loss.Repeats {
		r.bad = r.bad.Outside(0, min(r.head-loss.Real, loss.Real)) // likewise; it is read once more
	}
	if err := r.flush(); err != nil {
		return err
	}
	if err := r.readBack(ctx, from, loss.Real, meter.ReadBack, false); err != nil {
		return err
	}
	if loss.Tail > 0 {
		return r.readBack(ctx, r.dev.Size()-loss.Tail, r.dev.Size(), meter.ReadBack, false)
	}
	return nil
}

// rewriteBlock writes stamps where some were before. A failure is found when they are read back.
func (r *wholeRun) rewriteBlock(buf []byte, off int64) error {
	err := r.writeAt(buf, off)
	r.meter.Add(int64(len(buf)))
	if card.IsBadPlace(err) {
		return nil
	}
	return err
}

// displace writes stamps again from the card's start on, so that its own memory has those and no longer what was written before.
func (r *wholeRun) displace(ctx context.Context, n int64) error {
	return r.inOrder(ctx, 0, n, r.rewriteBlock)
}

// tailProbes is how many places are tried at once beyond a loss.
const tailProbes = 64

// findTail looks whether the card keeps what is written to its end, as some do so that a table or a file system there looks right, and writes all of
// that.
func (r *wholeRun) findTail(ctx context.Context, loss *Loss) error {
	start := time.Now()
	defer func() { r.rep.TookPhase(meter.Bound, 0, start) }()
	r.meter.Begin(meter.Bound, 0)
	size, sector := r.dev.Size(), int64(r.dev.SectorSize())
	// What displaces is at the start, lost or not, and no place is tried there.
	memory := min(max(Displaced, 2*loss.Cached), size/2) / sector * sector
	from := max(loss.Real, memory)
	// Places are tried between the two bounds, until they are next to each other: lost below, kept from the upper one on.
	lost, keeps := from-sector, size
	for first := true; keeps-lost > sector; first = false {
		var at []int64
		for i := range int64(tailProbes) {
			off := lost + (keeps-lost)*(i+1)/tailProbes/sector*sector
			if off = min(off, size-sector); off > lost && (off < keeps) {
				at = append(at, off)
			}
		}
		if first {
			at = append(at, size-sector)
		}
		slices.Sort(at)
		at = slices.Compact(at)
		for _, off := range at {
			if err := r.put(off, sector); err != nil && !card.IsBadPlace(err) {
				return err
			}
		}
		if err := r.displace(ctx, memory); err != nil {
			return err
		}
		if err := r.settle(); err != nil {
			return err
		}
		for i := len(at) - 1; i >= 0; i-- {
			o, err := r.test(at[i], sector)
			if err != nil {
				return err
			}
			if o.state == Missing || o.state == Failing {
				lost = at[i]
				break
			}
			keeps = at[i]
		}
		if keeps == size {
			return nil
		}
	}
	loss.Tail = size - keeps
	loss.Exact = loss.Exact && (keeps > from || from == loss.Real)
	return r.inOrder(ctx, keeps, size, r.rewriteBlock)
}
