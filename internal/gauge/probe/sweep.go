package probe

import (
	"bytes"
	"context"
	"sync"
	"sync/atomic"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// Sweep is the writing of stretches of a card with stamps, and reading them back; it keeps what is bad. Its methods may
// be called from several goroutines at once where they take a block.
type Sweep struct {
	Subject
	FirstWrite func() // called when the first write has been done; may be nil

	Bad        gauge.Bad
	FailedRow  int            // blocks in a row of which nothing could be written
	LostSample []mark.Reading // of places that are lost
	Changing   bool           // they read differently each time
	Writing    meter.Curve
	Reading    meter.Curve

	failures atomic.Int64 // accesses that failed
	mu       sync.Mutex   // guards what the workers find
	middle   gauge.Bad    // of what was written once more, before that
	reread   int
}

// Afresh forgets what was found so far.
func (s *Sweep) Afresh() {
	s.Bad, s.LostSample, s.Changing, s.reread = gauge.Bad{}, nil, false, 0
}

// WriteBlock writes a block of stamps, or what can be written of it, and notes the rest as bad.
func (s *Sweep) WriteBlock(buf []byte, off int64) error {
	err := s.WriteAt(buf, off)
	if err != nil && !card.IsBadPlace(err) {
		return err
	}
	if err != nil {
		err = s.writeNarrowly(buf, off)
	} else {
		s.mu.Lock()
		s.FailedRow = 0
		s.mu.Unlock()
	}
	if err == nil && s.FirstWrite != nil {
		s.FirstWrite()
		s.FirstWrite = nil
	}
	s.Writing.Mark(off, int64(len(buf)), time.Now())
	s.Progress.Add(int64(len(buf)))
	return err
}

// writeNarrowly writes what can be written of a block that failed, and notes the rest.
func (s *Sweep) writeNarrowly(buf []byte, off int64) error {
	any := false
	failed, err := s.failing(off, int64(len(buf)), func(at, n int64) error {
		err := s.WriteAt(buf[at-off:at-off+n], at)
		any = any || err == nil
		return err
	})
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, e := range failed {
		s.Bad.Add(gauge.StretchOf(e.Offset, e.Length, gauge.Unwritable))
	}
	if len(failed) == 0 {
		s.Bad.Add(gauge.StretchOf(off, mark.Size, gauge.Shaky))
	}
	if any {
		s.FailedRow = 0
	} else {
		s.FailedRow++
	}
	return err
}

// How hard it is tried to find out which sectors of a stretch fail: after patience failures in all it is left at whole
// stretches, since each may take a reader half a minute.
const (
	patience = 2000
	probes   = 8 // sectors of a stretch which, if all fail, stand for it
)

// failing finds out which parts of a stretch fail. do is an access to a part; an error that has nothing to do with the
// place ends it.
func (s *Sweep) failing(off, n int64, do func(off, n int64) error) (failed []gauge.Stretch, err error) {
	sector := int64(s.Dev.SectorSize())
	fails := func(off, n int64) (bool, error) {
		err := do(off, n)
		if err == nil {
			return false, nil
		}
		s.failures.Add(1)
		if card.IsBadPlace(err) {
			return true, nil
		}
		return true, err
	}
	var into func(off, n int64) error
	into = func(off, n int64) error {
		if n == sector {
			failed = append(failed, gauge.StretchOf(off, n, gauge.Failing))
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
		if all || s.failures.Load() > patience {
			failed = append(failed, gauge.StretchOf(off, n, gauge.Failing))
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

// RewriteBlock writes stamps where some were before. A failure is found when they are read back.
func (s *Sweep) RewriteBlock(buf []byte, off int64) error {
	err := s.WriteAt(buf, off)
	s.Progress.Add(int64(len(buf)))
	if card.IsBadPlace(err) {
		return nil
	}
	return err
}

// Flush returns when all that was written is on the medium.
func (s *Sweep) Flush() error {
	s.Progress.Begin(meter.Flush, 0)
	start := time.Now()
	err := s.Settle()
	s.Report.TookPhase(meter.Flush, 0, start)
	return err
}

// maxReread is how many bad blocks are read a second time: more are no single bad places, and reading all of them again
// would double the time.
const maxReread = 512

// ReadBack reads a stretch, compares it, and notes what is bad. reached is told now and then up to where that was done;
// it may be nil.
func (s *Sweep) ReadBack(ctx context.Context, from, to int64, phase meter.Phase, reached func(at int64)) error {
	s.Progress.Begin(phase, to-from)
	start := time.Now()
	s.Reading.Start(start)
	at := from
	defer func() { s.Report.TookPhase(phase, at-from, start) }()
	for at < to {
		next := min(at+s.part(to), to)
		if err := s.Each(ctx, at, next, s.compareBlock); err != nil {
			return err
		}
		at = next
		if reached != nil {
			reached(at)
		}
	}
	return nil
}

// part is how much is read before reached is told, bytes.
func (s *Sweep) part(to int64) int64 {
	return max(64<<20, to/256/gauge.BlockSize*gauge.BlockSize)
}

func (s *Sweep) compareBlock(ctx context.Context, buf []byte, off int64) error {
	err := s.ReadAt(buf, off)
	switch {
	case card.IsBadPlace(err):
		err = s.readNarrowly(ctx, buf, off)
	case err == nil && s.Marks.Right(buf, SectorAt(off)) < len(buf)/mark.Size:
		err = s.compareSectors(ctx, buf, off)
	}
	s.Reading.Mark(off, int64(len(buf)), time.Now())
	s.Progress.Add(int64(len(buf)))
	s.Progress.Found(s.badBytes())
	return err
}

// badBytes is how many bytes are known to be bad.
func (s *Sweep) badBytes() (n int64) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, bytes := range s.Bad.Bytes {
		n += bytes
	}
	return n
}

// compareSectors notes what is wrong in a stretch that was read, and reads it a second time: a place that reads right
// then is unsteady.
func (s *Sweep) compareSectors(ctx context.Context, buf []byte, off int64) error {
	first := s.Judge(buf, off)
	s.mu.Lock()
	again := s.reread < maxReread
	s.reread++
	s.mu.Unlock()
	second := first
	changing := false
	if again {
		other, err := s.Blocks.Get(ctx)
		if err != nil {
			return err
		}
		defer s.Blocks.Put(other)
		other = other[:len(buf)]
		if s.Cached() {
			if err := s.Dev.Forget(); err != nil {
				return err
			}
		}
		switch err := s.ReadAt(other, off); {
		case card.IsBadPlace(err): // then the first reading counts
		case err != nil:
			return err
		default:
			second = s.Judge(other, off)
			changing = !bytes.Equal(buf, other)
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	var e gauge.Stretch
	add := func() {
		if e.Length > 0 {
			s.Bad.Add(e)
		}
	}
	for i := range first.Readings {
		one, two := first.Readings[i], second.Readings[i]
		state := StateOf(one.Kind)
		switch {
		case one.Kind == mark.Right && two.Kind == mark.Right:
			continue
		case one.Kind == mark.Right || two.Kind == mark.Right:
			state = gauge.Shaky
		case state == gauge.Worn && s.Bad.At(off+int64(i)*mark.Size) == gauge.Worn:
			// counted before, when a block was read that is read again
		case state == gauge.Worn:
			s.Bad.Bits += int64(one.Bits)
		case len(s.LostSample) < 4096:
			s.LostSample = append(s.LostSample, one)
			s.Changing = s.Changing || changing && one.Kind == mark.Foreign && two.Kind == mark.Foreign
		}
		at := off + int64(i)*mark.Size
		if e.State == state && e.End() == at {
			e.Length += mark.Size
			continue
		}
		add()
		e = gauge.StretchOf(at, mark.Size, state)
	}
	add()
	return nil
}

// readNarrowly reads what can be read of a block that failed, compares it, and notes the rest.
func (s *Sweep) readNarrowly(ctx context.Context, buf []byte, off int64) error {
	failed, err := s.failing(off, int64(len(buf)), func(at, n int64) error {
		part := buf[at-off : at-off+n]
		if err := s.ReadAt(part, at); err != nil {
			return err
		}
		if s.Marks.Right(part, SectorAt(at)) < len(part)/mark.Size {
			return s.compareSectors(ctx, part, at)
		}
		return nil
	})
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, e := range failed {
		s.Bad.Add(e)
	}
	if len(failed) == 0 {
		s.Bad.Add(gauge.StretchOf(off, mark.Size, gauge.Shaky))
	}
	return err
}

// Reach is how much of what was written last a card is expected to have in its own memory at most, bytes: up to a GiB,
// but no more than a part of a small card.
func Reach(size int64) int64 {
	return min(max(size/64, gauge.Displaced), 1<<30, size/2) / SampleSize * SampleSize
}

// RewriteMiddle writes the middle of the first limit bytes once more, when it has been read back, so that the card's
// own memory has that and neither its end nor its start, which its end may have overwritten.
func (s *Sweep) RewriteMiddle(ctx context.Context, limit int64) error {
	n := Reach(limit)
	from := (limit - n) / 2 / gauge.BlockSize * gauge.BlockSize
	if n == 0 {
		return nil
	}
	if err := s.ReadBack(ctx, from, from+n, meter.ReadBack, nil); err != nil {
		return err
	}
	s.middle, s.Bad = s.Bad, gauge.Bad{}
	s.Progress.Begin(meter.Rewrite, n)
	if err := s.InOrder(ctx, from, from+n, s.RewriteBlock); err != nil {
		return err
	}
	s.Report.Displaced = n
	return s.Flush()
}

// MergeMiddle adds what was wrong in the middle before it was written once more.
func (s *Sweep) MergeMiddle() {
	worn := s.Bad.Bytes[gauge.Worn]
	for _, e := range s.middle.List {
		s.Bad.Add(e)
	}
	if n := s.middle.Bytes[gauge.Worn]; n > 0 {
		s.Bad.Bits += s.middle.Bits * (s.Bad.Bytes[gauge.Worn] - worn) / n // the others were counted again
	}
	s.middle = gauge.Bad{}
}

// HopelessRow is how many blocks in a row must fail altogether before it is asked whether all that is left fails.
const HopelessRow = 4

// How far behind the head places are read back: from just behind it to beyond the reach of any card's memory, each a
// quarter farther than the one before. A lost place shows as soon as the card's memory has forgotten it.
const (
	Nearest  = gauge.BlockSize
	farthest = 8 << 30
)

// Trail are the places behind the head that are read back.
func Trail(head int64) (at []int64) {
	for d := int64(Nearest); d <= min(head, farthest); d += max(d/4, gauge.BlockSize) / SampleSize * SampleSize {
		at = append(at, (head-d)/SampleSize*SampleSize)
	}
	return at
}
