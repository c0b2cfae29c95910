// Package blank makes an empty card of one that has been used: a partition table with one partition, and an empty file
// system in it.
package blank

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// Job is a card to make empty.
type Job struct {
	Device card.Device
	Meter  *meter.Meter
	Label  string // as layout.Label gives it
	Size   int64  // how much of the card is used, bytes; 0: all
	Disk   uint32 // signature of the partition table
	Serial uint32 // of the file system
	Time   time.Time
	Begun  func() // called when the first write has been done, and what was on the card is lost; may be nil
}

// mostSectors is how many sectors the classic partition table can count.
const mostSectors = 1<<32 - 1

// endCleared is how much of the card's end is cleared of old backup tables, bytes: those of GPT are within 33 sectors
// of it (UEFI 2.10, 5.3.1).
const endCleared = 64 << 10

// Result is what was made.
type Result struct {
	Start, Size int64 // of the partition, bytes
	Written     int64
	Phases      []meter.PhaseTime
}

// TooSmallError says that a card is too small for a file system.
type TooSmallError struct {
	Size   int64 // bytes
	Sector int   // of the card, bytes: the least number of clusters, each at least a sector, depends on it
}

func (e *TooSmallError) Error() string {
	return fmt.Sprintf("%d bytes are too few for a FAT32 file system, which needs some %d MB with sectors of %d bytes",
		e.Size, leastSize(e.Sector)/1e6, e.Sector)
}

// leastSize is how large a card with such sectors must be, bytes: FAT32 has 65,525 clusters at least (Microsoft, FAT32
// File System Specification 1.03, "FAT Type Determination"), its tables have 4 bytes for each, twice, and what is
// before them.
func leastSize(sector int) int64 {
	const clusters = 65525
	return clusters*(int64(sector)+8) + 4*layout.AlignTo
}

// WrongError says that the card does not hold what was written.
type WrongError struct{ Offset int64 }

func (e *WrongError) Error() string {
	return fmt.Sprintf("what was written at byte %d does not read back as it was written", e.Offset)
}

// plan is the volume that fits.
func (j Job) plan() (layout.FAT32, error) {
	sector := int64(j.Device.SectorSize())
	size := j.Device.Size()
	if j.Size > 0 {
		size = min(size, j.Size)
	}
	size = min(size/sector, mostSectors) * sector
	v := layout.FAT32{
		Label: j.Label, Serial: j.Serial, Sector: j.Device.SectorSize(), Start: layout.AlignTo, Time: j.Time,
		Size: (size - layout.AlignTo) / layout.AlignTo * layout.AlignTo,
	}
	if v.Size <= 0 || v.Check() != nil {
		return v, &TooSmallError{size, v.Sector}
	}
	return v, nil
}

// Check tells beforehand whether the card is large enough. The error is a *TooSmallError.
func (j Job) Check() error {
	_, err := j.plan()
	return err
}

// Run makes the card empty. First its end is cleared, then its start, so that it has no partition table while it is
// made; the table is written last. All that was written is read back. The error is a *TooSmallError, a *WrongError, one
// of the card, or the cause of ctx's end.
func (j Job) Run(ctx context.Context) (r Result, err error) {
	v, err := j.plan()
	if err != nil {
		return r, err
	}
	r.Start, r.Size = v.Start, v.Size
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
	sector := int64(v.Sector)
	mbr := make([]byte, sector)
	table := layout.MBR(j.Disk, layout.Partition{
		Type: layout.TypeFAT32LBA, Start: uint32(v.Start / sector), Sectors: uint32(v.Size / sector),
	})
	copy(mbr, table[:])
	end := j.Device.Size()
	if j.Size > 0 {
		end = min(end, j.Size/sector*sector) // what is beyond may not be there, or be the card's start
	}
	cleared := min(endCleared, end-v.Start)
	steps := func(w *through) error {
		// the old table goes first, and alone, so that the card never has that and no more what it stands for
		if !w.compare {
			w.zero(0, sector)
			if w.err == nil {
				w.err = j.Device.Flush()
			}
		}
		w.zero(end-cleared, cleared)
		w.zero(0, v.Start)
		if w.err == nil {
			w.err = v.WriteTo(w)
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
	total := v.Start + cleared + v.MetadataSize()
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
		if _, err := w.write(mbr, 0); err != nil {
			return r, err
		}
		if phase == meter.Write {
			r.Written = w.done
			if err := j.Device.Flush(); err != nil {
				return r, err
			}
			if err := j.Device.Forget(); err != nil {
				return r, err
			}
		}
		r.Phases = append(r.Phases, meter.PhaseTime{Phase: phase, Bytes: w.done, Took: time.Since(start)})
	}
	return r, nil
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

// zero writes, or expects, zeros.
func (t *through) zero(off, n int64) {
	const most = 1 << 20
	zeros := make([]byte, min(n, most))
	for n > 0 && t.err == nil {
		part := zeros[:min(n, most)]
		_, t.err = t.WriteAt(part, off)
		off += int64(len(part))
		n -= int64(len(part))
	}
}
