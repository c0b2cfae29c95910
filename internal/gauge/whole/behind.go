package whole

import (
	"context"
	"slices"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/gauge/probe"
	"zipstamp/internal/meter"
)

// leastLoss is how long a stretch that seems to be lost must be before it is taken for the end of what is real, bytes:
// a block of flash that fails is at most some MB.
func leastLoss(real int64) int64 { return max(6<<20, real/256) }

// behind looks back from the head: whether the start has been overwritten, and whether what was written before is still
// there. It returns a loss that is certain, and nil otherwise.
func (r *run) behind() (*gauge.Loss, error) {
	if r.Cached() {
		if err := r.Settle(); err != nil {
			return nil, err
		}
	}
	if loss, overwritten, err := r.repeats(); loss != nil || overwritten || err != nil {
		return loss, err
	}
	return r.trails()
}

// smallMemory bounds the memories for which a distance at which addresses seem to repeat is certain, bytes: with a
// larger memory than that distance, what is seen may be a multiple of it.
const smallMemory = 40 << 20

// repeats looks at the start of the card: there, a card whose addresses repeat has what was written last. overwritten
// tells whether the start was overwritten at all; then what is lost behind the head says nothing.
func (r *run) repeats() (loss *gauge.Loss, overwritten bool, err error) {
	is := func(off int64) (o probe.Outcome, d int64, err error) {
		o, err = r.Probe(off, min(probe.SampleSize, r.head-off))
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
	// From its start to some place all has been overwritten, several times over perhaps; only places near that one tell
	// by how few.
	over, right := int64(0), r.head
	for right-over > probe.SampleSize {
		mid := over + (right-over)/2/probe.SampleSize*probe.SampleSize
		if mid == over {
			mid = over + probe.SampleSize
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
		off := right * i / samples / probe.SampleSize * probe.SampleSize
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
			first = o.Readings[0]
		}
		same = same && o.Readings[0] == first
		step = card.Period(step, d)
	}
	switch certain := step > smallMemory || right >= step/8*5; {
	// so few places may also read as what was written last: more is known farther on
	case step == 0 || step >= r.head, seen < samples*9/10, !certain, right <= 2*probe.SampleSize:
		return nil, true, nil
	case same: // everywhere the same: it reads as what was written last
		return nil, false, nil
	}
	return &gauge.Loss{Repeats: true, Real: step}, true, nil
}

// distance is how far from its place a stamp is that overwrote it, bytes: the greatest common divisor of those in an
// outcome; 0 if none did. Only what was written later, which is farther up, can have.
func distance(o probe.Outcome, off int64) (step int64) {
	for i, k := range o.Readings {
		if d := k.Of*mark.Size - off - int64(i)*mark.Size; k.Kind == mark.Elsewhere && d > 0 {
			step = card.Period(step, d)
		}
	}
	return step
}

// trails reads back places behind the head. Where one is lost, the first lost one is looked for.
func (r *run) trails() (*gauge.Loss, error) {
	lowest, highest := int64(-1), int64(-1)
	at := probe.Trail(r.head)
	found, err := r.ProbeAll(at)
	if err != nil {
		return nil, err
	}
	for i, off := range at {
		if found[i].State == gauge.Missing {
			j := slices.IndexFunc(found[i].Readings, func(k mark.Reading) bool {
				return probe.StateOf(k.Kind) == gauge.Missing
			})
			sector := int64(r.Dev.SectorSize())
			lowest, highest = off+int64(max(j, 0))*mark.Size/sector*sector, max(highest, off)
		}
	}
	if lowest < 0 {
		return nil, nil
	}
	if o, err := r.Probe(0, probe.SampleSize); err != nil {
		return nil, err
	} else if o.Readings != nil && probe.StateOf(o.Readings[0].Kind) == gauge.Missing {
		return r.keepsTheLast(lowest)
	}
	real, err := r.boundary(0, lowest)
	if err != nil || highest-real < leastLoss(real) {
		return nil, err // perhaps a bad place; more will be known farther on
	}
	// Between the boundary and the highest lost place all must be lost; else these are bad places of a card of the
	// right size.
	const samples = 24
	lost := 0
	for i := range int64(samples) {
		off := real + (highest-real)*i/samples/probe.SampleSize*probe.SampleSize
		o, err := r.Probe(off, probe.SampleSize)
		if err != nil {
			return nil, err
		}
		if o.State == gauge.Missing {
			lost++
			r.LostSample = append(r.LostSample, o.Readings...)
			again, err := r.Probe(off, probe.SampleSize)
			if err != nil {
				return nil, err
			}
			r.Changing = r.Changing || again.Sum != o.Sum
		}
	}
	if lost < samples*9/10 {
		r.LostSample = nil
		return nil, nil
	}
	cached := r.head - highest - probe.Nearest
	if cached <= gauge.BlockSize {
		cached = 0
	}
	return &gauge.Loss{Real: real, Cached: cached}, nil
}

// keepsTheLast looks how much is kept of what was written last, where what was written first is lost: wherever it is
// written, the card keeps only so much.
func (r *run) keepsTheLast(lost int64) (*gauge.Loss, error) {
	kept := r.head // nothing but what was written last, at most
	for kept-lost > gauge.BlockSize {
		mid := lost + (kept-lost)/2/probe.SampleSize*probe.SampleSize
		o, err := r.Probe(mid, probe.SampleSize)
		if err != nil {
			return nil, err
		}
		if o.State == gauge.Missing {
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
		if o, err := r.Probe(lost*i/samples/probe.SampleSize*probe.SampleSize, probe.SampleSize); err != nil ||
			o.State != gauge.Missing {
			return nil, err
		}
	}
	// a memory may have answered for the last of it
	return &gauge.Loss{Anywhere: true, Real: max(r.head-kept-gauge.Displaced, 0), Most: r.head - lost}, nil
}

// boundary is the first lost sector between a place that holds and one that is lost, bytes.
func (r *run) boundary(good, lost int64) (int64, error) {
	sector := int64(r.Dev.SectorSize())
	for lost-good > sector {
		mid := good + (lost-good)/2/sector*sector
		o, err := r.Probe(mid, sector)
		if err != nil {
			return 0, err
		}
		if o.State == gauge.Missing {
			lost = mid
		} else {
			good = mid
		}
	}
	return lost, nil
}

// limited asks, after many blocks in a row could not be written at all, whether anything can be written from there on.
// If not, the boundary is a limit of the reader, or of what is left of the card, and the test goes no farther.
func (r *run) limited() (bool, error) {
	sector := int64(r.Dev.SectorSize())
	fails := func(off int64) (bool, error) {
		err := r.Put(off, sector)
		if err == nil || card.IsBadPlace(err) {
			return err != nil, nil
		}
		return true, err
	}
	from := r.head - sector
	for i := range int64(16) {
		off := from + (r.limit-sector-from)*i/15/sector*sector
		if bad, err := fails(off); err != nil || !bad {
			r.FailedRow = 0
			return false, err
		}
	}
	if bad, err := fails(0); err != nil || bad { // what was written before can't be written any more either
		if err == nil {
			err = &card.StuckError{
				Offset: r.lastGood(),
				Err:    &card.IOError{Op: "write", Card: "the card", Offset: from, Err: fault.BadPlace},
			}
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
	r.Report.Limit = bad
	r.Bad = r.Bad.Outside(bad, r.Dev.Size())
	r.Bad.Add(gauge.StretchOf(bad, r.limit-bad, gauge.Unwritable))
	r.head, r.limit = bad, bad
	return true, nil
}

// lastGood is where the first of the places starts that could not be written up to the head.
func (r *run) lastGood() int64 {
	at := r.head
	for i := len(r.Bad.List) - 1; i >= 0 && r.Bad.List[i].State == gauge.Unwritable && r.Bad.List[i].End() == at; i-- {
		at = r.Bad.List[i].Offset
	}
	return at
}

// cutShort ends a test whose verdict is known: what is real is written again where it was overwritten, and read back;
// and the card's end is looked at, which some cards keep.
func (r *run) cutShort(ctx context.Context, loss *gauge.Loss) error {
	r.Report.Loss = loss
	if loss.Anywhere {
		return nil
	}
	r.limit = loss.Real
	from := int64(0)
	if loss.Repeats {
		r.Progress.Begin(meter.Rewrite, min(r.head-loss.Real, loss.Real))
		if err := r.InOrder(ctx, 0, min(r.head-loss.Real, loss.Real), r.RewriteBlock); err != nil {
			return err
		}
	} else if r.First == 0 || r.First == r.Dev.Size() {
		if err := r.findTail(ctx, loss); err != nil {
			return err
		}
	}
	r.Bad = r.Bad.Outside(loss.Real, r.Dev.Size()) // what was noted beyond is part of the loss
	if loss.Repeats {
		r.Bad = r.Bad.Outside(0, min(r.head-loss.Real, loss.Real)) // likewise; it is read once more
	}
	if err := r.Flush(); err != nil {
		return err
	}
	if err := r.ReadBack(ctx, from, loss.Real, meter.ReadBack, nil); err != nil {
		return err
	}
	if loss.Tail > 0 {
		return r.ReadBack(ctx, r.Dev.Size()-loss.Tail, r.Dev.Size(), meter.ReadBack, nil)
	}
	return nil
}

// displace writes stamps again from the card's start on, so that its own memory has those and no longer what was
// written before.
func (r *run) displace(ctx context.Context, n int64) error {
	return r.InOrder(ctx, 0, n, r.RewriteBlock)
}

// leastTail is the least that a card is said to keep at its end, bytes: a card that gives out its room as it is asked
// for it keeps what earlier tests and systems wrote there.
const leastTail = 1 << 20

// scattered says of a loss that so many of the places tried beyond it are kept, between lost ones: earlier writing has
// got that room from a card that gives it out as it is asked for it, and how much that is can be told only roughly.
func scattered(loss *gauge.Loss, kept, of int, size int64) {
	loss.Anywhere, loss.Exact = true, false
	loss.Most = loss.Real + 2*int64(kept)*((size-loss.Real)/int64(of)) // half as much is the best guess
}

// tailProbes is how many places are tried at once beyond a loss.
const tailProbes = 64

// findTail looks whether the card keeps what is written to its end, as some do so that a table or a file system there
// looks right, and writes all of that.
func (r *run) findTail(ctx context.Context, loss *gauge.Loss) error {
	start := time.Now()
	defer func() { r.Report.TookPhase(meter.Bound, 0, start) }()
	r.Progress.Begin(meter.Bound, 0)
	size, sector := r.Dev.Size(), int64(r.Dev.SectorSize())
	// What displaces is at the start, lost or not, and no place is tried there.
	memory := min(max(gauge.Displaced, 2*loss.Cached), size/2) / sector * sector
	from := max(loss.Real, memory)
	// Places are tried between the two bounds, until they are next to each other: lost below, kept from the upper one
	// on.
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
			if err := r.Put(off, sector); err != nil && !card.IsBadPlace(err) {
				return err
			}
		}
		if err := r.displace(ctx, memory); err != nil {
			return err
		}
		if err := r.Settle(); err != nil {
			return err
		}
		kept := 0
		for i := len(at) - 1; i >= 0; i-- {
			o, err := r.Probe(at[i], sector)
			if err != nil {
				return err
			}
			switch isLost := o.State == gauge.Missing || o.State == gauge.Failing; {
			case isLost && lost < at[i] && keeps > at[i]:
				lost = at[i]
			case !isLost && keeps > at[i] && lost < at[i]:
				keeps = at[i]
			case !isLost && keeps > at[i]: // below one that is lost
				kept++
			}
			if !first && lost == at[i] {
				break
			}
		}
		if first && kept > 0 {
			scattered(loss, kept, len(at), size)
			return nil
		}
		if keeps == size {
			return nil
		}
	}
	if size-keeps < leastTail { // it was written before this test
		loss.Exact = false
		return nil
	}
	loss.Tail = size - keeps
	loss.Exact = loss.Exact && (keeps > from || from == loss.Real)
	return r.InOrder(ctx, keeps, size, r.RewriteBlock)
}
