package stamp

import (
	"context"
	"errors"
	"slices"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/digest"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// Displaced is how much is written after the image, bytes, so that the card's own memory has that and no longer what is
// read back. Cards were seen to have memories of up to 32 MiB; docs/gauge.md says what that sees through.
const Displaced = 32 << 20

// large is the size of an image within which so much can be written again, behind the first so much and before the
// last, bytes.
const large = 3 * Displaced

// areas is how often something is displaced, and all read back after it. What is written once more within an image
// shows by itself if it overwrites something. What lies beyond a small image may be at the image's own addresses, on a
// card whose addresses repeat; so that what is written there gets to its place too, it is displaced in its turn.
func (r *run) areas() int { return areasOf(r.src.size) }

func areasOf(size int64) int {
	if size < large {
		return 2
	}
	return 1
}

// displace writes what is on the card already once more: blocks in the middle of the image, or, where it is too small
// for that, what lies beyond it. fresh are blocks that were just written. It notes how much that was: a memory that is
// larger may still answer.
//
// What is written here was read before, and found to be right. Where little was written before, or little is left that
// wasn't, the card's memory may have answered that; so twice as much is written then. What comes first in it is read
// back when as much was written after it, and what comes then was read when as much was written before it.
func (r *run) displace(ctx context.Context, area int, fresh []int) error {
	start, done, times := time.Now(), int64(0), int64(1)
	beyond, middle := r.beyond(area), r.middle(fresh)
	if room := int64(len(beyond)) * BlockSize; r.Kept > 0 && r.displaced == 0 && room < Displaced &&
		(r.late.total < Displaced || room+int64(len(middle))*BlockSize < Displaced) {
		middle, times = r.outwards(len(r.src.sums), nil), 2
	}
	room := int64(len(beyond)) * BlockSize
	for _, i := range middle {
		room += r.blockLength(i)
	}
	r.meter.Begin(meter.Rewrite, min(room, times*Displaced))
	buf, err := r.room.Get(ctx)
	if err != nil {
		return err
	}
	defer r.room.Put(buf)
	again := func(off, n int64, right func(p []byte) bool) error {
		p := buf[:padded(n, r.dev.SectorSize())]
		wrote, err := r.writeSame(p, off, right)
		if wrote {
			done += n
			r.meter.Add(n)
		}
		return err
	}
	for _, e := range beyond {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if err := again(e.Offset, e.Length, func([]byte) bool { return true }); err != nil {
			return err
		}
	}
	for _, i := range middle {
		if done >= times*Displaced {
			break
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		n := r.blockLength(i)
		right := func(p []byte) bool { return digest.SumBlock(p[:n]) == r.want(i) }
		if err := again(int64(i)*BlockSize, n, right); err != nil {
			return err
		}
	}
	if seen := done / times; r.displaced == 0 || seen < r.Displaced {
		r.Displaced = seen
	}
	r.displaced++
	r.took(meter.Rewrite, done, start)
	return nil
}

// beyond lists what is written again of the card beyond the image; nothing where the image is large enough.
func (r *run) beyond(area int) (all []layout.Extent) {
	if r.src.size >= large {
		return nil
	}
	from := padded(r.src.size, BlockSize) + int64(area)*Displaced
	for off := from; off < from+Displaced && off+BlockSize <= r.dev.Size(); off += BlockSize {
		all = append(all, layout.Extent{Offset: off, Length: BlockSize})
	}
	return all
}

// middle lists the blocks that may be written once more. The first and the last, and those just written, are what is to
// be displaced.
func (r *run) middle(fresh []int) (blocks []int) {
	return r.outwards(len(r.src.sums)-Displaced/BlockSize, fresh)
}

// outwards lists blocks up to the last (exclusive) from the middle of the image on outwards, without the first one and
// those of some others.
func (r *run) outwards(last int, without []int) (blocks []int) {
	left := map[int]bool{}
	for _, i := range without {
		left[i] = true
	}
	for i := 1; i < last; i++ {
		if !left[i] {
			blocks = append(blocks, i)
		}
	}
	n := len(r.src.sums)
	far := func(i int) int { return max(2*i-n, n-2*i) }
	slices.SortStableFunc(blocks, func(a, b int) int { return far(a) - far(b) })
	return blocks
}

// writeSame reads a place and writes the same there, if it is right. A place that fails is left alone: what is wrong
// with the image is found when it is read back.
func (r *run) writeSame(p []byte, off int64, right func(p []byte) bool) (wrote bool, err error) {
	_, err = r.dev.ReadAt(p, off)
	if err == nil && !right(p) {
		return false, nil
	}
	if err == nil {
		_, err = r.dev.WriteAt(p, off)
		wrote = err == nil
	}
	if errors.As(err, new(*card.IOError)) && !errors.Is(err, fault.Locked) {
		err = nil
	}
	return wrote, err
}
