// Package whole writes sector stamps over a card from its start to its end, and reads them all back. What was on the
// card is lost.
//
// While it writes, it looks back every now and then: a card that holds less than it claims is known, with its real
// size, soon after that has been passed. Then what is real is read back, and the rest is not waited for.
package whole

import (
	"context"
	"fmt"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/gauge/probe"
	"zipstamp/internal/meter"
)

// Test is a test of a whole card.
type Test struct {
	Device   card.Device
	Meter    *meter.Meter
	Nonce    mark.Nonce // a new one for each test
	First    int64      // test only so many bytes, a multiple of the sector; 0: all
	ToTheEnd bool       // go on to the end also when the card has been found out
	Carry    *Progress  // carry on a test; its Nonce and First count
	Keep     func(Progress) error
	Expect   func(Expectation)
	ReadRate float64 // bytes a second, if it is known from before
	Begun    func()  // called when the first write has been done, and what was on the card is lost; may be nil
}

// Expectation is how long a test will take, told when its speed is known.
type Expectation struct {
	Rate  float64       // of writing, bytes a second
	Write time.Duration // that is left
	Read  time.Duration // if reading is as fast
}

// Progress is how far a test has come, for carrying on.
type Progress struct {
	Nonce   mark.Nonce      `json:"nonce"`
	Size    int64           `json:"size"`             // of the card, bytes
	First   int64           `json:"first"`            // bytes that are tested
	Head    int64           `json:"head"`             // bytes that are written, and on the medium
	Back    int64           `json:"back"`             // bytes that have been read back
	Bad     []gauge.Stretch `json:"bad"`              // what is known to be bad
	Bits    int64           `json:"bits"`             // that were wrong
	Unkept  int64           `json:"unkept,omitempty"` // bytes that earlier interruptions have cost
	Writing []meter.Point   `json:"writing"`          // speeds
	Reading []meter.Point   `json:"reading"`
}

// valid says why a progress can't be that of a card with so many bytes; nil if it can.
func (p Progress) valid(size int64) error {
	switch {
	case p.Size != size:
		return fmt.Errorf("it is of a card with %d bytes, and this one has %d", p.Size, size)
	case p.Unkept < 0 || p.First <= 0 || p.First > size || p.Head < 0 || p.Head > p.First ||
		p.Back < 0 || p.Back > p.Head ||
		p.Head%gauge.BlockSize != 0 && p.Head != p.First || len(p.Bad) > gauge.MaxStretches:
		return fmt.Errorf("its numbers make no sense")
	}
	end := int64(0)
	for _, e := range p.Bad {
		if e.Offset < end || e.Length <= 0 || e.In < 0 || e.In > e.Length ||
			e.Length > p.First-e.Offset || gauge.Rank(e.State) < gauge.Rank(
			gauge.Shaky,
		) {
			return fmt.Errorf("its list of bad places makes no sense")
		}
		end = e.End()
	}
	return nil
}

// Still tells whether the card holds what a test that is to be carried on has written: whether it is that card, and
// nothing else was written since.
func (p Progress) Still(d card.Device) (bool, error) {
	if err := p.valid(d.Size()); err != nil {
		return false, err
	}
	s := &probe.Subject{Dev: d, Marks: mark.NewRun(p.Nonce), Report: &gauge.Report{}}
	if err := s.Open(1); err != nil {
		return false, err
	}
	defer s.Close()
	right, places := 0, 0
	for i := range int64(16) {
		off := i * (p.Head / 16) / probe.SampleSize * probe.SampleSize
		if off+probe.SampleSize > p.Head {
			break
		}
		o, err := s.Probe(off, probe.SampleSize)
		if err != nil {
			return false, err
		}
		places++
		if o.State != gauge.Failing && o.State != gauge.Missing || p.Head > 0 && ours(o) {
			right++
		}
	}
	return places > 0 && right > places/2, nil
}

// ours tells whether there are stamps of this run, be it of other places.
func ours(o probe.Outcome) bool {
	for _, r := range o.Readings {
		if r.Kind == mark.Elsewhere {
			return true
		}
	}
	return false
}

// keepEvery is how often the progress is kept.
const keepEvery = 10 * time.Second

// run is a test at work.
type run struct {
	Test
	probe.Sweep
	asked    int64 // bytes that are to be tested
	limit    int64 // bytes that still are, since more was learnt
	head     int64 // written up to here
	back     int64 // read back up to here
	kept     time.Time
	expected bool
}

// Run does the test. The report is never nil, and says what was found also where the test did not come to its end; then
// the error says why: the cause of ctx's end, or one of the card.
func (w Test) Run(ctx context.Context) (*gauge.Report, error) {
	r := &run{Test: w, limit: w.First, kept: time.Now()}
	if r.limit == 0 {
		r.limit = w.Device.Size()
	}
	if c := w.Carry; c != nil {
		if err := c.valid(w.Device.Size()); err != nil {
			return &gauge.Report{Method: gauge.ByWhole, Verdict: gauge.Inconclusive, Claimed: w.Device.Size()}, err
		}
		r.Nonce, r.limit, r.head = c.Nonce, c.First, c.Head
	}
	r.asked = r.limit
	rep := &gauge.Report{Method: gauge.ByWhole, Claimed: w.Device.Size(), Nonce: r.Nonce, Resumed: w.Carry != nil}
	r.FirstWrite = w.Begun
	r.Sweep.Subject = probe.Subject{Dev: w.Device, Progress: w.Meter, Marks: mark.NewRun(r.Nonce), Report: rep}
	w.Meter.Foresee(r.foresee)
	defer r.Close()
	if err := r.Open(probe.InFlight + 1); err != nil {
		rep.Verdict = gauge.Inconclusive
		return rep, err
	}
	err := r.story(ctx)
	if err != nil && r.Dev.Flush() == nil { // what is not on the medium can't be counted on
		r.keep()
	}
	r.finish(err)
	return rep, err
}

// foresee is how long the test will take, seen from a phase, if nothing is found out on the way.
func (r *run) foresee(now meter.Reading) (f meter.Foreseen, ok bool) {
	took := time.Since(now.Started)
	if now.Done-now.Before <= 0 || took < time.Second {
		return f, false
	}
	rate := float64(now.Done-now.Before) / took.Seconds()
	n := probe.Reach(now.Total)
	switch now.Phase {
	case meter.Write:
		read := rate // nothing is known of it before; most cards read faster
		if r.ReadRate > 0 {
			read = r.ReadRate
		}
		f.Next = meter.TimeFor(now.Total+n, read) + meter.TimeFor(n, rate)
		return f, true
	case meter.ReadBack:
		return f, true
	}
	return f, false
}

// story is the test from its beginning to its end.
func (r *run) story(ctx context.Context) error {
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
		if err := r.Flush(); err != nil {
			return err
		}
		if err := r.ReadBack(ctx, loss.Real, r.limit, meter.ReadBack, nil); err != nil {
			return err
		}
	}
	if loss != nil {
		return r.cutShort(ctx, loss)
	}
	if err := r.Flush(); err != nil {
		return err
	}
	if err := r.RewriteMiddle(ctx, r.limit); err != nil {
		return err
	}
	if err := r.ReadBack(ctx, r.back, r.limit, meter.ReadBack, r.reached); err != nil {
		return err
	}
	switch loss, err = r.findLoss(ctx); {
	case err != nil:
		return err
	case loss != nil && loss.Repeats: // what was overwritten is written once more, and then shows whether it is bad
		return r.cutShort(ctx, loss)
	}
	r.Report.Loss = loss
	return nil
}

// takeOver reads all that the test wrote before it was interrupted. What is not there any more may have been
// overwritten by somebody else, and says nothing of the card: it is written again, so that a verdict rests only on what
// this run has written. Where something was, all is read once more, since to write it may have overwritten what was
// right.
func (r *run) takeOver(ctx context.Context) error {
	// the card's memory may answer for the last of it
	r.back = max(r.head-probe.Reach(r.limit), 0) / gauge.BlockSize * gauge.BlockSize
	r.Report.Unkept = r.Carry.Unkept
	for range 2 {
		if err := r.ReadBack(ctx, 0, r.head, meter.ReadBack, nil); err != nil {
			return err
		}
		found := r.Bad.List
		unkept := int64(0)
		for _, n := range r.Bad.Bytes {
			unkept += n
		}
		r.Afresh()
		if len(found) == 0 {
			return nil
		}
		r.Progress.Begin(meter.Rewrite, 0)
		r.Writing.Start(time.Now())
		at := int64(0)
		for _, e := range found {
			from, to := max(at, e.Offset/gauge.BlockSize*gauge.BlockSize), min(
				(e.End()+gauge.BlockSize-1)/gauge.BlockSize*gauge.BlockSize, r.head,
			)
			if from >= to {
				continue
			}
			at, r.back = to, min(r.back, from)
			if err := r.InOrder(ctx, from, to, r.WriteBlock); err != nil {
				return err
			}
		}
		if err := r.Flush(); err != nil {
			return err
		}
		r.Report.Unkept += unkept
	}
	return nil
}

// finish completes the report.
func (r *run) finish(err error) {
	rep := r.Report
	rep.Tested = r.asked
	if err != nil && rep.Loss == nil {
		rep.Tested = r.back
	}
	r.MergeMiddle()
	rep.Forgive(r.Dev, &r.Bad)
	whole := r.Bad
	if l := rep.Loss; l != nil {
		l.ReadsAs = probe.ReadsAs(r.LostSample, r.Changing)
		r.Bad = whole.Outside(l.Real, rep.Claimed-l.Tail)
		if l.Anywhere {
			r.Bad = gauge.Bad{} // what is lost where, is a matter of when it was written
		}
	}
	if rep.Limit > 0 {
		r.Bad = whole.Outside(rep.Limit, rep.Claimed)
	}
	rep.Bad = r.Bad.Sectors()
	rep.Extents = r.extents(whole)
	rep.Writing, rep.Reading = meter.Join(r.carried().Writing, r.Writing.Points()), meter.Join(r.carried().Reading,
		r.Reading.Points())
	rep.Judge(err == nil)
}

// carried is what was known when the test was carried on; the zero value if it wasn't.
func (r *run) carried() (p Progress) {
	if r.Carry != nil {
		return *r.Carry
	}
	return p
}

// extents lists all that is claimed. Of what is beyond a loss, only a tail was tested.
func (r *run) extents(all gauge.Bad) []gauge.Stretch {
	tested, size := r.Report.Tested, r.Report.Claimed
	if l := r.Report.Loss; l != nil {
		tested = r.asked
		if l.Anywhere {
			list := []gauge.Stretch{gauge.StretchOf(0, r.head, gauge.Missing)}
			if r.head < size {
				list = append(list, gauge.StretchOf(r.head, size-r.head, gauge.Unwritten))
			}
			return list
		}
		state := gauge.Missing
		if l.Repeats {
			state, tested = gauge.Repeating, size
		}
		all = all.Outside(l.Real, size-l.Tail)
		if end := min(tested, size-l.Tail); end > l.Real {
			all.Add(gauge.StretchOf(l.Real, end-l.Real, state))
		}
	}
	list := all.Cover(tested)
	if tested < size {
		list = append(list, gauge.StretchOf(tested, size-tested, gauge.Unwritten))
	}
	return list
}

// reached notes how far all has been read back, and keeps that now and then.
func (r *run) reached(at int64) {
	r.back = at
	if time.Since(r.kept) > keepEvery {
		r.keep()
	}
}

// keep keeps the progress, so that the test can be carried on. It is not worth an error if that fails: the test itself
// goes on.
func (r *run) keep() {
	r.kept = time.Now()
	if r.Keep == nil || r.Report.Loss != nil {
		return
	}
	past := r.carried()
	_ = r.Keep(Progress{
		Nonce: r.Nonce, Size: r.Dev.Size(), First: r.limit, Head: r.head, Back: r.back, Bad: r.Bad.List,
		Bits: r.Bad.Bits, Unkept: r.Report.Unkept, Writing: meter.Join(past.Writing, r.Writing.Points()),
		Reading: meter.Join(past.Reading, r.Reading.Points()),
	})
}

// stride is how far the head goes from one look back to the next: often enough to find a loss within a hundredth of the
// real size, and seldom enough to cost no time.
func (r *run) stride() int64 {
	const least, most = 8 << 20, 32 << 20 // the latter as soon as that is no large part of what is written
	return max(min(max(least, r.head/64), most), r.head/200) / gauge.BlockSize * gauge.BlockSize
}

// write writes to the limit, and looks back on the way. It returns the loss that shows.
func (r *run) write(ctx context.Context) (*gauge.Loss, error) {
	if r.head > 0 { // carried on: what the last look back would have shown is seen now
		if loss, err := r.behind(); loss != nil || err != nil {
			return r.found(loss), err
		}
	}
	// what was on the card is lost: its table goes first, and alone, so that it never looks as if it could start a
	// board
	if r.head == 0 {
		if err := r.Put(0, int64(r.Dev.SectorSize())); err != nil && !card.IsBadPlace(err) {
			return nil, err
		}
		if err := r.Dev.Flush(); err != nil {
			return nil, err
		}
	}
	r.Progress.Begin(meter.Write, r.limit-r.head)
	start, from := time.Now(), r.head
	defer func() { r.Report.TookPhase(meter.Write, r.head-from, start) }()
	r.Writing.Start(start)
	var known *gauge.Loss
	for r.head < r.limit {
		to := min(r.head+r.stride(), r.limit)
		if err := r.InOrder(ctx, r.head, to, r.WriteBlock); err != nil {
			return nil, err
		}
		r.head = to
		r.expect(from, start)
		if r.FailedRow >= probe.HopelessRow {
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
			if err := r.Dev.Flush(); err != nil {
				return nil, err
			}
			r.keep()
		}
		r.Writing.Start(time.Now()) // looking back is no writing
	}
	return known, nil
}

// found notes where the head was when a loss was found; there may be none.
func (r *run) found(loss *gauge.Loss) *gauge.Loss {
	if loss != nil {
		loss.Exact, r.Report.Early = !loss.Anywhere, r.head
	}
	return loss
}

// expect says once how long the test will take, when it has gone on for long enough to know.
func (r *run) expect(from int64, start time.Time) {
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
