// Package blank lays out cards with one file system, empty or with files, and makes empty cards of used ones.
package blank

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// Job is a card to make empty.
type Job struct {
	Device card.Device
	Meter  *meter.Meter
	Plan   *Plan
	Size   int64  // how much of the card is used, bytes; 0: all
	Begun  func() // called when the first write has been done, and what was on the card is lost; may be nil
}

// endCleared is how much of the card's end is cleared of old backup tables, bytes: those of GPT are within 33 sectors
// of it (UEFI 2.10, 5.3.1).
const endCleared = 64 << 10

// Result is what was made.
type Result struct {
	Written   int64
	Displaced int64 // bytes written after them, so that a cache of the card of that size can't have answered
	Phases    []meter.PhaseTime
}

// WrongError says that the card does not hold what was written.
type WrongError struct{ Offset int64 }

func (e *WrongError) Error() string {
	return fmt.Sprintf("what was written at byte %d does not read back as it was written", e.Offset)
}

// Run makes the card empty. First its end is cleared, then its start, so that it has no partition table while it is
// made; the table is written last. All that was written is read back. The error is a *WrongError, one of the card, or
// the cause of ctx's end.
func (j Job) Run(ctx context.Context) (r Result, err error) {
	pool, err := card.NewPool(1, layout.AlignTo)
	if err != nil {
		return r, err
	}
	defer pool.Close()
	buf, err := pool.Get(ctx)
	if err != nil {
		return r, err
	}
	defer pool.Put(buf)
	sector := int64(j.Device.SectorSize())
	end := j.Device.Size()
	if j.Size > 0 {
		end = min(end, j.Size/sector*sector) // what is beyond may not be there, or be the card's start
	}
	cleared := min(endCleared, end-j.Plan.Start)
	steps := func(w *through) error {
		// the old table goes first, and alone, so that the card never has that and no more what it stands for
		if !w.compare {
			w.zero(0, sector)
			if w.err == nil {
				w.err = j.Device.Flush()
			}
		}
		w.zero(end-cleared, cleared)
		w.zero(0, j.Plan.Start)
		if w.err == nil {
			_, w.err = io.CopyBuffer(struct{ io.Writer }{io.NewOffsetWriter(w, j.Plan.Start)},
				struct{ io.Reader }{layout.Whole(j.Plan.Metadata())}, make([]byte, pieceSize))
		}
		return w.err
	}
	listed := false // the table is on the card
	defer func() {
		if err != nil && listed && !errors.As(err, new(*card.GoneError)) { // a card that isn't right looks like none
			clear(buf[:sector])
			if _, e := j.Device.WriteAt(buf[:sector], 0); e == nil {
				_ = j.Device.Flush() // the card is called bad as it is
			}
		}
	}()
	total := j.Plan.HeadSize() + cleared
	for _, phase := range []meter.Phase{meter.Write, meter.ReadBack} {
		start := time.Now()
		j.Meter.Begin(phase, total)
		w := &through{
			ctx: ctx, dev: j.Device, buf: buf, compare: phase == meter.ReadBack, meter: j.Meter, begun: j.Begun,
		}
		if err := steps(w); err != nil {
			return r, err
		}
		if phase == meter.Write { // the table's sector alone, and only when all that it stands for is on the card
			if err := j.Device.Flush(); err != nil {
				return r, err
			}
		}
		listed = true
		if _, err := w.write(j.Plan.table, 0); err != nil {
			return r, err
		}
		if phase == meter.Write {
			r.Written = w.done
			r.Phases = append(r.Phases, meter.PhaseTime{Phase: phase, Bytes: w.done, Took: time.Since(start)})
			if err := j.displace(ctx, buf, end-cleared, &r); err != nil {
				return r, err
			}
			if err := j.Device.Flush(); err != nil {
				return r, err
			}
			if err := j.Device.Forget(); err != nil {
				return r, err
			}
			continue
		}
		r.Phases = append(r.Phases, meter.PhaseTime{Phase: phase, Bytes: w.done, Took: time.Since(start)})
	}
	return r, nil
}

// displace writes gauge.Displaced bytes of noise to the file system's own room, as far as there are so many, so that
// the card's cache has these and no longer what is to be read back. On a card whose addresses repeat, that room may be
// the tables' too; so the same is written twice, which gets it out of the cache for the reading to show it.
func (j Job) displace(ctx context.Context, buf []byte, end int64, r *Result) error {
	start := time.Now()
	from := (j.Plan.HeadSize() + pieceSize - 1) / pieceSize * pieceSize
	end = min(end-end%pieceSize, from+gauge.Displaced)
	j.Meter.Begin(meter.Rewrite, 2*max(end-from, 0))
	part := buf[:pieceSize]
	_, _ = rand.NewChaCha8([32]byte{}).Read(part) // never fails
	for range 2 {
		r.Displaced = 0
		for at := from; at < end; at += pieceSize {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			_, err := j.Device.WriteAt(part, at)
			switch {
			case card.IsBadPlace(err): // there are others
				continue
			case err != nil:
				return err
			}
			r.Displaced += pieceSize
			j.Meter.Add(pieceSize)
		}
	}
	r.Phases = append(r.Phases, meter.PhaseTime{Phase: meter.Rewrite, Bytes: 2 * r.Displaced, Took: time.Since(start)})
	return nil
}

// through writes to a device by way of a buffer that suits it, or reads what is there and compares.
type through struct {
	ctx     context.Context
	dev     card.Device
	buf     []byte
	compare bool
	meter   *meter.Meter
	begun   func() // called once, after the first write; may be nil
	done    int64
	err     error
}

// WriteAt writes, or compares, whole sectors.
func (t *through) WriteAt(p []byte, off int64) (int, error) {
	if t.compare && off == 0 && len(p) > t.dev.SectorSize() {
		p, off = p[t.dev.SectorSize():], int64(t.dev.SectorSize()) // the table has taken its first sector
	}
	return t.write(p, off)
}

func (t *through) write(p []byte, off int64) (n int, err error) {
	for n < len(p) {
		if t.ctx.Err() != nil {
			return n, context.Cause(t.ctx)
		}
		part := t.buf[:min(len(p)-n, len(t.buf))]
		at := off + int64(n)
		if t.compare {
			if _, err := t.dev.ReadAt(part, at); err != nil {
				return n, err
			}
			if !bytes.Equal(part, p[n:n+len(part)]) {
				return n, &WrongError{at}
			}
		} else {
			copy(part, p[n:])
			if _, err := t.dev.WriteAt(part, at); err != nil {
				return n, err
			}
			if t.begun != nil {
				t.begun()
				t.begun = nil
			}
		}
		n += len(part)
		t.done += int64(len(part))
		t.meter.Add(int64(len(part)))
	}
	return n, nil
}

// pieceSize is how much is written at once, bytes; a multiple of any sector.
const pieceSize = 1 << 20

// zero writes, or expects, zeros.
func (t *through) zero(off, n int64) {
	zeros := make([]byte, min(n, pieceSize))
	for n > 0 && t.err == nil {
		part := zeros[:min(n, pieceSize)]
		_, t.err = t.WriteAt(part, off)
		off += int64(len(part))
		n -= int64(len(part))
	}
}
