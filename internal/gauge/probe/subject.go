// Package probe has what the tests of cards share: a card under test, whose accesses are timed and counted and whose
// places are read as sector stamps (Subject), and the writing and reading back of its stretches (Sweep).
package probe

import (
	"context"
	"hash/maphash"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/meter"
)

// Subject is the card under test: its accesses are timed and counted.
type Subject struct {
	Dev      card.Device
	Progress *meter.Meter
	Marks    mark.Run
	Report   *gauge.Report
	seed     maphash.Seed // of the sums of what is read

	Blocks  *card.Pool // of BlockSize
	Samples *card.Pool // of SampleSize
	written atomic.Int64
	read    atomic.Int64
}

// InFlight is how many blocks are written, or read, at once.
const InFlight = 3

// Moved is how much was written and read, bytes.
func (s *Subject) Moved() int64 { return s.written.Load() + s.read.Load() }

// SampleSize is how much is read or written at a place, bytes: what flash is mostly addressed by, and the unit of the
// marks A1 and A2.
const SampleSize = 4096

// Open gets the memory for a test.
func (s *Subject) Open(blocks int) (err error) {
	s.seed = maphash.MakeSeed()
	s.Report.Access = s.Dev.Access()
	if s.Blocks, err = card.NewPool(blocks, gauge.BlockSize); err != nil {
		return err
	}
	s.Samples, err = card.NewPool(InFlight, SampleSize)
	return err
}

// Close frees it, and completes the report.
func (s *Subject) Close() {
	s.Report.Written, s.Report.Read, s.Report.Access = s.written.Load(), s.read.Load(), s.Dev.Access()
	for _, p := range []*card.Pool{s.Blocks, s.Samples} {
		if p != nil {
			p.Close()
		}
	}
}

// WriteAt writes to the card.
func (s *Subject) WriteAt(p []byte, off int64) error {
	start := time.Now()
	_, err := s.Dev.WriteAt(p, off)
	s.timed(&s.Report.Writes, start, p, off)
	if err == nil {
		s.written.Add(int64(len(p)))
	}
	return err
}

// ReadAt reads from the card.
func (s *Subject) ReadAt(p []byte, off int64) error {
	start := time.Now()
	_, err := s.Dev.ReadAt(p, off)
	s.timed(&s.Report.Reads, start, p, off)
	if err == nil {
		s.read.Add(int64(len(p)))
	}
	return err
}

// timed counts the time of an access, if it is of the kind that the test is made of: places of spots, and blocks of the
// whole.
func (s *Subject) timed(t *gauge.Times, start time.Time, p []byte, off int64) {
	if (s.Report.Method == gauge.BySpots) == (len(p) <= SampleSize) {
		t.Add(time.Since(start), off)
	}
}

// Settle returns when what was written is on the medium, as the card says, and this computer has forgotten it.
func (s *Subject) Settle() error {
	if err := s.Dev.Flush(); err != nil {
		return err
	}
	return s.Dev.Forget()
}

// Cached tells whether this computer may answer reads from its memory, unless it is made to forget.
func (s *Subject) Cached() bool {
	return s.Dev.Access() != card.Direct && s.Dev.Access() != card.Simulated
}

// Each does something with every block of a stretch, several at once.
func (s *Subject) Each(
	ctx context.Context, from, to int64, do func(ctx context.Context, buf []byte, off int64) error,
) error {
	var next atomic.Int64
	next.Store(from)
	workers, ctx := errgroup.WithContext(ctx)
	for range InFlight {
		workers.Go(func() error {
			buf, err := s.Blocks.Get(ctx)
			if err != nil {
				return err
			}
			defer s.Blocks.Put(buf)
			for {
				off := next.Add(gauge.BlockSize) - gauge.BlockSize
				if off >= to {
					return nil
				}
				if ctx.Err() != nil {
					return context.Cause(ctx)
				}
				if err := do(ctx, buf[:min(gauge.BlockSize, to-off)], off); err != nil {
					return err
				}
			}
		})
	}
	return workers.Wait()
}

// InOrder writes stamps over a stretch, strictly one block after the other, so that a card which gives out its room as
// it is asked for it gives it to the lower places first; the next block is made while one is written. write does the
// writing.
func (s *Subject) InOrder(ctx context.Context, from, to int64, write func(buf []byte, off int64) error) error {
	stages, ctx := errgroup.WithContext(ctx)
	type block struct {
		buf []byte
		off int64
	}
	made := make(chan block)
	stages.Go(func() error {
		defer close(made)
		for off := from; off < to; off += gauge.BlockSize {
			buf, err := s.Blocks.Get(ctx)
			if err != nil {
				return err
			}
			buf = buf[:min(gauge.BlockSize, to-off)]
			s.Marks.Fill(buf, SectorAt(off))
			select {
			case made <- block{buf, off}:
			case <-ctx.Done():
				s.Blocks.Put(buf)
				return context.Cause(ctx)
			}
		}
		return nil
	})
	stages.Go(func() error {
		for b := range made {
			err := write(b.buf, b.off)
			s.Blocks.Put(b.buf)
			if err != nil {
				return err
			}
		}
		return nil
	})
	return stages.Wait()
}

// SectorAt of the sector at a place.
func SectorAt(off int64) int64 { return off / mark.Size }

// StateOf is what a sector's reading says of its place.
func StateOf(k mark.Kind) gauge.State {
	switch k {
	case mark.Right:
		return gauge.Good
	case mark.Worn:
		return gauge.Worn
	}
	return gauge.Missing
}

// Outcome is what a place of some sectors turned out to be.
type Outcome struct {
	State    gauge.State // of the worst sector
	Readings []mark.Reading
	Sum      uint64 // of what was read, to see whether that changes
}

// Probe reads a place of at most SampleSize and judges it. Only a card that is gone is an error.
func (s *Subject) Probe(off, n int64) (o Outcome, err error) {
	buf, err := s.Samples.Get(context.Background())
	if err != nil {
		return o, err
	}
	defer s.Samples.Put(buf)
	buf = buf[:n]
	if err := s.ReadAt(buf, off); err != nil {
		if !card.IsBadPlace(err) {
			return o, err
		}
		return Outcome{State: gauge.Failing}, nil
	}
	return s.Judge(buf, off), nil
}

// Judge judges what was read at a place.
func (s *Subject) Judge(buf []byte, off int64) (o Outcome) {
	o.State, o.Sum = gauge.Good, maphash.Bytes(s.seed, buf)
	for at := int64(0); at < int64(len(buf)); at += mark.Size {
		r := s.Marks.Judge(buf[at:at+mark.Size], SectorAt(off+at))
		o.Readings = append(o.Readings, r)
		if st := StateOf(r.Kind); gauge.Rank(st) > gauge.Rank(o.State) {
			o.State = st
		}
	}
	return o
}

// Put writes sector stamps at a place of at most SampleSize.
func (s *Subject) Put(off, n int64) error {
	buf, err := s.Samples.Get(context.Background())
	if err != nil {
		return err
	}
	defer s.Samples.Put(buf)
	s.Marks.Fill(buf[:n], SectorAt(off))
	return s.WriteAt(buf[:n], off)
}

// ReadsAs is what is read most often where writes are lost; changing says that it is not the same each time.
func ReadsAs(readings []mark.Reading, changing bool) gauge.LostAs {
	count := map[gauge.LostAs]int{}
	best := gauge.LostAs("")
	for _, r := range readings {
		var as gauge.LostAs
		switch {
		case r.Kind == mark.Blank && r.Byte == 0:
			as = gauge.LostZeros
		case r.Kind == mark.Blank:
			as = gauge.LostOneByte
			if r.Byte == 0xFF {
				as = gauge.LostFF
			}
		case r.Kind == mark.Elsewhere:
			as = gauge.LostElsewhere
		case r.Kind == mark.Earlier:
			as = gauge.LostEarlier
		case r.Kind == mark.Foreign && changing:
			as = gauge.LostNoise
		case r.Kind == mark.Foreign:
			as = gauge.LostOther
		default:
			continue
		}
		if count[as]++; count[as] > count[best] {
			best = as
		}
	}
	return best
}

// ProbeAll probes places, several at once.
func (s *Subject) ProbeAll(at []int64) ([]Outcome, error) {
	all := make([]Outcome, len(at))
	var workers errgroup.Group
	workers.SetLimit(InFlight)
	for i, off := range at {
		workers.Go(func() (err error) {
			all[i], err = s.Probe(off, SampleSize)
			return err
		})
	}
	return all, workers.Wait()
}
