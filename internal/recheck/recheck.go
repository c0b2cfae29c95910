// Package recheck reads a card that was stamped again, and compares it with the image, or against digests of its parts,
// which the receipt of the stamp has.
package recheck

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"time"

	"golang.org/x/sync/errgroup"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// Job is a card to read again. Either the image is given, or digests of its parts.
type Job struct {
	Device   card.Device
	Meter    *meter.Meter
	Image    *image.File
	Contents image.Contents

	Parts    []digest.Part
	PartSize int64 // bytes; a multiple of digest.BlockSize
	// of the first block, in pieces of digest.HeadPiece, and then of each other block of the first part, where these
	// are known
	Head []digest.Part
	Size int64 // of the image, bytes, where it is not given

	Was Start // where the image is not given, as far as it is known
	// Fine has digests of pieces of digest.HeadPiece of some blocks, by their numbers, where PartSize is one block
	Fine map[int][]digest.Part
	// Known is what a receipt says that was stamped onto the card, where the image is given; nil: nothing is known
	Known *Known

	Stamped time.Time // when the card was stamped; what was written to it later, its files say so. Zero: not known
}

// Known is an image that a receipt says is on the card.
type Known struct {
	Name   string
	Blocks []digest.Part // of each block
}

// Start is what stood at the card's start when it was stamped.
type Start struct {
	Table  *layout.Table // nil where it isn't known
	Boot   [32]byte      // SHA-256 of the first layout.BootCode bytes
	From   int64         // where the table ends, bytes; 0 where Behind isn't known
	Behind digest.Part   // from there to digest.HeadPiece
	Supers []Super       // of file systems; nil where they aren't known
}

// Super is what a file system's superblock, or boot sector, was when the card was stamped.
type Super struct {
	Partition int
	Digest    digest.Part // of the first SuperSize bytes of the partition
	Faulty    bool        // something of it was wrong then, as a check finds
}

// SuperSize is how much of a partition's start is kept the digest of, bytes: superblocks of ext are at 1 KiB.
const SuperSize = 2 << 10

// TableEnd is where the first copy of a partition table ends, bytes: after the first sector, or, of a GPT, after the
// 34th (UEFI 2.10, 5.3.1).
func TableEnd(t layout.Table) int64 {
	if t.Scheme == layout.SchemeMBR {
		return layout.SectorSize
	}
	return 34 * layout.SectorSize
}

// Report is what differs.
type Report struct {
	Compared int64           // bytes
	Unit     int64           // bytes: to which places of differences are known
	Differs  []layout.Extent // of the card from the image
	Failed   []layout.Extent // could not be read
	Areas    []Area          // what these are, in order
	// Holds says that the card has another system than the image: its name, if a receipt knows it, and otherwise by
	// what they are told apart; empty: nothing shows that
	Holds     string
	HoldsName bool
	Took      time.Duration
	Reading   []meter.Point
}

// Same tells whether nothing differs.
func (r *Report) Same() bool { return len(r.Differs)+len(r.Failed) == 0 }

// Started tells whether all that differs is what a board changes when it starts from the card.
func (r *Report) Started() bool {
	if r.Same() || len(r.Failed) > 0 || r.Holds != "" {
		return false
	}
	for _, a := range r.Areas {
		if !a.Started && !a.Unsure {
			return false
		}
	}
	return true
}

// Unsure is how much differs, or may, of which can't be told whether it is use or damage, bytes.
func (r *Report) Unsure() (n int64) {
	for _, a := range r.Areas {
		if a.Unsure {
			n += a.Bytes
		}
	}
	return n
}

// Bytes that differ or could not be read.
func (r *Report) Bytes() (n int64) {
	for _, list := range [][]layout.Extent{r.Differs, r.Failed} {
		for _, e := range list {
			n += e.Length
		}
	}
	return n
}

// Bounds: how fine places are told, where the image is at hand; how many stretches are kept apart; how many blocks may
// fail to be read.
const (
	unit          = layout.SectorSize
	maxExtents    = 20000
	maxReadErrors = 32
	// blocks that are unpacked and wait; besides them, one is made, one compared, and one read from the card
	ahead = 3
)

// ShortError says that the card is smaller than the image.
type ShortError struct{ Card, Image int64 }

func (e *ShortError) Error() string {
	return fmt.Sprintf("the image has %d bytes, the card %d", e.Image, e.Card)
}

// part is what a stretch of the card should hold.
type part struct {
	offset, length int64
	want           []byte      // nil where only the digest is known
	digest         digest.Part //
	back           func()
}

// run is a job at work.
type run struct {
	Job
	pool    *card.Pool
	rep     *Report
	curve   meter.Curve
	was     *image.Window // the image, where it is at hand; nil before something differs
	flipped []int64       // sectors in which one bit differs, where that is known
	other   bool          // the image is not the one that Known says
}

// Run does the job. The error is one of the card or the image, or the cause of ctx's end.
func (j Job) Run(ctx context.Context) (*Report, error) {
	r := &run{Job: j, rep: &Report{Unit: unit}}
	if j.Image == nil {
		r.rep.Unit = j.PartSize
	}
	size := j.Size
	if j.Image != nil {
		size = j.Contents.Size.Known()
	}
	if size > j.Device.Size() {
		return r.rep, &ShortError{j.Device.Size(), size}
	}
	var err error
	if r.pool, err = card.NewPool(ahead+3, digest.BlockSize); err != nil {
		return r.rep, err
	}
	defer r.pool.Close()
	if err := j.Device.Forget(); err != nil {
		return r.rep, err
	}
	start := time.Now()
	j.Meter.Begin(meter.ReadBack, max(size, j.Contents.Size.Likely(0)))
	r.curve.Start(start)
	parts := make(chan part, ahead)
	stages, staged := errgroup.WithContext(ctx)
	stages.Go(func() error {
		defer close(parts)
		if j.Image != nil {
			return r.unpack(staged, parts)
		}
		return r.list(staged, parts)
	})
	stages.Go(func() error {
		for p := range parts {
			err := r.compare(staged, p)
			if p.back != nil {
				p.back()
			}
			if err != nil {
				return err
			}
		}
		return nil
	})
	err = stages.Wait()
	r.rep.Took, r.rep.Reading = time.Since(start), r.curve.Points()
	if err != nil {
		return r.rep, err
	}
	if !r.rep.Same() {
		err = r.explain(ctx)
	}
	return r.rep, err
}

// explain finds out what differs, and why.
func (r *run) explain(ctx context.Context) error {
	if r.Image != nil {
		r.was = r.Image.Window(r.Contents)
		defer r.was.Close()
		if err := r.readImagesTable(); err != nil {
			return err
		}
	}
	var err error
	r.rep.Areas, err = r.areas(ctx)
	return err
}

// readImagesTable reads the partition table of the image.
func (r *run) readImagesTable() error {
	w := r.was
	table, err := layout.ReadTable(w, r.Contents.Size.Known(), layout.SectorSize)
	if err != nil {
		return err
	}
	boot := make([]byte, layout.BootCode)
	if _, err := w.ReadAt(boot, 0); err != nil && !errors.Is(err, io.EOF) {
		return err
	}
	r.Was = Start{Table: &table, Boot: sha256.Sum256(boot)}
	return nil
}

// unpack gives the parts of the image.
func (r *run) unpack(ctx context.Context, parts chan<- part) error {
	stream, err := r.Image.Unpack(r.Contents, nil)
	if err != nil {
		return err
	}
	defer stream.Close()
	for offset := int64(0); ; {
		buf, err := r.pool.Get(ctx)
		if err != nil {
			return err
		}
		n, err := io.ReadFull(stream, buf)
		if err != nil && !errors.Is(err, io.EOF) && !errors.Is(err, io.ErrUnexpectedEOF) {
			return err
		}
		if n == 0 {
			return nil
		}
		if offset+int64(n) > r.Device.Size() {
			return &ShortError{r.Device.Size(), offset + int64(n)}
		}
		p := part{offset: offset, length: int64(n), want: buf[:n], back: func() { r.pool.Put(buf) }}
		select {
		case parts <- p:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		offset += int64(n)
		if n < len(buf) {
			return nil
		}
	}
}

// list gives the parts whose digests are known.
func (r *run) list(ctx context.Context, parts chan<- part) error {
	if want := (r.Size + r.PartSize - 1) / r.PartSize; int64(len(r.Parts)) != want {
		return fmt.Errorf("there are digests of %d parts of the image, which has %d", len(r.Parts), want)
	}
	for i, d := range r.Parts {
		offset := int64(i) * r.PartSize
		select {
		case parts <- part{offset: offset, length: min(r.PartSize, r.Size-offset), digest: d}:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
	return nil
}

// compare reads a part of the card.
func (r *run) compare(ctx context.Context, p part) error {
	buf, err := r.pool.Get(ctx)
	if err != nil {
		return err
	}
	defer r.pool.Put(buf)
	var sums []digest.Block
	failed := false
	for at := int64(0); at < p.length; at += digest.BlockSize {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		n := min(digest.BlockSize, p.length-at)
		whole := buf[:roundUp(n, int64(r.Device.SectorSize()))]
		if _, err := r.Device.ReadAt(whole, p.offset+at); err != nil {
			if errors.As(err, new(*card.GoneError)) || len(r.rep.Failed) >= maxReadErrors {
				return err
			}
			r.rep.Failed = append(r.rep.Failed, layout.Extent{Offset: p.offset + at, Length: n})
			failed = true
			continue
		}
		r.rep.Compared += n
		r.curve.Mark(p.offset+at, n, time.Now())
		r.Meter.Add(n)
		if p.want != nil {
			r.isKnown(p.offset, p.want)
			r.differ(p.offset, p.want, whole[:n])
		} else {
			sums = append(sums, digest.SumBlock(whole[:n]))
		}
	}
	switch {
	case p.want != nil || failed || digest.SumPart(sums, int(r.PartSize/digest.BlockSize)) == p.digest:
	case p.offset == 0 && len(r.Head) > 0:
		return r.compareHead(buf, p.length, sums)
	case r.PartSize == digest.BlockSize && len(r.Fine[int(p.offset/digest.BlockSize)]) > 0:
		r.compareFine(buf[:p.length], p.offset)
	default:
		r.add(layout.Extent{Offset: p.offset, Length: p.length})
	}
	return nil
}

// compareHead finds out which pieces of the first block differ, and which of the other blocks of the first part. sums
// are those of the blocks as they are.
func (r *run) compareHead(buf []byte, length int64, sums []digest.Block) error {
	n := min(digest.BlockSize, length)
	if _, err := r.Device.ReadAt(buf[:roundUp(n, int64(r.Device.SectorSize()))], 0); err != nil {
		return err
	}
	now := digest.SumHead(buf[:n])
	for _, s := range sums[1:] {
		now = append(now, digest.SumPart([]digest.Block{s}, 1))
	}
	at := int64(0)
	for i, d := range now {
		end := min(at+digest.HeadPiece, n)
		if at >= n {
			end = min(at+digest.BlockSize, length)
		}
		switch same := i < len(r.Head) && d == r.Head[i]; {
		case same:
		case i == 0 && r.Was.From > 0 && n >= digest.HeadPiece && digest.SumPart([]digest.Block{
			digest.SumBlock(buf[r.Was.From:digest.HeadPiece]),
		}, 1) == r.Was.Behind:
			r.add(layout.Extent{Offset: 0, Length: r.Was.From}) // only the table
		default:
			r.add(layout.Extent{Offset: at, Length: end - at})
		}
		at = end
	}
	return nil
}

// compareFine finds out which pieces of a block differ; buf is what the card has.
func (r *run) compareFine(buf []byte, offset int64) {
	was := r.Fine[int(offset/digest.BlockSize)]
	for i, d := range digest.SumHead(buf) {
		if at := int64(i) * digest.HeadPiece; i >= len(was) || d != was[i] {
			r.add(layout.Extent{Offset: offset + at, Length: min(digest.HeadPiece, int64(len(buf))-at)})
		}
	}
}

// isKnown compares a block of the image with the one that a receipt says was stamped.
func (r *run) isKnown(offset int64, want []byte) {
	if r.Known == nil || r.other {
		return
	}
	i := int(offset / digest.BlockSize)
	r.other = i >= len(r.Known.Blocks) || digest.SumPart([]digest.Block{digest.SumBlock(want)}, 1) != r.Known.Blocks[i]
}

func roundUp(n, to int64) int64 { return (n + to - 1) / to * to }

// differ notes where two stretches differ.
func (r *run) differ(offset int64, want, got []byte) {
	if string(want) == string(got) {
		return
	}
	for at := 0; at < len(want); at += unit {
		end := min(at+unit, len(want))
		if string(want[at:end]) != string(got[at:end]) {
			if len(r.flipped) < maxExtents && mark.Differing(want[at:end], got[at:end]) == 1 {
				r.flipped = append(r.flipped, offset+int64(at))
			}
			r.add(layout.Extent{Offset: offset + int64(at), Length: int64(end - at)})
		}
	}
}

// add notes a stretch that differs, and joins it with the one before it.
func (r *run) add(e layout.Extent) {
	if n := len(r.rep.Differs); n > 0 {
		last := &r.rep.Differs[n-1]
		gap := int64(0)
		if n >= maxExtents {
			gap = digest.BlockSize
		}
		if e.Offset-last.End() <= gap {
			last.Length = e.End() - last.Offset
			return
		}
	}
	r.rep.Differs = append(r.rep.Differs, e)
}
