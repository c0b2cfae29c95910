package spots

import (
	"bytes"
	"context"
	"errors"
	"slices"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/gauge/probe"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// How much is written with what is there already, bytes, so that the card's own memory forgets the places: when all are
// written, in the quick search of a stamp (which reads all back later), and when there are signs that the memory is
// larger. Memories of up to 32 MiB were seen on cards.
const (
	fillQuick  = 2 << 20
	fillMore   = 40 << 20
	fillPiece  = 1 << 20
	mostPieces = gauge.Displaced + fillMore // bytes that are saved for it
)

// displacing is what spots write with what is there already. The zero value has nothing yet.
type displacing struct {
	gaps   []layout.Extent // where there may be pieces, in the order in which they are taken
	listed bool
	pieces []journal.Place // that are saved
	bytes  int64           // of them
	next   int             // of the pieces
}

// list lists where there may be pieces, once.
func (d *displacing) list(r *run) {
	if !d.listed {
		d.listed = true
		d.gaps = gapsFor(r.spots, r.comb.windows(r.size, r.size), r.size)
	}
}

// gapsFor lists the stretches between the spots, from the upper half on, spread over it, so that only few of them lie
// beyond the end of a card that is a little too small. Where it will be looked for stamps nothing is written.
func gapsFor(spots []spot, windows []layout.Extent, size int64) (gaps []layout.Extent) {
	add := func(from, to int64) {
		from = (from + probe.SampleSize - 1) / probe.SampleSize * probe.SampleSize
		for ; to-from >= 16*probe.SampleSize; from += fillPiece {
			e := layout.Extent{Offset: from, Length: min(to-from, fillPiece) / probe.SampleSize * probe.SampleSize}
			if e.Length < 16*probe.SampleSize || slices.ContainsFunc(windows, func(w layout.Extent) bool {
				return w.Offset < e.End() && e.Offset < w.End()
			}) {
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
	upper, _ := slices.BinarySearchFunc(gaps, size/2, func(e layout.Extent, half int64) int {
		return int(min(max(e.Offset-half, -1), 1))
	})
	return append(spread(gaps[upper:]), spread(gaps[:upper])...)
}

// spread puts a list in an order whose beginning, wherever it ends, is spread over the whole.
func spread(all []layout.Extent) []layout.Extent {
	out := make([]layout.Extent, 0, len(all))
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

// displace writes up to so many bytes with what is there already, so that the card's own memory has that and no longer
// what was written before. What is there is saved first. It ends when forgotten, which may be nil, says that the memory
// has forgotten what is to be seen, and tells whether it did.
func (r *run) displace(ctx context.Context, most int64, forgotten func() (bool, error)) (bool, error) {
	buf, err := r.Blocks.Get(ctx)
	if err != nil {
		return false, err
	}
	defer r.Blocks.Put(buf)
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
	r.Report.Displaced = max(r.Report.Displaced, done)
	if forgotten == nil {
		return false, nil
	}
	return r.asked(forgotten)
}

// asked asks the card, and not this computer's memory.
func (r *run) asked(forgotten func() (bool, error)) (bool, error) {
	if r.Cached() {
		if err := r.Settle(); err != nil {
			return false, err
		}
	}
	return forgotten()
}

// displaceOne writes some pieces once more: new ones, as long as there may be more of them, and then those that are
// saved by turns. It returns how much that was; 0 if there are none.
func (r *run) displaceOne(buf []byte, most int64) (int64, error) {
	if wrote, err := r.newPieces(buf, most); wrote > 0 || err != nil {
		return wrote, err
	}
	d := &r.displacing
	for range d.pieces {
		p := extentOf(d.pieces[d.next%len(d.pieces)])
		d.next++
		if r.hasExtra(p) {
			continue
		}
		part := buf[:p.Length]
		err := r.ReadAt(part, p.Offset)
		if err == nil {
			err = r.WriteAt(part, p.Offset)
		}
		if card.IsBadPlace(err) {
			continue
		}
		return p.Length, err
	}
	return 0, nil
}

// hasExtra tells whether something of the test's own stands in a piece besides the spots: to write that again would
// keep it in the card's memory.
func (r *run) hasExtra(p layout.Extent) bool {
	return slices.ContainsFunc(r.extra, func(off int64) bool { return off >= p.Offset && off < p.End() })
}

// newPieces saves some more pieces, and writes them again.
func (r *run) newPieces(buf []byte, most int64) (wrote int64, err error) {
	batch, err := r.savePieces(buf, most)
	for _, p := range batch {
		copy(buf, p.Data)
		err := r.WriteAt(buf[:len(p.Data)], p.Offset)
		if err != nil && !card.IsBadPlace(err) {
			return 0, err
		}
		wrote += int64(len(p.Data))
	}
	return wrote, err
}

// savePieces reads the next pieces, as long as there may be more of them, and saves them.
func (r *run) savePieces(buf []byte, most int64) (batch []journal.Place, err error) {
	d := &r.displacing
	d.list(r)
	if d.bytes >= mostPieces {
		return nil, nil
	}
	for sum := int64(0); len(d.gaps) > 0 && sum < min(most, 8*fillPiece); {
		p := d.gaps[0]
		d.gaps = d.gaps[1:]
		if r.hasExtra(p) {
			continue
		}
		data, err := r.piece(buf, p)
		if err != nil {
			return nil, err
		}
		if data != nil {
			batch = append(batch, journal.Place{Offset: p.Offset, Data: data})
			sum += p.Length
		}
	}
	if len(batch) == 0 {
		return nil, nil
	}
	if err := r.keep(batch); err != nil {
		return nil, err
	}
	for _, p := range batch {
		d.pieces = append(d.pieces, p)
		d.bytes += int64(len(p.Data))
	}
	return batch, nil
}

func extentOf(p journal.Place) layout.Extent {
	return layout.Extent{Offset: p.Offset, Length: int64(len(p.Data))}
}

// piece reads what stands in a piece; nil if it is to be left alone: it can't be read, or a few sectors of it don't
// read the same twice, and might be spoilt. What differs nearly everywhere is noise, of a place where nothing is kept.
func (r *run) piece(buf []byte, p layout.Extent) ([]byte, error) {
	one, two := buf[:p.Length], buf[fillPiece:fillPiece+p.Length]
	for _, b := range [][]byte{one, two} {
		if err := r.ReadAt(b, p.Offset); card.IsBadPlace(err) {
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

// displaceBack writes the pieces once more when all has been put back, so that the card's own memory has those: then
// what it stores late has been stored, and where addresses repeat, no other address reads any more as what stood there
// before. Whoever read that, and wrote it again, would undo what was put back.
func (r *run) displaceBack(buf []byte) error {
	d := &r.displacing
	if l := r.Report.Loss; l != nil { // beyond, nothing is kept
		d.list(r)
		d.gaps = slices.DeleteFunc(d.gaps, func(e layout.Extent) bool { return e.End() > l.Real })
	}
	done := int64(0)
	write := func(p journal.Place) (wrote int64, err error) {
		wrote, err = r.writeAgain(buf, p)
		done += wrote
		r.Progress.Add(wrote)
		return wrote, err
	}
	var again []journal.Place // those that can be written
	for pieces := d.pieces; ; {
		for _, p := range pieces {
			if done >= gauge.Displaced {
				return nil
			}
			wrote, err := write(p)
			if err != nil {
				return err
			}
			if wrote > 0 {
				again = append(again, p)
			}
		}
		more, err := r.savePieces(buf, gauge.Displaced-done)
		if errors.As(err, new(*card.GoneError)) {
			return err
		}
		if pieces = more; len(more) == 0 { // or no room for more on the computer's disk: what is saved does
			break
		}
	}
	for i := 0; done < gauge.Displaced && len(again) > 0; i++ { // once more
		if wrote, err := write(again[i%len(again)]); wrote == 0 || err != nil {
			return err
		}
	}
	return nil
}

// writeAgain writes the sectors of a piece that read as they were saved, and tells how much that was, bytes. Stamps of
// the test are left out: where addresses repeat, what is read there may be what stood there before something was put
// back.
func (r *run) writeAgain(buf []byte, p journal.Place) (wrote int64, err error) {
	buf = buf[:len(p.Data)]
	if err := r.ReadAt(buf, p.Offset); err != nil {
		return 0, unlessThere(err)
	}
	sector := r.Dev.SectorSize()
	same := func(at int) bool {
		return at < len(buf) && bytes.Equal(buf[at:at+sector], p.Data[at:at+sector]) &&
			!journal.HasStamp(buf[at:at+sector], r.Nonce)
	}
	for at := 0; at < len(buf); at += sector {
		from := at
		for same(at) {
			at += sector
		}
		if at == from {
			continue
		}
		if err := r.WriteAt(buf[from:at], p.Offset+int64(from)); err != nil {
			return wrote, unlessThere(err)
		}
		wrote += int64(at - from)
	}
	return wrote, nil
}

// unlessThere is an error, unless it is only one of a place.
func unlessThere(err error) error {
	if card.IsBadPlace(err) {
		return nil
	}
	return err
}

// Displace writes once more what stands on a card and was saved by an interrupted test, after what was overwritten has
// been put back, so that the card's own memory has forgotten that. Where not enough was saved it saves more, in a
// journal of its own. all says that what it saved is seen to be as it was; then that journal can be removed. The error
// says why the card could not be written; a place that fails is none. The meter counts what is written, up to
// Displaced.
func Displace(dev card.Device, m *meter.Meter, p journal.Pending, j *journal.Journal) (all bool, err error) {
	r := &run{Test: Test{Device: dev, Nonce: p.Nonce, Journal: j}, size: dev.Size(), sentinel: -1}
	r.Subject = probe.Subject{Dev: dev, Progress: m, Report: &gauge.Report{Method: gauge.BySpots}}
	defer r.Close()
	if err := r.Open(1); err != nil {
		return true, err
	}
	buf, err := r.Blocks.Get(context.Background())
	if err != nil {
		return true, err
	}
	defer r.Blocks.Put(buf)
	for _, batch := range p.Batches {
		for _, place := range batch {
			e := extentOf(place)
			r.spots = append(r.spots, spot{off: e.Offset, n: e.Length})
			if e.Length > probe.SampleSize {
				r.displacing.pieces = append(r.displacing.pieces, place)
			}
		}
	}
	r.spots = disjoint(r.spots)
	if err := r.displaceBack(buf); err != nil {
		return false, err
	}
	if err := r.Settle(); err != nil {
		return false, err
	}
	r.Progress = nil
	err = r.seeBack(buf)
	return err == nil && !r.pending, err
}

// overwritten tells whether a sector below the real size of a card whose addresses repeat was overwritten by what this
// test wrote elsewhere.
func (r *run) overwritten(off, real int64) bool {
	over := func(from, n int64) bool {
		k := (off - from) % real
		if k < 0 {
			k += real
		}
		return k < n && from+k != off
	}
	return slices.ContainsFunc(r.displacing.pieces, func(p journal.Place) bool {
		return over(p.Offset, int64(len(p.Data)))
	}) ||
		slices.ContainsFunc(r.spots, func(s spot) bool { return !s.skipped && over(s.off, s.n) }) ||
		slices.ContainsFunc(r.extra, func(at int64) bool { return over(at, int64(r.Dev.SectorSize())) })
}
