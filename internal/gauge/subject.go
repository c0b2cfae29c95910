package gauge

import (
	"context"
	"hash/maphash"
	"sync/atomic"
	"time"

	"golang.org/x/sync/errgroup"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/meter"
)

// Subject is the card under test: its accesses are timed and counted.
type Subject struct {
	dev   card.Device
	meter *meter.Meter
	run   mark.Run
	rep   *Report
	seed  maphash.Seed // of the sums of what is read

	blocks  *card.Pool // of BlockSize
	samples *card.Pool // of sampleSize
	written atomic.Int64
	read    atomic.Int64
}

// sampleSize is how much is read or written at a place, bytes: what flash is mostly addressed by, and the unit of the marks A1 and A2.
const sampleSize = 4096

// open gets the memory for a test.
func (s *Subject) open(blocks int) (err error) {
	s.seed = maphash.MakeSeed()
	s.rep.Access = s.dev.Access()
	if s.blocks, err = card.NewPool(blocks, BlockSize); err != nil {
		return err
	}
	s.samples, err = card.NewPool(inFlight, sampleSize)
	return err
}

// close frees it, and completes the report.
func (s *Subject) close() {
	s.rep.Written, s.rep.Read, s.rep.Access = s.written.Load(), s.read.Load(), s.dev.Access()
	for _, p := range []*card.Pool{s.blocks, s.samples} {
		if p != nil {
			p.Close()
		}
	}
}

func (s *Subject) writeAt(p []byte, off int64) error {
	start := time.Now()
	_, err := s.dev.WriteAt(p, off)
	s.timed(&s.rep.Writes, start, p, off)
	if err == nil {
		s.written.Add(int64(len(p)))
	}
	return err
}

func (s *Subject) readAt(p []byte, off int64) error {
	start := time.Now()
	_, err := s.dev.ReadAt(p, off)
	s.timed(&s.rep.Reads, start, p, off)
	if err == nil {
		s.read.Add(int64(len(p)))
	}
	return err
}

// timed counts the time of an access, if it is of the kind that the test is made of: places of spots, and blocks of the whole.
func (s *Subject) timed(t *Times, start time.Time, p []byte, off int64) {
	if (s.rep.Method == BySpots) == (len(p) <= sampleSize) {
		t.Add(time.Since(start), off)
	}
}

// settle returns when what was written is on the medium, as the card says, and this computer has forgotten it.
func (s *Subject) settle() error {
	if err := s.dev.Flush(); err != nil {
		return err
	}
	return s.dev.Forget()
}

// cached tells whether this computer may answer reads from its memory, unless it is made to forget.
func (s *Subject) cached() bool {
	return s.dev.Access() != card.Direct && s.dev.Access() != card.Simulated
}

// each does something with every block of a stretch, several at once.
func (s *Subject) each(ctx context.Context, from, to int64, do func(ctx context.Context, buf []byte, off int64) error) error {
	var next atomic.Int64
	next.Store(from)
	workers, ctx := errgroup.WithContext(ctx)
	for range inFlight {
		workers.Go(func() error {
			buf, err := s.blocks.Get(ctx)
			if err != nil {
				return err
			}
			defer s.blocks.Put(buf)
			for {
				off := next.Add(BlockSize) - BlockSize
				if off >= to {
					return nil
				}
				if ctx.Err() != nil {
					return context.Cause(ctx)
				}
				if err := do(ctx, buf[:min(BlockSize, to-off)], off); err != nil {
					return err
				}
			}
		})
	}
	return workers.Wait()
}

// inOrder writes stamps over a stretch, strictly one block after the other, so that a card which gives out its room as it is asked for it gives
// it to the lower places first; the next block is made while one is written. write does the writing.
func (s *Subject) inOrder(ctx context.Context, from, to int64, write func(buf []byte, off int64) error) error {
	stages, ctx := errgroup.WithContext(ctx)
	type block struct {
		buf []byte
		off int64
	}
	made := make(chan block)
	stages.Go(func() error {
		defer close(made)
		for off := from; off < to; off += BlockSize {
			buf, err := s.blocks.Get(ctx)
			if err != nil {
				return err
			}
			buf = buf[:min(BlockSize, to-off)]
			s.run.Fill(buf, number(off))
			select {
			case made <- block{buf, off}:
			case <-ctx.Done():
				s.blocks.Put(buf)
				return context.Cause(ctx)
			}
		}
		return nil
	})
	stages.Go(func() error {
		for b := range made {
			err := write(b.buf, b.off)
			s.blocks.Put(b.buf)
			if err != nil {
				return err
			}
		}
		return nil
	})
	return stages.Wait()
}

// number of the sector at a place.
func number(off int64) int64 { return off / mark.Size }

// stateOf is what a sector's reading says of its place.
func stateOf(k mark.Kind) State {
	switch k {
	case mark.Right:
		return Good
	case mark.Worn:
		return Worn
	}
	return Missing
}

// outcome is what a place of some sectors turned out to be.
type outcome struct {
	state    State // of the worst sector
	readings []mark.Reading
	sum      uint64 // of what was read, to see whether that changes
}

// test reads a place of at most sampleSize and judges it. Only a card that is gone is an error.
func (s *Subject) test(off, n int64) (o outcome, err error) {
	buf, err := s.samples.Get(context.Background())
	if err != nil {
		return o, err
	}
	defer s.samples.Put(buf)
	buf = buf[:n]
	if err := s.readAt(buf, off); err != nil {
		if !card.IsBadPlace(err) {
			return o, err
		}
		return outcome{state: Failing}, nil
	}
	return s.judge(buf, off), nil
}

// judge judges what was read at a place.
func (s *Subject) judge(buf []byte, off int64) (o outcome) {
	o.state, o.sum = Good, maphash.Bytes(s.seed, buf)
	for at := int64(0); at < int64(len(buf)); at += mark.Size {
		r := s.run.Judge(buf[at:at+mark.Size], number(off+at))
		o.readings = append(o.readings, r)
		if st := stateOf(r.Kind); Rank(st) > Rank(o.state) {
			o.state = st
		}
	}
	return o
}

// put writes sector stamps at a place of at most sampleSize.
func (s *Subject) put(off, n int64) error {
	buf, err := s.samples.Get(context.Background())
	if err != nil {
		return err
	}
	defer s.samples.Put(buf)
	s.run.Fill(buf[:n], number(off))
	return s.writeAt(buf[:n], off)
}

// readsAs says in words what is read where writes are lost.
func readsAs(readings []mark.Reading, changing bool) string {
	count := map[string]int{}
	best := ""
	for _, r := range readings {
		var words string
		switch {
		case r.Kind == mark.Blank && r.Byte == 0:
			words = "zeros"
		case r.Kind == mark.Blank:
			words = "one byte over and over"
			if r.Byte == 0xFF {
				words = "bytes of 0xFF"
			}
		case r.Kind == mark.Elsewhere:
			words = "what was written elsewhere"
		case r.Kind == mark.Earlier:
			words = "what an earlier test wrote"
		case r.Kind == mark.Foreign && changing:
			words = "noise that differs each time"
		case r.Kind == mark.Foreign:
			words = "something that was not written there"
		default:
			continue
		}
		if count[words]++; count[words] > count[best] {
			best = words
		}
	}
	return best
}
