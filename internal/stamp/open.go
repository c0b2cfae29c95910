package stamp

import (
	"context"
	"time"

	"zipstamp/internal/meter"
)

// open makes the card ready to be written, if it isn't yet, when all that is under way has ended: places of it are
// tried, and the old partition tables give way to the marker.
func (r *run) open(ctx context.Context, buf []byte) error {
	r.gate.Lock()
	defer r.gate.Unlock()
	if !r.opened && r.unopened == nil {
		began := time.Now()
		r.unopened = r.openNow(ctx, buf)
		r.opening = time.Since(began)
	}
	return r.unopened
}

func (r *run) openNow(ctx context.Context, buf []byte) error {
	if err := r.reason(); err != nil { // another writer has found out meanwhile
		return err
	}
	if r.before != nil {
		if err := r.before(ctx); err != nil {
			return err
		}
	}
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	if r.src.isSettled() { // all is there but the first block
		r.meter.Begin(meter.Write, 0)
	} else {
		r.meter.Begin(meter.Write, r.likely())
		r.meter.Had(r.handled)
	}
	if err := r.clearTables(buf); err != nil {
		return err
	}
	if err := r.placeProbes(ctx, buf); err != nil {
		return err
	}
	r.opened = true
	return nil
}

// openLate opens the card when all blocks have been compared, and not one differed.
func (r *run) openLate(ctx context.Context) error {
	buf, err := r.own.Get(ctx)
	if err != nil {
		return err
	}
	defer r.own.Put(buf)
	return r.open(ctx, buf)
}

// clearTables removes the old partition tables, at the card's start and at its end, for good: it returns when the card
// says that they are gone.
func (r *run) clearTables(buf []byte) error {
	start := time.Now()
	r.State = Uncertain // until the card says so
	// The sectors by which a board starts go first and alone: were they left when the power is cut in the midst of the
	// rest, the card would look as it did before.
	for _, at := range tableSectors(r.dev) {
		if err := r.zero(buf, at, int64(r.dev.SectorSize())); err != nil {
			return err
		}
		if err := r.dev.Flush(); err != nil {
			return err
		}
	}
	var err error
	if r.job.ReadBack {
		err = r.placeMarker(buf)
	} else {
		err = r.zero(buf, 0, min(BlockSize, r.dev.Size()))
	}
	if err != nil {
		return err
	}
	if err := r.clearBackup(buf); err != nil {
		return err
	}
	if err := r.dev.Flush(); err != nil {
		return err
	}
	r.State = NoTable
	if r.begun != nil {
		r.begun()
	}
	r.took(meter.Write, 0, start)
	if r.job.ReadBack {
		r.recognise(r.knows)
	}
	return nil
}

// clearBackup zeroes an old partition table at the card's end, but for what the image has put there.
func (r *run) clearBackup(buf []byte) error {
	offset, length, err := backupTable(r.dev, buf)
	if err != nil {
		return err
	}
	if taken := r.settledTo - offset; taken > 0 && length > 0 {
		offset, length = offset+taken, length-taken
	}
	if length <= 0 {
		return nil
	}
	if err := r.zero(buf, offset, length); err != nil {
		return err
	}
	r.Cleared = length
	return nil
}

// isCleared tells whether a part of a block was taken for an old partition table, and cleared after the block was
// compared.
func (r *run) isCleared(b *block) bool {
	return r.Cleared > 0 && int64(b.index+1)*BlockSize > r.dev.Size()-r.Cleared
}

// zero writes length zeros, a multiple of the sector.
func (r *run) zero(buf []byte, offset, length int64) error {
	clear(buf[:min(length, int64(len(buf)))])
	for end := offset + length; offset < end; {
		n, err := r.dev.WriteAt(buf[:min(end-offset, int64(len(buf)))], offset)
		if err != nil {
			return err
		}
		offset += int64(n)
	}
	return nil
}
