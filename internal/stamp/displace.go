package stamp

import (
	"context"
	"errors"
	"maps"
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

// inBetween lists the blocks that may be written once more before the read-back: those that weren't written lately, and
// if these are too few, the first half of those that were. That half was written before the other one, which is what it
// gets past, as the other one gets past it now. Where all was written, they are the middle of the image.
func (r *run) inBetween() []int {
	if r.Kept == 0 {
		return r.middle(nil)
	}
	late := r.late.indices()
	blocks := r.outwards(len(r.src.sums), late)
	for _, i := range late[:len(late)/2] {
		if _, marked := r.probes.zeros[i]; !marked && len(blocks) < Displaced/BlockSize {
			blocks = append(blocks, i)
		}
	}
	return blocks
}

// displaceFirst displaces the first sector, after it was written, which is the last of all: within the image's own
// area, and where that is too small, also beyond it. On a card whose addresses repeat, what is beyond may be the
// image's, as it was before the card's cache had stored what was written last; so the same is written twice, which gets
// it out of the cache for the reading after this to show it. Of a card that is known to hold less, only what it holds
// is used. Blocks that were written again just before are left out: they are read once more after this.
func (r *run) displaceFirst(ctx context.Context) error {
	blocks := r.outwards(len(r.src.sums), slices.Collect(maps.Keys(r.last)))
	if r.lengthOf(blocks) >= Displaced {
		return r.displace(ctx, nil, blocks)
	}
	if l := r.Capacity.Loss; l != nil {
		beyond := slices.DeleteFunc(r.beyond(0), func(e layout.Extent) bool { return e.End() > l.Holds })
		return r.displace(ctx, beyond, blocks)
	}
	for range 2 {
		if err := r.displace(ctx, r.beyond(0), blocks); err != nil {
			return err
		}
	}
	return nil
}

// displace writes at least Displaced bytes of what is on the card once more, where there are so many. It notes how much
// that was: a cache that is larger may still answer. What is written here was found to be right before, be it by a
// cache; so these blocks are read once more, in the end, when as much was written after them.
func (r *run) displace(ctx context.Context, beyond []layout.Extent, blocks []int) error {
	start, done, room := time.Now(), int64(0), r.lengthOf(blocks)
	for _, e := range beyond {
		room += e.Length
	}
	r.meter.Begin(meter.Rewrite, min(room, Displaced))
	buf, err := r.room.Get(ctx)
	if err != nil {
		return err
	}
	defer r.room.Put(buf)
	again := func(off, n int64, right func(p []byte) bool) (bool, error) {
		if ctx.Err() != nil {
			return false, context.Cause(ctx)
		}
		p := buf[:padded(n, r.dev.SectorSize())]
		wrote, err := r.writeSame(p, off, right)
		if wrote {
			done += n
			r.meter.Add(n)
		}
		return wrote, err
	}
	for _, e := range beyond {
		unmarked := func(p []byte) bool {
			d := r.probeDistance(p, e.Offset)
			if d > 0 { // it is the place of a mark too
				r.probes.period = card.Period(r.probes.period, d)
			}
			return d == 0
		}
		if _, err := again(e.Offset, e.Length, unmarked); err != nil {
			return err
		}
	}
	for _, i := range blocks {
		if done >= Displaced {
			break
		}
		n := r.blockLength(i)
		right := func(p []byte) bool { return digest.SumBlock(p[:n]) == r.want(i) }
		wrote, err := again(int64(i)*BlockSize, n, right)
		if err != nil {
			return err
		}
		if wrote {
			r.last[i] = true
		}
	}
	if r.displaced == 0 || done < r.Displaced {
		r.Displaced = done
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

// outwards lists blocks up to the last (exclusive) from the middle of the image on outwards, without the first one,
// those with marks, which were written last, and some others.
func (r *run) outwards(last int, without []int) (blocks []int) {
	left := map[int]bool{}
	for _, i := range without {
		left[i] = true
	}
	for i := 1; i < last; i++ {
		if _, marked := r.probes.zeros[i]; !marked && !left[i] {
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
