// Package pace measures how fast a card is: sequentially, and at random places of 4 KiB. What is on it is kept: all
// that is written is what stands there already, read twice and the same both times.
package pace

import (
	"bytes"
	"context"
	"errors"
	"math/rand/v2"
	"slices"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/probe"
	"zipstamp/internal/meter"
)

// Test is a measurement.
type Test struct {
	Device card.Device
	Meter  *meter.Meter
	Seed   uint64 // of the choice of places
}

// How much is measured at most, and for how long. A1 and A2 are defined for accesses within 256 MiB (SD Association,
// "Application Performance Class").
const (
	sequential = 128 << 20 // bytes that are read in sequence
	batch      = 8         // blocks that are read, and then written
	longest    = 8 * time.Second
	area       = 256 << 20
	mostReads  = 4000
	mostWrites = 1000
	smallReads = 64 // times that one place is read again and again
	atLeast    = 16 << 20
)

// Report is the result. Rates are in bytes a second, and accesses a second.
type Report struct {
	Access           card.Access
	ReadRate         float64
	WriteRate        float64
	SlowestWrite     float64 // of a batch of 32 MiB
	ReadsPerSecond   float64
	WritesPerSecond  float64
	Smallest         time.Duration // of a read of what was just read: what reader and computer take without the card
	Reads, Writes    gauge.Times   // of 4 KiB
	Reading, Writing []meter.Point
	Phases           []meter.PhaseTime
	Mishaps          []card.Mishap
	Unsteady         int // stretches that did not read the same twice, and were not written
	Written, Read    int64
}

// Meets lists the marks whose promise the card keeps.
func (r *Report) Meets() []string {
	return gauge.Meets(r.SlowestWrite, r.ReadsPerSecond, r.WritesPerSecond)
}

// ErrTooSmall says that a card is too small to measure anything on it.
var ErrTooSmall = errors.New("the card is too small to measure its pace")

// run is a measurement at work.
type run struct {
	Test
	probe.Subject
	out    *Report
	random *rand.Rand
	start  int64 // of the stretch that is measured in sequence
	end    int64
}

// Run measures. The report is never nil.
func (p Test) Run(ctx context.Context) (*Report, error) {
	out := &Report{}
	if p.Device.Size() < atLeast {
		return out, ErrTooSmall
	}
	r := &run{Test: p, out: out, random: rand.New(rand.NewPCG(p.Seed, 0x9ace))}
	r.Subject = probe.Subject{Dev: p.Device, Progress: p.Meter, Report: &gauge.Report{}}
	if err := r.Open(batch + 1); err != nil {
		return out, err
	}
	size := p.Device.Size()
	r.start = min(64<<20, size/4) / gauge.BlockSize * gauge.BlockSize
	r.end = min(r.start+sequential, size/gauge.BlockSize*gauge.BlockSize)
	err := r.story(ctx)
	r.Close()
	out.Access, out.Written, out.Read, out.Phases = r.Report.Access, r.Report.Written, r.Report.Read, r.Report.Phases
	out.Mishaps = card.MishapsOf(p.Device)
	return out, err
}

func (r *run) story(ctx context.Context) error {
	for _, step := range []func(context.Context) error{r.sequence, r.small, r.places} {
		if err := step(ctx); err != nil {
			return err
		}
	}
	return nil
}

// sequence reads and writes blocks one after the other.
func (r *run) sequence(ctx context.Context) error {
	r.Progress.Begin(meter.Sequential, 3*(r.end-r.start))
	begun := time.Now()
	var bufs [][]byte
	for range batch + 1 {
		b, err := r.Blocks.Get(ctx)
		if err != nil {
			return err
		}
		defer r.Blocks.Put(b)
		bufs = append(bufs, b)
	}
	again, bufs := bufs[batch], bufs[:batch]
	var reading, writing time.Duration
	var read, written int64
	for at := r.start; at < r.end && (time.Since(begun) < longest || written == 0); {
		n := min(int64(batch), (r.end-at)/gauge.BlockSize)
		steady, took, err := r.readTwice(ctx, bufs[:n], again, at)
		if err != nil {
			return err
		}
		reading += took
		read += 2 * n * gauge.BlockSize
		if steady {
			took, err := r.writeBack(ctx, bufs[:n], at)
			if err != nil {
				return err
			}
			writing += took
			written += n * gauge.BlockSize
		}
		at += n * gauge.BlockSize
	}
	r.out.ReadRate, r.out.WriteRate = per(float64(read), reading), per(float64(written), writing)
	r.Report.TookPhase(meter.Sequential, read+written, begun)
	return nil
}

// readTwice reads blocks from a place on, each of them twice, and tells whether all were the same both times.
func (r *run) readTwice(
	ctx context.Context, bufs [][]byte, again []byte, at int64,
) (steady bool, reading time.Duration, err error) {
	steady = true
	for i, buf := range bufs {
		off := at + int64(i)*gauge.BlockSize
		for _, b := range [][]byte{buf, again} {
			if ctx.Err() != nil {
				return false, 0, context.Cause(ctx)
			}
			start := time.Now()
			if err := r.ReadAt(b, off); err != nil {
				return false, 0, err
			}
			took := time.Since(start)
			reading += took
			r.out.Reading = append(r.out.Reading, meter.Point{Offset: off, Bytes: gauge.BlockSize, Took: took})
			r.Progress.Add(gauge.BlockSize)
		}
		if !bytes.Equal(buf, again) {
			r.out.Unsteady++
			steady = false
		}
	}
	return steady, reading, nil
}

// writeBack writes blocks where they were read, until they are on the medium.
func (r *run) writeBack(ctx context.Context, bufs [][]byte, at int64) (time.Duration, error) {
	start := time.Now()
	for i, buf := range bufs {
		if ctx.Err() != nil {
			return 0, context.Cause(ctx)
		}
		if err := r.WriteAt(buf, at+int64(i)*gauge.BlockSize); err != nil {
			return 0, err
		}
		r.Progress.Add(gauge.BlockSize)
	}
	if err := r.Dev.Flush(); err != nil {
		return 0, err
	}
	took, n := time.Since(start), int64(len(bufs))*gauge.BlockSize
	r.out.Writing = append(r.out.Writing, meter.Point{Offset: at, Bytes: n, Took: took})
	if rate := per(float64(n), took); r.out.SlowestWrite == 0 || rate < r.out.SlowestWrite {
		r.out.SlowestWrite = rate
	}
	return took, r.Dev.Forget()
}

// per is so much a second; 0 where no time has passed.
func per(n float64, took time.Duration) float64 {
	if took <= 0 {
		return 0
	}
	return n / took.Seconds()
}

// small reads one place again and again: the card has it in its memory, so what that takes is the reader's and the
// computer's.
func (r *run) small(ctx context.Context) error {
	buf, err := r.Samples.Get(ctx)
	if err != nil {
		return err
	}
	defer r.Samples.Put(buf)
	var all []time.Duration
	for range smallReads {
		if r.Cached() {
			if err := r.Dev.Forget(); err != nil {
				return err
			}
		}
		start := time.Now()
		if err := r.ReadAt(buf, r.start); err != nil {
			return err
		}
		all = append(all, time.Since(start))
	}
	slices.Sort(all)
	r.out.Smallest = all[len(all)/2]
	return nil
}

// places reads, and then writes, 4 KiB here and there.
func (r *run) places(ctx context.Context) error {
	r.Progress.Begin(meter.Random, 0) // how many there will be, their speed tells
	begun := time.Now()
	defer func() {
		r.Report.TookPhase(meter.Random, r.out.Reads.Count()*probe.SampleSize+r.out.Writes.Count()*probe.SampleSize,
			begun)
	}()
	one, err := r.Samples.Get(ctx)
	if err != nil {
		return err
	}
	defer r.Samples.Put(one)
	two, err := r.Samples.Get(ctx)
	if err != nil {
		return err
	}
	defer r.Samples.Put(two)
	area := min(area, r.Dev.Size()-r.start) / probe.SampleSize
	place := func() int64 { return r.start + r.random.Int64N(area)*probe.SampleSize }
	timed := func(t *gauge.Times, off int64, access func() error) error {
		start := time.Now()
		err := access()
		t.Add(time.Since(start), off)
		return err
	}
	for range mostReads {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		off := place()
		if err := timed(&r.out.Reads, off, func() error { return r.ReadAt(one, off) }); err != nil {
			return err
		}
		r.Progress.Add(probe.SampleSize)
		if r.out.Reads.Sum() > longest/2 {
			break
		}
	}
	r.out.ReadsPerSecond = per(float64(r.out.Reads.Count()), r.out.Reads.Sum())
	for range mostWrites {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		off := place()
		for _, b := range [][]byte{one, two} {
			if err := r.ReadAt(b, off); err != nil {
				return err
			}
		}
		r.Progress.Add(2 * probe.SampleSize)
		if !bytes.Equal(one, two) {
			r.out.Unsteady++
			continue
		}
		if err := timed(&r.out.Writes, off, func() error { return r.WriteAt(one, off) }); err != nil {
			return err
		}
		if r.out.Writes.Sum() > longest/2 {
			break
		}
	}
	start := time.Now()
	if err := r.Settle(); err != nil {
		return err
	}
	flushing := time.Since(start)
	r.out.WritesPerSecond = per(float64(r.out.Writes.Count()), r.out.Writes.Sum()+flushing)
	return nil
}
