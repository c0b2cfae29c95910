package stamp

import (
	"bytes"
	"context"
	"errors"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// A block that was read before it is written is compared in pieces. Pieces that differ are written together if no more
// than gap bytes lie between them, and the block as a whole if more than half of it differs; docs/unchanged.md says
// why.
const (
	piece = 64 << 10
	gap   = 128 << 10

	readAtOnce = 1 << 20 // of what the card holds; a multiple of piece
)

// settle sees to it that the card holds a block: what isn't there is written, but for the first block, which is left
// for the end. own is a buffer for what the card holds.
func (r *run) settle(ctx context.Context, b *block, own []byte) error {
	b.sum() // here, where several can be computed at once
	r.gate.RLock()
	defer r.gate.RUnlock()
	whole := b.buf[:padded(int64(b.n), r.dev.SectorSize())]
	differs, err := r.differing(b, whole, own)
	if err != nil {
		return err
	}
	if len(differs) > 0 && !r.opened {
		r.gate.RUnlock()
		err := r.open(ctx, own)
		r.gate.RLock()
		if err != nil {
			return err
		}
		if b.index > 0 && r.isCleared(b) { // what was compared before may be gone
			differs = r.writeWhole(b, whole, differs)
		}
	}
	if b.index > 0 {
		if err := r.writeRuns(b, whole, differs); err != nil {
			return err
		}
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if !r.opened && r.handled == 0 {
		r.meter.Begin(meter.Compare, r.likely())
	}
	r.handled += int64(b.n)
	r.settledTo = max(r.settledTo, int64(b.index)*BlockSize+int64(len(whole)))
	r.meter.Add(int64(b.n))
	return nil
}

// differing lists the stretches of a block that are to be written: all of it where it isn't read, since that wouldn't
// pay, and none where the card holds it.
func (r *run) differing(b *block, whole, own []byte) ([]layout.Extent, error) {
	all := []layout.Extent{{Length: int64(len(whole))}}
	if r.pays.stopped() {
		r.mu.Lock()
		r.Unseen += int64(b.n)
		r.mu.Unlock()
		return all, nil
	}
	at := int64(b.index) * BlockSize
	g, look := r.pays.group(b.index, b.sum())
	if look && len(whole) > piece {
		// another place in each block, so that no pattern of the image's hides what differs
		off := int64(b.index) * 37 % int64(len(whole)/piece) * piece
		began := time.Now()
		if ok, err := r.readFirst(own[:piece], at+off); !ok {
			return all, err
		}
		g = r.pays.looked(bytes.Equal(own[:piece], whole[off:off+piece]), began)
	}
	read, tried := r.pays.reading(b.index, g)
	if !read {
		if g != lookedElse {
			r.mu.Lock()
			r.Unseen += int64(b.n)
			r.mu.Unlock()
		}
		return all, nil
	}
	began := time.Now()
	var d difference
	done := 0
	for done < len(whole) && !d.isTotal(done) {
		want := whole[done:min(done+len(own), len(whole))]
		got := own[:len(want)]
		if ok, err := r.readFirst(got, at+int64(done)); !ok {
			return all, err
		}
		if b.index == 0 && done == 0 {
			r.saw(got)
		}
		d.add(got, want, done)
		done += len(want)
	}
	if d.isTotal(done) || 2*d.bytes > len(whole) {
		d.runs = all
	}
	toWrite := int64(0)
	for _, e := range d.runs {
		toWrite += e.Length
	}
	r.pays.compared(g, int64(done), max(int64(done)-toWrite, 0), tried, began)
	r.mu.Lock()
	defer r.mu.Unlock()
	r.Compared += int64(min(done, b.n))
	kept := max(int64(b.n)-toWrite, 0)
	switch {
	case b.index == 0:
		r.keptHead = kept
	case toWrite == 0:
		r.same = append(r.same, b.index)
	}
	r.Kept += kept
	return d.runs, nil
}

// writeWhole takes back that a block has bytes which need not be written.
func (r *run) writeWhole(b *block, whole []byte, differs []layout.Extent) []layout.Extent {
	kept := int64(b.n)
	for _, e := range differs {
		kept -= e.Length
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.Kept -= max(kept, 0)
	return []layout.Extent{{Length: int64(len(whole))}}
}

// readFirst reads what the card holds before it is written, and tells whether it could. What can't be read is written.
func (r *run) readFirst(p []byte, off int64) (ok bool, err error) {
	_, err = r.dev.ReadAt(p, off)
	switch {
	case err == nil:
		return true, nil
	case errors.As(err, new(*card.GoneError)):
		return false, err
	}
	r.pays.unread()
	return false, nil
}

// saw keeps the start of the card as it was before anything was written.
func (r *run) saw(start []byte) {
	r.mu.Lock()
	r.start = bytes.Clone(start[:min(spotSize, len(start))])
	r.mu.Unlock()
	if m, marked := ReadMark(start); marked && r.job.Known.is(m.Image) {
		r.pays.carriesOn()
	}
}

// difference is in what a card differs from a block.
type difference struct {
	runs  []layout.Extent // as they are to be written
	bytes int             // of the pieces that differ
}

// isTotal tells whether all differs of what was read so far, a part of the block. Then the rest of it isn't read.
func (d *difference) isTotal(read int) bool { return read > 0 && d.bytes == read }

// add compares what was read at an offset in the block.
func (d *difference) add(got, want []byte, at int) {
	for off := 0; off < len(want); off += piece {
		end := min(off+piece, len(want))
		if bytes.Equal(got[off:end], want[off:end]) {
			continue
		}
		d.bytes += end - off
		from, to := int64(at+off), int64(at+end)
		if last := len(d.runs) - 1; last >= 0 && from-d.runs[last].End() <= gap {
			d.runs[last].Length = to - d.runs[last].Offset
			continue
		}
		d.runs = append(d.runs, layout.Extent{Offset: from, Length: to - from})
	}
}

// confirm reads all back where nothing had to be written, and says whether that is the end of it: the card holds the
// image. That counts only if it is known that the card held it before, past a cache of its own, that nothing else was
// written since, and that it is no counterfeit: else only writing shows what is behind the cache.
func (r *run) confirm(ctx context.Context) (done bool, err error) {
	if !r.heldBefore() {
		return false, nil
	}
	old, err := r.oldBackup()
	if err != nil || old > 0 && padded(r.src.size, r.dev.SectorSize()) < r.dev.Size() {
		return false, err
	}
	if err := r.flush(ctx); err != nil {
		return false, err
	}
	r.headIsWhole = true
	bad, err := r.compare(ctx, meter.ReadBack, r.all())
	if err != nil {
		return false, err
	}
	r.noteUnsteady(bad)
	if len(bad.blocks) > 0 {
		return false, nil
	}
	if err := r.inspect(ctx); err != nil {
		return false, err
	}
	r.State, r.Displaced = Verified, r.pays.past.Displaced
	if r.begun != nil {
		r.begun() // what is kept of what was there before is of no use either
	}
	return true, nil
}

// heldBefore tells whether it is known that the card held the image, all of it, before this job.
func (r *run) heldBefore() bool {
	past := r.pays.past
	if past == nil || past.Displaced < Displaced || !past.Untouched || len(past.Blocks) != len(r.src.sums) {
		return false
	}
	if !past.Proven && r.probable(r.src.size) {
		return false
	}
	for i, own := range r.src.sums {
		if !past.same(i, own) {
			return false
		}
	}
	return true
}

// noteUnsteady keeps which blocks were the same when they were read first, and aren't any more. Nothing was written
// there: either something else that was written has overwritten them, or the card doesn't keep what it has.
func (r *run) noteUnsteady(bad *badBlocks) {
	var blocks []int
	for _, i := range r.same {
		if _, wrong := bad.blocks[i]; wrong {
			blocks = append(blocks, i)
		}
	}
	r.same = without(r.same, blocks) // from now on they count as written
	r.Unsteady = append(r.Unsteady, r.extents(blocks)...)
}
