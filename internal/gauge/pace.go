package gauge

import (
	"bytes"
	"context"
	"errors"
	"math/rand/v2"
	"slices"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/meter"
)

// Pace measures how fast a card is: in sequence, and at single places of 4 KiB. What is on it is kept: all that is written is what stands there already, read twice and the
// same both times.
type Pace struct {
	Device card.Device
	Meter  *meter.Meter
	Seed   uint64 // of the choice of places
}

// How much is measured at most, and for how long. A1 and A2 are defined for accesses within 256 MiB (SD Association, "Application Performance Class").
const (
	paceBytes   = 128 << 20 // in sequence
	paceBatch   = 8         // blocks that are read, and then written
	paceTime    = 8 * time.Second
	paceArea    = 256 << 20
	paceReads   = 4000
	paceWrites  = 1000
	paceSmall   = 64 // times that one place is read again and again
	paceAtLeast = 16 << 20
)

// PaceReport is the result. Rates are in bytes a second, and accesses a second.
type PaceReport struct {
	Access           card.Access
	ReadRate         float64
	WriteRate        float64
	SlowestWrite     float64 // of a batch of 32 MiB
	ReadsPerSecond   float64
	WritesPerSecond  float64
	Smallest         time.Duration // of a read of what was just read: what reader and computer take without the card
	Reads, Writes    Times         // of 4 KiB
	Reading, Writing []meter.Point
	Phases           []meter.PhaseTime
	Mishaps          []card.Mishap
	Unsteady         int // stretches that did not read the same twice, and were not written
	Written, Read    int64
}

// Meets lists the marks whose promise the card keeps.
func (r *PaceReport) Meets() []string {
	return Meets(r.SlowestWrite, r.ReadsPerSecond, r.WritesPerSecond)
}

// ErrTooSmall says that a card is too small to measure anything on it.
var ErrTooSmall = errors.New("the card is too small to measure its pace")

// paceRun is a measurement at work.
type paceRun struct {
	Pace
	Subject
	out    *PaceReport
	random *rand.Rand
	start  int64 // of the stretch that is measured in sequence
	end    int64
}

// Run measures. The report is never nil.
func (p Pace) Run(ctx context.Context) (*PaceReport, error) {
	out := &PaceReport{}
	if p.Device.Size() < paceAtLeast {
		return out, ErrTooSmall
	}
	r := &paceRun{Pace: p, out: out, random: rand.New(rand.NewPCG(p.Seed, 0x9ace))}
	r.Subject = Subject{dev: p.Device, meter: p.Meter, rep: &Report{}}
	if err := r.open(paceBatch + 1); err != nil {
		return out, err
	}
	size := p.Device.Size()
	r.start = min(64<<20, size/4) / BlockSize * BlockSize
	r.end = min(r.start+paceBytes, size/BlockSize*BlockSize)
	err := r.story(ctx)
	r.close()
	out.Access, out.Written, out.Read, out.Phases = r.rep.Access, r.rep.Written, r.rep.Read, r.rep.Phases
	out.Mishaps = card.MishapsOf(p.Device)
	return out, err
}

func (r *paceRun) story(ctx context.Context) error {
	for _, step := range []func(context.Context) error{r.sequence, r.small, r.places} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

// sequence reads and writes blocks one after the other.
func (r *paceRun) sequence(ctx context.Context) error {
	r.meter.Begin(meter.Sequence, 3*(r.end-r.start))
	begun := time.Now()
	var bufs [][]byte
	for range paceBatch + 1 {
		b, err := r.blocks.Get(ctx)
		if err != nil {
			return err
		}
		defer r.blocks.Put(b)
		bufs = append(bufs, b)
	}
	again, bufs := bufs[paceBatch], bufs[:paceBatch]
	var reading, writing time.Duration
	var read, written int64
	for at := r.start; at < r.end && (time.Since(begun) < paceTime || written == 0); {
		n := min(int64(paceBatch), (r.end-at)/BlockSize)
		steady, took, err := r.readTwice(ctx, bufs[:n], again, at)
		if err != nil {
			return err
		}
		reading += took
		read += 2 * n * BlockSize
		if steady {
			took, err := r.writeBack(ctx, bufs[:n], at)
			if err != nil {
				return err
			}
			writing += took
			written += n * BlockSize
		}
		at += n * BlockSize
	}
	r.out.ReadRate, r.out.WriteRate = per(float64(read), reading), per(float64(written), writing)
	r.rep.TookPhase(meter.Sequence, read+written, begun)
	return nil
}

// readTwice reads blocks from a place on, each of them twice, and tells whether all were the same both times.
func (r *paceRun) readTwice(ctx context.Context, bufs [][]byte, again []byte, at int64) (steady bool, reading time.Duration, err error) {
	steady = true
	for i, buf := range bufs {
		off := at + int64(i)*BlockSize
		for _, b := range [][]byte{buf, again} {
			if ctx.Err() != nil {
				return false, 0, context.Cause(ctx)
			}
			start := time.Now()
			if err := r.readAt(b, off); err != nil {
				return false, 0, err
			}
			took := time.Since(start)
			reading += took
			r.out.Reading = append(r.out.Reading, meter.Point{Offset: off, Bytes: BlockSize, Took: took})
			r.meter.Add(BlockSize)
		}
		if !bytes.Equal(buf, again) {
			r.out.Unsteady++
			steady = false
		}
	}
	return steady, reading, nil
}

// writeBack writes blocks where they were read, until they are on the medium.
func (r *paceRun) writeBack(ctx context.Context, bufs [][]byte, at int64) (time.Duration, error) {
	start := time.Now()
	for i, buf := range bufs {
		if ctx.Err() != nil {
			return 0, context.Cause(ctx)
		}
		if err := r.writeAt(buf, at+int64(i)*BlockSize); err != nil {
			return 0, err
		}
		r.meter.Add(BlockSize)
	}
	if err := r.dev.Flush(); err != nil {
		return 0, err
	}
	took, n := time.Since(start), int64(len(bufs))*BlockSize
	r.out.Writing = append(r.out.Writing, meter.Point{Offset: at, Bytes: n, Took: took})
	if rate := per(float64(n), took); r.out.SlowestWrite == 0 || rate < r.out.SlowestWrite {
		r.out.SlowestWrite = rate
	}
	return took, r.dev.Forget()
}

// per is so much a second; 0 where no time has passed.
func per(n float64, took time.Duration) float64 {
	if took <= 0 {
		return 0
	}
	return n / took.Seconds()
}

// small reads one place again and again: the card has it in its memory, so what that takes is the reader's and the computer's.
func (r *paceRun) small(ctx context.Context) error {
	buf, err := r.samples.Get(ctx)
	if err != nil {
		return err
	}
	defer r.samples.Put(buf)
	var all []time.Duration
	for range paceSmall {
		if r.cached() {
			if err := r.dev.Forget(); err != nil {
				return err
			}
		}
		start := time.Now()
		if err := r.readAt(buf, r.start); err != nil {
			return err
		}
		all = append(all, time.Since(start))
	}
	slices.Sort(all)
	r.out.Smallest = all[len(all)/2]
	return nil
}

// places reads, and then writes, 4 KiB here and there.
func (r *paceRun) places(ctx context.Context) error {
	r.meter.Begin(meter.Places, 0) // how many there will be, their speed tells
	begun := time.Now()
	defer func() {
		r.rep.TookPhase(meter.Places, r.out.Reads.Count()*sampleSize+r.out.Writes.Count()*sampleSize, begun)
	}()
	one, err := r.samples.Get(ctx)
	if err != nil {
		return err
	}
	defer r.samples.Put(one)
	two, err := r.samples.Get(ctx)
	if err != nil {
		return err
	}
	defer r.samples.Put(two)
	area := min(paceArea, r.dev.Size()-r.start) / sampleSize
	place := func() int64 { return r.start + r.random.Int64N(area)*sampleSize }
	timed := func(t *Times, off int64, access func() error) error {
		start := time.Now()
		err := access()
		t.Add(time.Since(start), off)
		return err
	}
	for range paceReads {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		off := place()
		if err := timed(&r.out.Reads, off, func() error { return r.readAt(one, off) }); err != nil {
			return err
		}
		r.meter.Add(sampleSize)
		if r.out.Reads.Sum() > paceTime/2 {
			break
		}
	}
	r.out.ReadsPerSecond = per(float64(r.out.Reads.Count()), r.out.Reads.Sum())
	for range paceWrites {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		off := place()
		for _, b := range [][]byte{one, two} {
			if err := r.readAt(b, off); err != nil {
				return err
			}
		}
		r.meter.Add(2 * sampleSize)
		if !bytes.Equal(one, two) {
			r.out.Unsteady++
			continue
		}
		if err := timed(&r.out.Writes, off, func() error { return r.writeAt(one, off) }); err != nil {
			return err
		}
		if r.out.Writes.Sum() > paceTime/2 {
			break
		}
	}
	start := time.Now()
	if err := r.settle(); err != nil {
		return err
	}
	flushing := time.Since(start)
	r.out.WritesPerSecond = per(float64(r.out.Writes.Count()), r.out.Writes.Sum()+flushing)
	return nil
}
