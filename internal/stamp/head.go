package stamp

import (
	"bytes"
	"context"
	"slices"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
	"zipstamp/internal/layout"
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

// complete writes what was held back, and reads the first block back. Where it is wrong, it is taken away and written
// again, as often as blocks may be.
func (r *run) complete(ctx context.Context) error {
	for round := 0; ; round++ {
		if err := r.writeHeld(ctx); err != nil {
			return err
		}
		if err := r.flush(ctx); err != nil {
			return err
		}
		r.State = Complete
		if !r.job.ReadBack {
			return nil
		}
		r.Verified -= r.blockLength(0) // it was read before, without what was held back
		bad, err := r.compare(ctx, meter.Finish, []int{0})
		if err != nil {
			return err
		}
		first := []layout.Extent{{Length: r.blockLength(0)}}
		switch {
		case len(bad.blocks) == 0:
			r.State = Verified
			if round > 0 {
				r.Repaired, r.Attempts = append(r.Repaired, first...), max(r.Attempts, round)
			}
			return nil
		case round == r.job.Repairs:
			r.Bad = first
			return &ReadBackError{Blocks: 1, Last: bad.last}
		}
		r.State = Uncertain
		if err := r.writeHead(ctx); err != nil {
			return err
		}
		if err := r.flush(ctx); err != nil {
			return err
		}
		r.Verified += r.blockLength(0)
	}
}

// want is the digest that block i has when it is read back.
func (r *run) want(i int) digest.Block {
	if i == 0 && !r.headIsWhole {
		return r.head
	}
	return r.src.sums[i]
}
