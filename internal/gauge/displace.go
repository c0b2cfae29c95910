package gauge

import (
	"bytes"
	"context"
	"slices"

	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/gauge/mark"
)

// How much is written with what is there already, bytes, so that the card's own memory forgets the places: when all are written, in the quick search of a stamp (which reads
// all back later), and when there are signs that the memory is larger. Memories of up to 32 MiB were seen on cards.
const (
	Displaced  = 32 << 20
	fillQuick  = 2 << 20
	fillMore   = 40 << 20
	fillPiece  = 1 << 20
	mostPieces = Displaced + fillMore // bytes that are saved for it
)

// displacing is what spots write with what is there already. The zero value has nothing yet.
type displacing struct {
	gaps   []Extent // where there may be pieces, in the order in which they are taken
	listed bool
	pieces []Extent // that are saved
	bytes  int64    // of them
	next   int      // of the pieces
}

// gapsFor lists the stretches between the spots, from the upper half on, spread over it, so that only few of them lie beyond the end of a card that is a little too small. Where
// it will be looked for stamps nothing is written.
func gapsFor(spots []spot, windows []Extent, size int64) (gaps []Extent) {
	add := func(from, to int64) {
		from = (from + sampleSize - 1) / sampleSize * sampleSize
		for ; to-from >= 16*sampleSize; from += fillPiece {
			e := Extent{Offset: from, Length: min(to-from, fillPiece) / sampleSize * sampleSize}
			if e.Length < 16*sampleSize || slices.ContainsFunc(windows, func(w Extent) bool { return w.Offset < e.End() && e.Offset < w.End() }) {
				continue
			}
			gaps = append(gaps, e)
			if to-from > 64*fillPiece {
				return // there are enough spots
			}
		}
	}
	for i := 0; i+1 < len(spots); i++ {
		add(spots[i].end(), spots[i+1].off)
	}
	upper, _ := slices.BinarySearchFunc(gaps, size/2, func(e Extent, half int64) int { return int(min(max(e.Offset-half, -1), 1)) })
	return append(spread(gaps[upper:]), spread(gaps[:upper])...)
}

// spread puts a list in an order whose beginning, wherever it ends, is spread over the whole.
func spread(all []Extent) []Extent {
	out := make([]Extent, 0, len(all))
	taken := make([]bool, len(all))
	for step := 1; len(out) < len(all); step *= 2 {
		for i := range step {
			if at := (2*i + 1) * len(all) / (2 * step); !taken[at] {
				taken[at] = true
				out = append(out, all[at])
			}
		}
	}
	return out
}

// displace writes up to so many bytes with what is there already, so that the card's own memory has that and no longer what was written before. What is there is saved
// first. It ends when forgotten, which may be nil, says that the memory has forgotten what is to be seen, and tells whether it did.
func (r *spotsRun) displace(ctx context.Context, most int64, forgotten func() (bool, error)) (bool, error) {
	buf, err := r.blocks.Get(ctx)
	if err != nil {
		return false, err
	}
	defer r.blocks.Put(buf)
	done, ask := int64(0), int64(fillPiece)
	for done < most {
		if forgotten != nil && done >= ask/2 {
			if yes, err := r.asked(forgotten); yes || err != nil {
				return yes, err
			}
			ask *= 2
		}
		if ctx.Err() != nil {
			return false, context.Cause(ctx)
		}
		wrote, err := r.displaceOne(buf, most-done)
		if err != nil {
			return false, err
		}
		if wrote == 0 {
			break
		}
		done += wrote
	}
	r.rep.Displaced = max(r.rep.Displaced, done)
	if forgotten == nil {
		return false, nil
	}
	return r.asked(forgotten)
}

// asked asks the card, and not this computer's memory.
func (r *spotsRun) asked(forgotten func() (bool, error)) (bool, error) {
	if r.cached() {
		if err := r.settle(); err != nil {
			return false, err
		}
	}
	return forgotten()
}

// displaceOne writes some pieces once more: new ones, as long as there may be more of them, and then those that are saved by turns. It returns how much that was; 0 if there are none.
func (r *spotsRun) displaceOne(buf []byte, most int64) (int64, error) {
	d := &r.displacing
	if !d.listed {
		d.listed = true
		d.gaps = gapsFor(r.spots, r.comb.windows(r.size, r.size), r.size)
	}
	if d.bytes < mostPieces && len(d.gaps) > 0 {
		return r.newPieces(buf, most)
	}
	for range d.pieces {
		p := d.pieces[d.next%len(d.pieces)]
		d.next++
		if r.hasExtra(p) {
			continue
		}
		part := buf[:p.Length]
		err := r.readAt(part, p.Offset)
		if err == nil {
			err = r.writeAt(part, p.Offset)
		}
		if failedThere(err) {
			continue
		}
		return p.Length, err
	}
	return 0, nil
}

// hasExtra tells whether something of the test's own stands in a piece besides the spots: to write that again would keep it in the card's memory.
func (r *spotsRun) hasExtra(p Extent) bool {
	return slices.ContainsFunc(r.extra, func(off int64) bool { return off >= p.Offset && off < p.End() })
}

// newPieces reads the next pieces, saves them, and writes them again.
func (r *spotsRun) newPieces(buf []byte, most int64) (wrote int64, err error) {
	d := &r.displacing
	var batch []journal.Place
	for sum := int64(0); len(d.gaps) > 0 && sum < min(most, 8*fillPiece); {
		p := d.gaps[0]
		d.gaps = d.gaps[1:]
		if r.hasExtra(p) {
			continue
		}
		data, err := r.piece(buf, p)
		if err != nil {
			return 0, err
		}
		if data != nil {
			batch = append(batch, journal.Place{Offset: p.Offset, Data: data})
			sum += p.Length
		}
	}
	if len(batch) == 0 {
		return 0, nil
	}
	if err := r.keep(batch); err != nil {
		return 0, err
	}
	for _, p := range batch {
		d.pieces = append(d.pieces, Extent{Offset: p.Offset, Length: int64(len(p.Data))})
		d.bytes += int64(len(p.Data))
		copy(buf, p.Data)
		err := r.writeAt(buf[:len(p.Data)], p.Offset)
		if err != nil && !failedThere(err) {
			return 0, err
		}
		wrote += int64(len(p.Data))
	}
	return wrote, nil
}

// piece reads what stands in a piece; nil if it is to be left alone: it can't be read, or a few sectors of it don't read the same twice, and might be spoilt. What differs
// nearly everywhere is noise, of a place where nothing is kept.
func (r *spotsRun) piece(buf []byte, p Extent) ([]byte, error) {
	one, two := buf[:p.Length], buf[fillPiece:fillPiece+p.Length]
	for _, b := range [][]byte{one, two} {
		if err := r.readAt(b, p.Offset); failedThere(err) {
			return nil, nil
		} else if err != nil {
			return nil, err
		}
	}
	differ := 0
	for at := 0; at < len(one); at += mark.Size {
		if !bytes.Equal(one[at:at+mark.Size], two[at:at+mark.Size]) {
			differ++
		}
	}
	if differ > 0 && differ < len(one)/mark.Size/2 {
		return nil, nil
	}
	if differ > 0 {
		r.noise = append(r.noise, p)
	}
	return bytes.Clone(one), nil
}

// overwritten tells whether a sector below the real size of a card whose addresses repeat was overwritten by what this test wrote elsewhere.
func (r *spotsRun) overwritten(off, real int64) bool {
	over := func(from, n int64) bool {
		k := (off - from) % real
		if k < 0 {
			k += real
		}
		return k < n && from+k != off
	}
	return slices.ContainsFunc(r.displacing.pieces, func(p Extent) bool { return over(p.Offset, p.Length) }) ||
		slices.ContainsFunc(r.spots, func(s spot) bool { return !s.skipped && over(s.off, s.n) }) ||
		slices.ContainsFunc(r.extra, func(at int64) bool { return over(at, int64(r.dev.SectorSize())) })
}
