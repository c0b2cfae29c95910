package stamp

import (
	"bytes"
	"context"
	"maps"
	"slices"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
	"zipstamp/internal/meter"
)

// heldBack lists the sectors of the first block that are written last, each by itself, so that no write that tears
// leaves a card which looks as if it could start a board: the header of a GUID partition table (UEFI 2.10, 5.3.2: in
// the second sector, of 512 or 4096 bytes), and at the very end the first sector.
func (r *run) heldBack() (at []int64) {
	sector := int64(r.dev.SectorSize())
	for _, header := range []int64{512, 4096} {
		if int64(len(r.first)) < header+int64(len(gptSignature)) || !bytes.HasPrefix(r.first[header:], gptSignature) {
			continue
		}
		if own := header / sector * sector; own > 0 {
			at = append(at, own)
		}
	}
	return append(at, 0)
}

// tableSectors are the sectors in which a partition table begins: the first, and those where the header of a GUID
// partition table may be.
func tableSectors(d card.Device) (at []int64) {
	sector := int64(d.SectorSize())
	for _, off := range []int64{0, 512, 4096} {
		if off = off / sector * sector; !slices.Contains(at, off) && off+sector <= d.Size() {
			at = append(at, off)
		}
	}
	return at
}

// writeHead writes the first block, but for the sectors that are held back: these have the marker, or zeros where
// nothing is read back.
func (r *run) writeHead(ctx context.Context) error {
	start := time.Now()
	buf, err := r.room.Get(ctx)
	if err != nil {
		return err
	}
	defer r.room.Put(buf)
	head := buf[:len(r.first)]
	if r.job.ReadBack {
		r.marker.fill(head, 0)
	} else {
		clear(head)
	}
	sector := int64(r.dev.SectorSize())
	held := r.heldBack()
	for at := int64(0); at < int64(len(head)); at += sector {
		if !slices.Contains(held, at) {
			copy(head[at:], r.first[at:at+sector])
		}
	}
	r.head, r.headIsWhole = digest.SumBlock(head[:r.blockLength(0)]), false
	if _, err := r.dev.WriteAt(head, 0); err != nil {
		return err
	}
	r.took(meter.Write, 0, start)
	return nil
}

// writeHeld writes the sectors that were held back. The card is complete when it returns.
func (r *run) writeHeld(ctx context.Context) error {
	start := time.Now()
	buf, err := r.room.Get(ctx)
	if err != nil {
		return err
	}
	defer r.room.Put(buf)
	sector := buf[:r.dev.SectorSize()]
	r.State = Uncertain // until it is complete, or zeroed again
	for _, at := range r.heldBack() {
		copy(sector, r.first[at:])
		if _, err := r.dev.WriteAt(sector, at); err != nil {
			return err
		}
		if err := r.dev.Flush(); err != nil {
			return err
		}
	}
	r.took(meter.Write, 0, start)
	r.headIsWhole = true
	return nil
}

// complete writes what was held back, and reads the first block back when the card's cache can't answer any more, with
// all that was written again since the others were. What is wrong then is taken away and written again, as often as
// blocks may be.
func (r *run) complete(ctx context.Context) error {
	r.finishes.Store(true)
	for round := 0; ; round++ {
		if err := r.writeHeld(ctx); err != nil {
			return err
		}
		if err := r.flush(ctx); err != nil {
			return err
		}
		if !r.job.ReadBack {
			r.State = Complete
			return nil
		}
		if err := r.displaceFirst(ctx); err != nil {
			return err
		}
		if err := r.flush(ctx); err != nil {
			return err
		}
		r.last[0] = true
		again := slices.Sorted(maps.Keys(r.last))
		for _, i := range again {
			r.Verified -= r.blockLength(i) // it was read before
		}
		bad, err := r.compare(ctx, meter.Finish, again)
		if err != nil {
			return err
		}
		if len(bad.blocks) == 0 {
			r.State = Verified
			if round > 0 {
				r.Attempts = max(r.Attempts, round)
			}
			return nil
		}
		if round == r.job.Repairs {
			r.Bad = r.extents(bad.indices())
			return &ReadBackError{Blocks: len(bad.blocks), Last: bad.last}
		}
		r.noteUnsteady(bad)
		if err := r.repairAll(ctx, bad); err != nil {
			return err
		}
	}
}

// repairAll takes the first sector away again, repairs blocks that turned out to be wrong only then, and reads all
// back.
func (r *run) repairAll(ctx context.Context, late *badBlocks) error {
	if err := r.writeHead(ctx); err != nil {
		return err
	}
	if err := r.flush(ctx); err != nil {
		return err
	}
	r.State, r.Verified, r.last = NoTable, 0, map[int]bool{}
	bad, err := r.compare(ctx, meter.ReadBack, r.all())
	if err != nil {
		return err
	}
	for i, got := range late.blocks {
		if i == 0 { // it was written just now
			r.Repaired = append(r.Repaired, r.extents([]int{0})...)
		} else if _, wrong := bad.blocks[i]; !wrong {
			r.Verified -= r.blockLength(i)
			bad.add(i, got, nil)
		}
	}
	return r.mend(ctx, r.all(), bad)
}

// want is the digest that block i has when it is read back.
func (r *run) want(i int) digest.Block {
	if i == 0 && !r.headIsWhole {
		return r.head
	}
	if marked, ok := r.probes.zeros[i]; ok {
		return marked
	}
	return r.src.sums[i]
}
