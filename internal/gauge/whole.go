package gauge

import (
	"context"
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// Whole writes sector stamps over a card from its start to its end, and reads them all back. What was on the card is lost.
//
// While it writes, it looks back every now and then: a card that holds less than it claims is known, with its real size, soon after that has been
// passed. Then what is real is read back, and the rest is not waited for.
type Whole struct {
	Device   card.Device
	Meter    *meter.Meter
	Nonce    mark.Nonce // a new one for each test
	First    int64      // test only so many bytes, a multiple of the sector; 0: all
	ToTheEnd bool       // go on to the end also when the card has been found out
	Carry    *Progress  // carry on a test; its Nonce and First count
	Keep     func(Progress) error
	Expect   func(Expectation)
	Begun    func() // called when the first write has been done, and what was on the card is lost; may be nil
}

// Expectation is how long a test will take, told when its speed is known.
type Expectation struct {
	Rate  float64       // of writing, bytes a second
	Write time.Duration // that is left
	Read  time.Duration // if reading is as fast
}

// Progress is how far a test has come, for carrying on.
type Progress struct {
	Nonce   mark.Nonce    `json:"nonce"`
	Size    int64         `json:"size"`    // of the card, bytes
	First   int64         `json:"first"`   // bytes that are tested
	Head    int64         `json:"head"`    // bytes that are written, and on the medium
	Back    int64         `json:"back"`    // bytes that have been read back
	Bad     []Stretch     `json:"bad"`     // what is known to be bad
	Bits    int64         `json:"bits"`    // that were wrong
	Writing []meter.Point `json:"writing"` // speeds
	Reading []meter.Point `json:"reading"`
}

// valid says why a progress can't be that of a card with so many bytes; nil if it can.
func (p Progress) valid(size int64) error {
	switch {
	case p.Size != size:
		return fmt.Errorf("it is of a card with %d bytes, and this one has %d", p.Size, size)
	case p.First <= 0 || p.First > size || p.Head < 0 || p.Head > p.First || p.Back < 0 || p.Back > p.Head || p.Head%BlockSize != 0 && p.Head != p.First || len(p.Bad) > MaxStretches:
		return fmt.Errorf("its numbers make no sense")
	}
	end := int64(0)
	for _, e := range p.Bad {
		if e.Offset < end || e.Length <= 0 || e.Length > p.First-e.Offset || Rank(e.State) < Rank(Shaky) {
			return fmt.Errorf("its list of bad places makes no sense")
		}
		end = e.End()
	}
	return nil
}

// Still tells whether the card holds what a test that is to be carried on has written: whether it is that card, and nothing else was written since.
func (p Progress) Still(d card.Device) (bool, error) {
	if err := p.valid(d.Size()); err != nil {
		return false, err
	}
	s := &Subject{dev: d, run: mark.NewRun(p.Nonce), rep: &Report{}}
	if err := s.open(1); err != nil {
		return false, err
	}
	defer s.close()
	right, places := 0, 0
	for i := range int64(16) {
		off := i * (p.Head / 16) / sampleSize * sampleSize
		if off+sampleSize > p.Head {
			break
		}
		o, err := s.test(off, sampleSize)
		if err != nil {
			return false, err
		}
		places++
		if o.state != Failing && o.state != Missing || p.Head > 0 && s.ours(o) {
			right++
		}
	}
	return places > 0 && right > places/2, nil
}

// ours tells whether there are stamps of this run, be it of other places.
func (s *Subject) ours(o outcome) bool {
	for _, r := range o.readings {
		if r.Kind == mark.Elsewhere {
			return true
		}
	}
	return false
}

// keepEvery is how often the progress is kept.
const keepEvery = 10 * time.Second

// wholeRun is a test at work.
type wholeRun struct {
	Whole
	Subject
	asked    int64 // bytes that are to be tested
	limit    int64 // bytes that still are, since more was learnt
	head     int64 // written up to here
	back     int64 // read back up to here
	kept     time.Time
	expected bool

	failures atomic.Int64 // accesses that failed

	mu         sync.Mutex // guards what the workers find
	bad        Bad
	middle     Bad // of what was written once more, before that
	failedRow  int     // blocks in a row of which nothing could be written
	reread     int
	lostSample []mark.Reading
	changing   bool
	writing    meter.Curve
	reading    meter.Curve
}

// Run does the test. The report is never nil, and says what was found also where the test did not come to its end; then the error says why: the cause
// of ctx's end, or one of the card.
func (w Whole) Run(ctx context.Context) (*Report, error) {
	r := &wholeRun{Whole: w, limit: w.First, kept: time.Now()}
	if r.limit == 0 {
		r.limit = w.Device.Size()
	}
	if c := w.Carry; c != nil {
		if err := c.valid(w.Device.Size()); err != nil {
			return &Report{Method: ByWhole, Verdict: Inconclusive, Claimed: w.Device.Size()}, err
		}
		r.Nonce, r.limit, r.head = c.Nonce, c.First, c.Head
	}
	r.asked = r.limit
	rep := &Report{Method: ByWhole, Claimed: w.Device.Size(), Nonce: r.Nonce, Resumed: w.Carry != nil}
	r.Subject = Subject{dev: w.Device, meter: w.Meter, run: mark.NewRun(r.Nonce), rep: rep}
	defer r.close()
	if err := r.open(inFlight + 1); err != nil {
		rep.Verdict = Inconclusive
		return rep, err
	}
	err := r.story(ctx)
	if err != nil && r.dev.Flush() == nil { // what is not on the medium can't be counted on
		r.keep()
	}
	r.finish(err)
	return rep, err
}

// story is the test from its beginning to its end.
func (r *wholeRun) story(ctx context.Context) error {
	if r.Carry != nil {
		if err := r.takeOver(ctx); err != nil {
			return err
		}
	}
	loss, err := r.write(ctx)
	switch {
	case err != nil:
		return err
	case loss != nil && r.ToTheEnd:
		if err := r.flush(); err != nil {
			return err
		}
		if err := r.readBack(ctx, loss.Real, r.limit, meter.ReadBack, false); err != nil {
			return err
		}
	}
	if loss != nil {
		return r.cutShort(ctx, loss)
	}
	if err := r.flush(); err != nil {
		return err
	}
	if err := r.again(ctx); err != nil {
		return err
	}
	if err := r.readBack(ctx, r.back, r.limit, meter.ReadBack, true); err != nil {
		return err
	}
	switch loss, err = r.findLoss(ctx); {
	case err != nil:
		return err
	case loss != nil && loss.Repeats: // what was overwritten is written once more, and then shows whether it is bad
		return r.cutShort(ctx, loss)
	}
	r.rep.Loss = loss
	return nil
}

// takeOver reads all that the test wrote before it was interrupted. What is not there any more may have been overwritten by somebody else, and says nothing of the card: it is
// written again, so that a verdict rests only on what this run has written. Where something was, all is read once more, since to write it may have overwritten what was right.
func (r *wholeRun) takeOver(ctx context.Context) error {
	r.back = max(r.head-Reach(r.limit), 0) / BlockSize * BlockSize // the card's memory may answer for the last of it
	for range 2 {
		if err := r.readBack(ctx, 0, r.head, meter.ReadBack, false); err != nil {
			return err
		}
		found := r.bad.List
		r.bad = Bad{}
		if len(found) == 0 {
			return nil
		}
		r.reread, r.lostSample, r.changing = 0, nil, false
		r.meter.Begin(meter.Rewrite, 0)
		r.writing.Start(time.Now())
		at := int64(0)
		for _, e := range found {
			from, to := max(at, e.Offset/BlockSize*BlockSize), min((e.End()+BlockSize-1)/BlockSize*BlockSize, r.head)
			if from >= to {
				continue
			}
			at, r.back = to, min(r.back, from)
			if err := r.inOrder(ctx, from, to, r.writeBlock); err != nil {
				return err
			}
		}
		if err := r.flush(); err != nil {
			return err
		}
	}
	return nil
}

// finish completes the report.
func (r *wholeRun) finish(err error) {
	rep := r.rep
	rep.Tested = r.asked
	if err != nil && rep.Loss == nil {
		rep.Tested = r.back
	}
	r.mergeMiddle()
	rep.Forgive(r.dev, &r.bad)
	whole := r.bad
	if l := rep.Loss; l != nil {
		l.ReadsAs = readsAs(r.lostSample, r.changing)
		r.bad = whole.Outside(l.Real, rep.Claimed-l.Tail)
		if l.Anywhere {
			r.bad = Bad{} // what is lost where, is a matter of when it was written
		}
	}
	if rep.Limit > 0 {
		r.bad = whole.Outside(rep.Limit, rep.Claimed)
	}
	rep.Bad = r.bad.Sectors()
	rep.Extents = r.extents(whole)
	rep.Writing, rep.Reading = meter.Join(r.carried().Writing, r.writing.Points()), meter.Join(r.carried().Reading, r.reading.Points())
	rep.Judge(err == nil)
}

// carried is what was known when the test was carried on; the zero value if it wasn't.
func (r *wholeRun) carried() (p Progress) {
	if r.Carry != nil {
		return *r.Carry
	}
	return p
}

// extents lists all that is claimed. Of what is beyond a loss, only a tail was tested.
func (r *wholeRun) extents(all Bad) []Stretch {
	tested, size := r.rep.Tested, r.rep.Claimed
	if l := r.rep.Loss; l != nil {
		tested = r.asked
		if l.Anywhere {
			list := []Stretch{StretchOf(0, r.head, Missing)}
			if r.head < size {
				list = append(list, StretchOf(r.head, size-r.head, Unwritten))
			}
			return list
		}
		state := Missing
		if l.Repeats {
			state, tested = Repeating, size
		}
		all = all.Outside(l.Real, size-l.Tail)
		if end := min(tested, size-l.Tail); end > l.Real {
			all.Add(StretchOf(l.Real, end-l.Real, state))
		}
	}
	list := all.Cover(tested)
	if tested < size {
		list = append(list, StretchOf(tested, size-tested, Unwritten))
	}
	return list
}

// keep keeps the progress, so that the test can be carried on. It is not worth an error if that fails: the test itself goes on.
func (r *wholeRun) keep() {
	r.kept = time.Now()
	if r.Keep == nil || r.rep.Loss != nil {
		return
	}
	past := r.carried()
	_ = r.Keep(Progress{
		Nonce: r.Nonce, Size: r.dev.Size(), First: r.limit, Head: r.head, Back: r.back, Bad: r.bad.List, Bits: r.bad.Bits,
		Writing: meter.Join(past.Writing, r.writing.Points()), Reading: meter.Join(past.Reading, r.reading.Points()),
	})
}

// stride is how far the head goes from one look back to the next: often enough to find a loss within a hundredth of the real size, and seldom
// enough to cost no time.
func (r *wholeRun) stride() int64 {
	const least, most = 8 << 20, 32 << 20 // the latter as soon as that is no large part of what is written
	return max(min(max(least, r.head/64), most), r.head/200) / BlockSize * BlockSize
}

// write writes to the limit, and looks back on the way. It returns the loss that shows.
func (r *wholeRun) write(ctx context.Context) (*Loss, error) {
	if r.head > 0 { // carried on: what the last look back would have shown is seen now
		if loss, err := r.behind(); loss != nil || err != nil {
			return r.found(loss), err
		}
	}
	if r.head == 0 { // what was on the card is lost: its table goes first, and alone, so that it never looks as if it could start a board
		if err := r.put(0, int64(r.dev.SectorSize())); err != nil && !card.IsBadPlace(err) {
			return nil, err
		}
		if err := r.dev.Flush(); err != nil {
			return nil, err
		}
	}
	r.meter.Begin(meter.Write, r.limit-r.head)
	start, from := time.Now(), r.head
	defer func() { r.rep.TookPhase(meter.Write, r.head-from, start) }()
	r.writing.Start(start)
	var known *Loss
	for r.head < r.limit {
		to := min(r.head+r.stride(), r.limit)
		if err := r.inOrder(ctx, r.head, to, r.writeBlock); err != nil {
			return nil, err
		}
		r.head = to
		r.expect(from, start)
		if r.failedRow >= hopelessRow {
			if limited, err := r.limited(); err != nil || limited {
				return nil, err
			}
		}
		if known == nil {
			loss, err := r.behind()
			if err != nil {
				return nil, err
			}
			if known = r.found(loss); known != nil && !r.ToTheEnd {
				return known, nil
			}
		}
		if time.Since(r.kept) > keepEvery {
			if err := r.dev.Flush(); err != nil {
				return nil, err
			}
			r.keep()
		}
		r.writing.Start(time.Now()) // looking back is no writing
	}
	return known, nil
}

// found notes where the head was when a loss was found; there may be none.
func (r *wholeRun) found(loss *Loss) *Loss {
	if loss != nil {
		loss.Exact, r.rep.Early = !loss.Anywhere, r.head
	}
	return loss
}

// expect says once how long the test will take, when it has gone on for long enough to know.
func (r *wholeRun) expect(from int64, start time.Time) {
	const enough = 2 * time.Second
	took := time.Since(start)
	if r.expected || took < enough || r.Expect == nil {
		return
	}
	r.expected = true
	rate := float64(r.head-from) / took.Seconds()
	in := func(bytes int64) time.Duration { return time.Duration(float64(bytes) / rate * float64(time.Second)) }
	r.Expect(Expectation{Rate: rate, Write: in(r.limit - r.head), Read: in(r.limit)})
}

func (r *wholeRun) writeBlock(buf []byte, off int64) error {
	err := r.writeAt(buf, off)
	if err != nil && !card.IsBadPlace(err) {
		return err
	}
	if err != nil {
		err = r.writeNarrowly(buf, off)
	} else {
		r.mu.Lock()
		r.failedRow = 0
		r.mu.Unlock()
	}
	if err == nil && r.Begun != nil {
		r.Begun()
		r.Begun = nil
	}
	r.writing.Mark(off, int64(len(buf)), time.Now())
	r.meter.Add(int64(len(buf)))
	return err
}

// writeNarrowly writes what can be written of a block that failed, and notes the rest.
func (r *wholeRun) writeNarrowly(buf []byte, off int64) error {
	any := false
	failed, err := r.narrow(off, int64(len(buf)), func(at, n int64) error {
		err := r.writeAt(buf[at-off:at-off+n], at)
		any = any || err == nil
		return err
	})
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, e := range failed {
		r.bad.Add(StretchOf(e.Offset, e.Length, Unwritable))
	}
	if len(failed) == 0 {
		r.bad.Add(StretchOf(off, mark.Size, Shaky))
	}
	if any {
		r.failedRow = 0
	} else {
		r.failedRow++
	}
	return err
}

// How hard it is tried to find out which sectors of a stretch fail: after patience failures in all it is left at whole stretches, since each may take
// a reader half a minute.
const (
	patience = 2000
	probes   = 8 // sectors of a stretch which, if all fail, stand for it
)

// narrow finds out which parts of a stretch fail. do is an access to a part; an error that has nothing to do with the place ends it.
func (r *wholeRun) narrow(off, n int64, do func(off, n int64) error) (failed []Stretch, err error) {
	sector := int64(r.dev.SectorSize())
	fails := func(off, n int64) (bool, error) {
		err := do(off, n)
		if err == nil {
			return false, nil
		}
		r.failures.Add(1)
		if card.IsBadPlace(err) {
			return true, nil
		}
		return true, err
	}
	var into func(off, n int64) error
	into = func(off, n int64) error {
		if n == sector {
			failed = append(failed, StretchOf(off, n, Failing))
			return nil
		}
		all := true
		for i := range int64(probes) {
			bad, err := fails(off+i*((n-sector)/sector)/(probes-1)*sector, sector)
			if err != nil {
				return err
			}
			if all = all && bad; !all {
				break
			}
		}
		if all || r.failures.Load() > patience {
			failed = append(failed, StretchOf(off, n, Failing))
			return nil
		}
		half := max(n/2/sector, 1) * sector
		for _, part := range []layout.Extent{{Offset: off, Length: half}, {Offset: off + half, Length: n - half}} {
			bad, err := fails(part.Offset, part.Length)
			if err != nil {
				return err
			}
			if bad {
				if err := into(part.Offset, part.Length); err != nil {
					return err
				}
			}
		}
		return nil
	}
	err = into(off, n)
	return failed, err
}

// flush returns when all that was written is on the medium.
func (r *wholeRun) flush() error {
	r.meter.Begin(meter.Flush, 0)
	start := time.Now()
	err := r.settle()
	r.rep.TookPhase(meter.Flush, 0, start)
	return err
}
