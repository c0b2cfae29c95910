// Package spots tests places all over a card, and puts back what was there.
//
// What stands at the places is saved before the first of them is written. Then sector stamps are written to all of
// them, and only when all are written, and something else after them, they are read, twice, so that no memory of the
// card or the computer answers. Where places are lost, the boundary is looked for until it is exact to the sector.
package spots

import (
	"bytes"
	"context"
	"errors"
	"math"
	"math/rand/v2"
	"slices"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/gauge/probe"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// Test is a test of places.
type Test struct {
	Device card.Device
	Meter  *meter.Meter
	Nonce  mark.Nonce // a new one for each test
	Seed   uint64     // of the choice of places
	Places int        // how many are chosen by chance; 0: DefaultPlaces
	First  int64      // test only so many bytes, a multiple of the sector; 0: all
	// look only for what matters to somebody who needs so many bytes, within a second or two; 0: for everything
	Quick   int64
	Journal *journal.Journal // where what was there is kept until it is put back; nil only in tests
}

// DefaultPlaces is how many places are chosen by chance. If all are right, at least 99.5 % of the range answers, with a
// confidence of 98 %.
const DefaultPlaces = 800

// Confidence is what N places that were chosen by chance, and are all right, tell: that at least share of the range
// answers, with the confidence level. Were less than that right, N places in a row, one in each of N equal parts, would
// all be right with a probability of share^N at most.
func Confidence(places int, level float64) (share float64) {
	if places == 0 {
		return 0
	}
	return math.Pow(1-level, 1/float64(places))
}

// run is a test at work.
type run struct {
	Test
	probe.Subject
	random     *rand.Rand
	size       int64 // bytes that are tested
	spots      []spot
	comb       comb
	steps      int64 // the greatest common divisor of all distances at which stamps were seen; 0: none
	saved      [][]journal.Place
	extra      []int64 // sectors that were written besides the spots
	memory     int64   // bytes that the card answered for from its own memory, at least; 0: none seen
	sentinel   int64   // a sector that is known to be lost; -1: none
	blind      bool    // the card's memory could not be made to forget it
	displacing displacing
	noise      []layout.Extent // that reads differently nearly everywhere each time, so that nothing is kept there
	pending    bool
}

// Run does the test. The report is never nil; the error says why the test did not come to its end, or why what was
// there could not be put back. Then the journal is to be left; in all other cases what it has has been put back.
func (s Test) Run(ctx context.Context) (rep *gauge.Report, restored bool, err error) {
	size := s.Device.Size()
	if s.First > 0 {
		size = min(size, s.First)
	}
	if s.Places == 0 {
		s.Places = DefaultPlaces
	}
	rep = &gauge.Report{
		Method: gauge.BySpots, Claimed: s.Device.Size(), Tested: size, Nonce: s.Nonce, Seed: s.Seed,
		Verdict: gauge.Inconclusive,
	}
	r := &run{Test: s, size: size, random: rand.New(rand.NewPCG(s.Seed, 0x5a17)), sentinel: -1}
	r.Subject = probe.Subject{Dev: s.Device, Progress: s.Meter, Marks: mark.NewRun(s.Nonce), Report: rep}
	defer r.Close()
	if err := r.Open(1); err != nil {
		return rep, true, err
	}
	r.choose()
	err = r.story(ctx)
	restoring := r.putBack(err)
	if err == nil {
		err = restoring
	}
	r.finish(err)
	return rep, restoring == nil && !r.pending, err
}

// choose chooses the places.
func (r *run) choose() {
	sector := r.Dev.SectorSize()
	reach := r.size
	if r.Quick > 0 {
		reach = min(reach, r.Quick)
	}
	r.comb = combOf(r.size, reach, r.Quick > 0, sector)
	parts := int(min(int64(r.Places), max(r.size/(64<<10), 1)))
	spots := scattered(reach, parts, r.random)
	if reach < r.size {
		spots = append(spots, scattered(r.size, max(parts/4, 1), r.random)...)
	}
	if r.Quick > 0 {
		spots = append(spots, needed(r.size, r.Quick, sector)...)
	} else {
		spots = append(spots, edges(r.size, sector)...)
	}
	r.spots = disjoint(append(spots, r.comb.teeth(r.size, sector)...))
	r.Report.Tried = len(r.spots)
}

// story is the test, but for putting back what was there.
func (r *run) story(ctx context.Context) error {
	for _, step := range []func(context.Context) error{r.save, r.stamp, r.look, r.search, r.explain} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

// phase begins a phase and returns what ends it.
func (r *run) phase(p meter.Phase, total int64) (end func()) {
	switch {
	case r.Quick == 0:
		r.Progress.Begin(p, total)
	case p == meter.Save:
		r.Progress.Begin(meter.Try, 0) // all that is quick is one phase
	}
	start, before := time.Now(), r.Moved()
	return func() { r.Report.TookPhase(p, r.Moved()-before, start) }
}

// bytes of all spots.
func (r *run) bytes() (n int64) {
	for i := range r.spots {
		n += r.spots[i].n
	}
	return n
}

// save reads what stands at all places and keeps it.
func (r *run) save(ctx context.Context) error {
	defer r.phase(meter.Save, r.bytes())()
	var batch []journal.Place
	for i := range r.spots {
		s := &r.spots[i]
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		p, err := r.original(s.off, s.n)
		switch {
		case card.IsBadPlace(err):
			s.skipped = true
		case err != nil:
			return err
		default:
			batch = append(batch, p)
		}
		r.Progress.Add(s.n)
	}
	return r.keep(batch)
}

// original reads what stands at a place, twice: what is read wrong once would be put back wrong. A place that doesn't
// read the same two times of three fails, unless it reads as noise, since nothing is kept there.
func (r *run) original(off, n int64) (journal.Place, error) {
	buf, err := r.Samples.Get(context.Background())
	if err != nil {
		return journal.Place{}, err
	}
	defer r.Samples.Put(buf)
	var read [][]byte
	for len(read) < 3 {
		if err := r.ReadAt(buf[:n], off); err != nil {
			return journal.Place{}, err
		}
		for _, before := range read {
			if bytes.Equal(before, buf[:n]) {
				return journal.Place{Offset: off, Data: before}, nil
			}
		}
		read = append(read, bytes.Clone(buf[:n]))
		if len(read) == 2 && mark.Differing(read[0], read[1]) > int(n) { // an eighth of all bits
			r.noise = append(r.noise, layout.Extent{Offset: off, Length: n})
			return journal.Place{Offset: off, Data: read[0]}, nil
		}
	}
	return journal.Place{}, &card.IOError{
		Op: "read", Offset: off, Err: fault.BadPlace.Because(errors.New("it reads differently each time")),
	}
}

// keep puts places into the journal; from then on they may be written.
func (r *run) keep(batch []journal.Place) error {
	if r.Journal != nil {
		if err := r.Journal.Save(batch); err != nil {
			return err
		}
	}
	r.saved = append(r.saved, batch)
	return nil
}

// shuffled gives the spots that can be tested, in another order each time.
func (r *run) shuffled() (all []*spot) {
	for _, i := range r.random.Perm(len(r.spots)) {
		if !r.spots[i].skipped {
			all = append(all, &r.spots[i])
		}
	}
	return all
}

// stamp writes sector stamps to all places.
func (r *run) stamp(ctx context.Context) error {
	defer r.phase(meter.Sample, r.bytes())()
	for i, s := range r.shuffled() {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		s.order = i
		err := r.Put(s.off, s.n)
		if err != nil && !card.IsBadPlace(err) {
			return err
		}
		s.failed = err != nil
		r.Progress.Add(s.n)
	}
	fill := int64(gauge.Displaced)
	if r.Quick > 0 {
		fill = fillQuick
	}
	if _, err := r.displace(ctx, fill, nil); err != nil {
		return err
	}
	return r.Settle()
}

// look reads all places twice, each time in another order.
func (r *run) look(ctx context.Context) error {
	passes := []bool{false, true}
	if r.Quick > 0 {
		passes = passes[1:]
	}
	defer r.phase(meter.Look, int64(len(passes))*r.bytes())()
	for _, second := range passes {
		for _, s := range r.shuffled() {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			o, err := r.Probe(s.off, s.n)
			if err != nil {
				return err
			}
			r.note(o, s.off)
			s.second = o
			if !second || r.Quick > 0 {
				s.first = o
			}
			r.Progress.Add(s.n)
		}
		if err := r.Dev.Forget(); err != nil {
			return err
		}
	}
	return nil
}

// note keeps the distances of stamps from where they belong.
func (r *run) note(o probe.Outcome, off int64) {
	for i, k := range o.Readings {
		if k.Kind == mark.Elsewhere {
			d := k.Of*mark.Size - off - int64(i)*mark.Size
			r.steps = card.Period(r.steps, max(d, -d))
		}
	}
}

// search looks for stamps where none were written.
func (r *run) search(ctx context.Context) error {
	most := r.size
	if r.Quick > 0 {
		most = min(most, r.Quick+r.comb.span)
	}
	windows := r.comb.windows(r.size, most)
	total := int64(0)
	for _, w := range windows {
		total += w.Length
	}
	defer r.phase(meter.Search, total)()
	buf, err := r.Blocks.Get(ctx)
	if err != nil {
		return err
	}
	defer r.Blocks.Put(buf)
	nonce := r.Nonce
	for _, w := range windows {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		part := buf[:w.Length]
		switch err := r.ReadAt(part, w.Offset); {
		case card.IsBadPlace(err):
			continue
		case err != nil:
			return err
		}
		for at := int64(0); at < w.Length; at += mark.Size {
			n, of, ok := mark.Know(part[at : at+mark.Size])
			if d := of*mark.Size - w.Offset - at; ok && n == nonce && d != 0 {
				r.steps = card.Period(r.steps, max(d, -d))
			}
		}
		r.Progress.Add(w.Length)
	}
	return nil
}

// putBack puts back what was there: what was saved last first, since with addresses that repeat that may be a stamp,
// over which what was saved before it is to stand. It goes on whatever happens, unless the card is gone. failed is why
// the test did not come to its end, or nil.
func (r *run) putBack(failed error) error {
	if len(r.saved) == 0 {
		return nil
	}
	// What comes after a quick look that found nothing writes enough. On a card that only keeps what was written last,
	// each writing loses something else.
	displaced := r.Quick == 0 || failed != nil || r.Report.Loss != nil
	if l := r.Report.Loss; l != nil && l.Anywhere {
		displaced = false
	}
	total := int64(0)
	for _, batch := range r.saved {
		for _, p := range batch {
			total += int64(len(p.Data))
		}
	}
	total *= 2
	if displaced {
		total += gauge.Displaced
	}
	defer r.phase(meter.PutBack, total)()
	buf, err := r.Blocks.Get(context.Background())
	if err != nil {
		return err
	}
	defer r.Blocks.Put(buf)
	steps := []func() error{
		func() error { return r.eachBack(buf, r.writeBack) },
		r.Settle,
		func() error { return r.displaceBack(buf) },
		r.Settle,
	}
	if !displaced {
		steps = steps[:2]
	}
	for _, step := range steps {
		if err := step(); err != nil {
			r.pending = true
			return err
		}
	}
	return r.seeBack(buf)
}

// eachBack does something with each place that was saved, the last first, unless the card is gone.
func (r *run) eachBack(buf []byte, do func(b []byte, p journal.Place) error) error {
	for _, batch := range slices.Backward(r.saved) {
		for _, p := range slices.Backward(batch) {
			if err := do(buf[:len(p.Data)], p); err != nil && !card.IsBadPlace(err) {
				return err
			}
			r.Progress.Add(int64(len(p.Data)))
		}
	}
	return nil
}

func (r *run) writeBack(b []byte, p journal.Place) error {
	if len(p.Data) > probe.SampleSize && r.ReadAt(b, p.Offset) == nil && bytes.Equal(b, p.Data) {
		return nil // it was written with what stood there
	}
	copy(b, p.Data)
	return r.WriteAt(b, p.Offset)
}

// seeBack reads all that was saved, and notes what does not read as it did.
func (r *run) seeBack(buf []byte) error {
	return r.eachBack(buf, func(b []byte, p journal.Place) error {
		if err := r.ReadAt(b, p.Offset); err != nil {
			switch {
			case !card.IsBadPlace(err):
				r.pending = true
			case !r.lost(p.Offset):
				r.pending = true
				r.Report.Changed++
			}
			return err
		}
		if bytes.Equal(b, p.Data) {
			return nil
		}
		r.Report.Changed++
		for at := 0; at < len(b); at += mark.Size {
			then := p.Data[at : at+mark.Size]
			if !bytes.Equal(b[at:at+mark.Size], then) && !r.nothingKept(p.Offset+int64(at), then) {
				r.pending = true // it stays saved, whatever stands there now
			}
		}
		return nil
	})
}

// nothingKept tells whether what was saved of a place never stood there: the place is lost or reads as noise, or
// answers for another one, or what was saved is a stamp, which came there where addresses repeat, and what stood there
// was saved before.
func (r *run) nothingKept(off int64, saved []byte) bool {
	if n, _, ok := mark.Know(saved); ok && n == r.Nonce {
		return true
	}
	if slices.ContainsFunc(r.noise, func(e layout.Extent) bool { return off >= e.Offset && off < e.End() }) {
		return true
	}
	k, tested := r.readingAt(off)
	return r.lost(off) || tested && k.Kind == mark.Elsewhere
}

// lost tells whether a place is known to be beyond what is real.
func (r *run) lost(off int64) bool {
	l := r.Report.Loss
	return l != nil && (l.Anywhere || off >= l.Real && off < r.Dev.Size()-l.Tail)
}

// finish completes the report.
func (r *run) finish(err error) {
	rep := r.Report
	var bad gauge.Bad
	looked := err == nil || len(r.spots) > 0 && r.spots[len(r.spots)-1].second.State != ""
	if looked {
		for i := range r.spots {
			s := &r.spots[i]
			r.account(s, &bad)
			if s.random && s.state() == gauge.Good && !r.lost(s.off) {
				rep.Places++
			}
		}
	}
	rep.Forgive(r.Dev, &bad)
	rep.Bad = bad.Sectors()
	if l := rep.Loss; l != nil {
		state := gauge.Missing
		if l.Repeats {
			state = gauge.Repeating
		}
		if end, from := r.size-l.Tail, max(l.Real, l.Most); !l.Anywhere && end > l.Real {
			if from > l.Real {
				bad.Add(gauge.StretchOf(l.Real, min(from, end)-l.Real, gauge.Unwritten)) // somewhere here it ends
			}
			if end > from {
				bad.Add(gauge.StretchOf(from, end-from, state))
			}
		}
	}
	tested := r.size
	if !looked {
		tested = 0
	}
	rep.Extents = bad.Cover(tested)
	if tested < rep.Claimed {
		rep.Extents = append(rep.Extents, gauge.StretchOf(tested, rep.Claimed-tested, gauge.Unwritten))
	}
	rep.Judge(err == nil)
}

// account notes what is bad of a spot.
func (r *run) account(s *spot, bad *gauge.Bad) {
	state := s.state()
	if state == gauge.Good {
		return
	}
	if len(s.first.Readings) != len(s.second.Readings) || len(s.first.Readings) == 0 {
		if !r.lost(s.off) {
			bad.Add(gauge.StretchOf(s.off, s.n, state))
		}
		return
	}
	for i := range s.first.Readings {
		one, two := s.first.Readings[i], s.second.Readings[i]
		a, b := probe.StateOf(one.Kind), probe.StateOf(two.Kind)
		switch {
		case r.lost(s.off + int64(i)*mark.Size):
			continue
		case s.failed:
			a = gauge.Unwritable
		case a == gauge.Good && b == gauge.Good:
			continue
		case a == gauge.Good || b == gauge.Good:
			a = gauge.Shaky
		case r.Report.Loss != nil && r.Report.Loss.Repeats && (one.Kind == mark.Elsewhere ||
			two.Kind == mark.Elsewhere || r.overwritten(s.off+int64(i)*mark.Size, r.Report.Loss.Real)):
			continue // overwritten by what is beyond
		case a == gauge.Worn:
			bad.Bits += int64(one.Bits)
		}
		bad.Add(gauge.StretchOf(s.off+int64(i)*mark.Size, mark.Size, a))
	}
}
