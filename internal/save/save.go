// Package save copies a card into a file, packed or not, so that it can be stamped again.
//
// The copy is made in pieces, each packed by itself: frames of zstd, streams of xz, members of gzip. Programs read them
// as one; and a copy that was interrupted is carried on behind the last whole piece. What can't be read is tried again,
// sector by sector, and stands in the copy as zeros; the result lists it.
package save

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding"
	"errors"
	"fmt"
	"hash"
	"io"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/klauspost/compress/zstd"
	"github.com/ulikunitz/xz"
	"golang.org/x/sync/errgroup"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// Format is how a copy is packed.
type Format string

// The formats.
const (
	Raw  Format = "raw"
	Zstd Format = "zstd"
	XZ   Format = "xz"
	Gzip Format = "gzip"
)

var endings = map[string]Format{".zst": Zstd, ".xz": XZ, ".gz": Gzip, ".img": Raw}

// FormatOf tells by the ending of a name how the copy is to be packed, and what the image in it is called.
func FormatOf(path string) (f Format, image string, ok bool) {
	name := filepath.Base(path)
	ending := strings.ToLower(filepath.Ext(name))
	f, ok = endings[ending]
	if image = name; f != Raw {
		image = name[:len(name)-len(ending)]
	}
	return f, image, ok
}

// Piece is how much of a card is packed at once, bytes; a multiple of any sector.
const Piece = 8 << 20

// MaxUnread bounds how many stretches are listed that can't be read.
const MaxUnread = 4096

// Job is a copy to be made.
type Job struct {
	Device      card.Device
	Meter       *meter.Meter
	Out         Output
	Format      Format
	FreeAsZeros bool // what no file uses is left out of file systems that tell
	Carry       *Progress
	// Keep is called now and then, when all that Progress tells of is safe in the file; nil: nothing is kept.
	Keep func(Progress) error
}

// Output is the file that is written.
type Output interface {
	io.WriterAt
	Sync() error
	Truncate(size int64) error
}

// Progress is how far a copy has come. It can be carried on from there.
type Progress struct {
	Read    int64           `json:"read"`    // bytes of the card
	Written int64           `json:"written"` // bytes of the file
	End     int64           `json:"end"`     // of what is copied, bytes of the card
	Format  Format          `json:"format"`
	Zeros   bool            `json:"free_as_zeros"`
	Pieces  []byte          `json:"pieces"` // the start of the digest of each piece, pieceSum bytes
	Image   []byte          `json:"image"`  // states of the digests
	Packed  []byte          `json:"packed"`
	Unread  []layout.Extent `json:"unread"`
	Zeroed  int64           `json:"zeroed"` // bytes of free space
}

// Result is what was copied.
type Result struct {
	Size    int64           // of the image, bytes
	Packed  int64           // of the file
	LeftOut int64           // of the card behind the image
	Zeroed  int64           // free space that is zeros in the image
	Kept    error           // why free space was kept of some file system; nil if it wasn't
	Image   digest.Digest   // SHA-256
	File    digest.Digest   // SHA-256
	Unread  []layout.Extent // zeros in the image
	// what did not read the same a second time, or not at all; the image has what was read first
	Unsteady []layout.Extent
	Anew     bool // a copy that was to be carried on was made anew, since the card was written meanwhile
	Phases   []meter.PhaseTime
}

// pieceSum is how much of a piece's digest is kept, bytes.
const pieceSum = 16

// ErrOtherCard says that a copy can't be carried on: another card is here.
var ErrOtherCard = errors.New("the card is not the one of which the copy was begun, or was written since")

// run is a job at work.
type run struct {
	Job
	Progress
	image, packed hash.Hash
	free          []layout.Extent
	buf           *card.Pool
}

// Run makes the copy. The error is one of the card or of the file, ErrOtherCard, or the cause of ctx's end; what was
// copied by then can be carried on.
func (j Job) Run(ctx context.Context) (r Result, err error) {
	pool, err := card.NewPool(1, Piece)
	if err != nil {
		return r, err
	}
	defer pool.Close()
	w := &run{Job: j, image: sha256.New(), packed: sha256.New(), buf: pool}
	if err := w.begin(ctx, &r); err != nil {
		return r, err
	}
	r.LeftOut = j.Device.Size() - w.End
	start := time.Now()
	from := w.Read
	j.Meter.Begin(meter.Save, w.End-w.Read)
	err = w.copy(ctx)
	r.Phases = append(r.Phases, meter.PhaseTime{Phase: meter.Save, Bytes: w.Read - from, Took: time.Since(start)})
	r.Size, r.Packed, r.Unread, r.Zeroed = w.Read, w.Written, w.Unread, w.Zeroed
	if err != nil {
		return r, errors.Join(err, w.keep())
	}
	if err := j.Out.Truncate(w.Written); err != nil {
		return r, err
	}
	if err := j.Out.Sync(); err != nil {
		return r, err
	}
	r.Image = digest.New(digest.SHA256, w.image.Sum(nil))
	r.File = digest.New(digest.SHA256, w.packed.Sum(nil))
	return r, nil
}

// begin finds out what is to be copied, or takes up where an earlier run ended.
func (w *run) begin(ctx context.Context, r *Result) error {
	reader, err := card.NewReader(w.Device, nil)
	if err != nil {
		return err
	}
	defer reader.Close()
	d, err := layout.Describe(reader, w.Device.Size(), w.Device.SectorSize()) // where that can't be read, all is copied
	if w.FreeAsZeros && err == nil {
		w.free, r.Kept = freeOf(reader, d, w.Device.Size())
	}
	if w.Carry != nil {
		w.Progress = *w.Carry
		if same, err := w.takeUp(ctx); same || err != nil {
			return err
		}
		r.Anew = true
		w.image.Reset()
		w.packed.Reset()
		if w.FreeAsZeros && err == nil { // it was used up
			w.free, r.Kept = freeOf(reader, d, w.Device.Size())
		}
	}
	w.Progress = Progress{End: w.Device.Size(), Format: w.Job.Format, Zeros: w.FreeAsZeros}
	if err == nil {
		w.End = endOf(d, w.Device.Size(), int64(w.Device.SectorSize()))
	}
	return w.Out.Truncate(0)
}

// endOf is where what is on a card ends: behind the last partition of an MBR. A GPT has its second half at the card's
// end, and what has no partition table is copied whole, unless its file system says how large it is.
func endOf(d layout.Disk, size, sector int64) int64 {
	end := size
	switch {
	case d.Table.Scheme == layout.SchemeMBR && len(d.Table.Parts) > 0 && d.Table.Damage.What == "":
		end = d.Table.End()
	case d.Table.Scheme == layout.NoTable && d.Whole.Kind != "" && d.Whole.Size > 0:
		end = d.Whole.Size
	}
	end = (end + sector - 1) / sector * sector
	return min(max(end, min(Piece, size)), size)
}

// freeOf lists what no file uses, of all file systems that tell.
func freeOf(r io.ReaderAt, d layout.Disk, size int64) (all []layout.Extent, kept error) {
	add := func(start, length int64, kind layout.FSKind) {
		if kind == "" {
			return
		}
		free, err := layout.Free(io.NewSectionReader(r, start, length), kind, length)
		if err != nil {
			kept = err
			return
		}
		for _, e := range free {
			if e.Offset >= 0 && e.End() <= length {
				all = append(all, layout.Extent{Offset: start + e.Offset, Length: e.Length})
			}
		}
	}
	if len(d.Parts) == 0 {
		add(0, size, d.Whole.Kind)
	}
	parts := slices.Clone(d.Parts)
	slices.SortFunc(parts, func(a, b layout.Content) int { return cmp.Compare(a.Start, b.Start) })
	end := int64(0)
	for _, p := range parts {
		if p.Kind == "" { // an extended one has others within
			continue
		}
		if p.Start < end { // what is free of one is another's
			return nil, layout.ErrFreeUnknown
		}
		if end = p.End(); p.Start >= 0 && end <= size {
			add(p.Start, p.Length, p.Kind)
		}
	}
	return all, kept
}

// takeUp goes on with a copy, if the card still has all that was copied. same is false if only some of it is there: the
// card was written since, and no copy can be of both states.
func (w *run) takeUp(ctx context.Context) (same bool, err error) {
	if w.End > w.Device.Size() || w.Progress.Read > w.End || w.Job.Format != w.Progress.Format ||
		int64(len(w.Pieces)) != (w.Progress.Read+Piece-1)/Piece*pieceSum {
		return false, ErrOtherCard
	}
	for h, state := range map[hash.Hash][]byte{w.image: w.Image, w.packed: w.Packed} {
		if err := h.(encoding.BinaryUnmarshaler).UnmarshalBinary(state); err != nil {
			return false, ErrOtherCard
		}
	}
	w.Meter.Begin(meter.Compare, w.Progress.Read)
	for at := int64(0); at < w.Progress.Read; at += Piece {
		n := min(Piece, w.Progress.Read-at)
		plain, unread, err := w.piece(ctx, at, n)
		if err != nil {
			return false, err
		}
		w.clearFree(plain, at)
		mask(plain, at, w.Unread)
		w.Meter.Add(n)
		sum := w.Pieces[at/Piece*pieceSum:][:pieceSum]
		if got := digest.SumBlock(plain); bytes.Equal(got[:pieceSum], sum) || len(unread) > 0 { // it was read before
			continue
		}
		if at == 0 {
			return false, ErrOtherCard
		}
		return false, nil
	}
	return true, w.Out.Truncate(w.Written)
}

// mask makes zeros of places in a piece, as they stand in a copy that they could not be read for.
func mask(piece []byte, at int64, places []layout.Extent) {
	for _, e := range places {
		if from, to := max(e.Offset-at, 0), min(e.End()-at, int64(len(piece))); from < to {
			clear(piece[from:to])
		}
	}
}

// ErrChanged says that a copy does not read back as it was written.
var ErrChanged = errors.New("the copy does not read back as it was written")

// Compare reads the copy, as it comes out of its packing, and the card once more, past this computer's memory and by
// then past that of a reader. What differs is added to the result. The error is ErrChanged, one of reading, or the
// cause of ctx's end.
func (j Job) Compare(ctx context.Context, from io.Reader, r *Result) error {
	pool, err := card.NewPool(1, Piece)
	if err != nil {
		return err
	}
	defer pool.Close()
	w := &run{Job: j, image: sha256.New(), buf: pool}
	if j.FreeAsZeros {
		if err := w.findFree(); err != nil {
			return err
		}
	}
	if err := j.Device.Forget(); err != nil {
		return err
	}
	start := time.Now()
	j.Meter.Begin(meter.Check, r.Size)
	own := make([]byte, Piece)
	for at := int64(0); at < r.Size; at += Piece {
		n := min(Piece, r.Size-at)
		if _, err := io.ReadFull(from, own[:n]); err != nil {
			return &WriteError{errors.Join(ErrChanged, err)}
		}
		w.image.Write(own[:n])
		again, unread, err := w.piece(ctx, at, n)
		if err != nil {
			return err
		}
		w.clearFree(again, at)
		for _, e := range append(differing(own[:n], again, at, int64(j.Device.SectorSize())), unread...) {
			for _, rest := range outside(e, r.Unread) {
				r.Unsteady = joined(r.Unsteady, rest)
			}
		}
		j.Meter.Add(n)
	}
	if n, err := from.Read(own[:1]); n > 0 || err != io.EOF || !bytes.Equal(w.image.Sum(nil), r.Image.Bytes()) {
		return &WriteError{errors.Join(ErrChanged, err)}
	}
	r.Phases = append(r.Phases, meter.PhaseTime{Phase: meter.Check, Bytes: r.Size, Took: time.Since(start)})
	return nil
}

// differing lists the sectors in which two pieces at an offset differ.
func differing(a, b []byte, at, sector int64) (all []layout.Extent) {
	if bytes.Equal(a, b) {
		return nil
	}
	for off := int64(0); off < int64(len(a)); off += sector {
		end := min(off+sector, int64(len(a)))
		if !bytes.Equal(a[off:end], b[off:end]) {
			all = joined(all, layout.Extent{Offset: at + off, Length: end - off})
		}
	}
	return all
}

// outside is what of a stretch is in none of others.
func outside(e layout.Extent, others []layout.Extent) []layout.Extent {
	left := []layout.Extent{e}
	for _, o := range others {
		var rest []layout.Extent
		for _, e := range left {
			if from := min(o.Offset, e.End()); from > e.Offset {
				rest = append(rest, layout.Extent{Offset: e.Offset, Length: from - e.Offset})
			}
			if to := max(o.End(), e.Offset); to < e.End() {
				rest = append(rest, layout.Extent{Offset: to, Length: e.End() - to})
			}
		}
		left = rest
	}
	return left
}

// findFree finds out what no file uses.
func (w *run) findFree() error {
	reader, err := card.NewReader(w.Device, nil)
	if err != nil {
		return err
	}
	defer reader.Close()
	if d, err := layout.Describe(reader, w.Device.Size(), w.Device.SectorSize()); err == nil {
		w.free, _ = freeOf(reader, d, w.Device.Size())
	}
	return nil
}

// packedPiece is a piece on its way into the file.
type packedPiece struct {
	plain  []byte
	packed chan []byte
	unread []layout.Extent
	zeroed int64
}

// keepEvery is how often the progress is kept.
const keepEvery = 5 * time.Second

// copy reads pieces, packs them side by side, and writes them in order.
func (w *run) copy(ctx context.Context) error {
	workers := min(runtime.GOMAXPROCS(0), 4)
	queue := make(chan *packedPiece, workers)
	group, ready := errgroup.WithContext(ctx) // what was read is still packed where the card fails
	group.Go(func() error {
		defer close(queue)
		for at := w.Progress.Read; at < w.End; at += Piece {
			plain, unread, err := w.piece(ready, at, min(Piece, w.End-at))
			if err != nil {
				return err
			}
			p := &packedPiece{plain: plain, packed: make(chan []byte, 1), unread: unread}
			p.zeroed = w.clearFree(plain, at)
			select {
			case queue <- p:
			case <-ready.Done():
				return context.Cause(ready)
			}
			go func() { p.packed <- pack(ctx, w.Job.Format, p.plain) }()
		}
		return nil
	})
	group.Go(func() error {
		kept := time.Now()
		for p := range queue {
			packed := <-p.packed
			if packed == nil {
				return context.Cause(ctx)
			}
			if _, err := w.Out.WriteAt(packed, w.Written); err != nil {
				return &WriteError{err}
			}
			w.image.Write(p.plain)
			w.packed.Write(packed)
			sum := digest.SumBlock(p.plain)
			w.Pieces = append(w.Pieces, sum[:pieceSum]...)
			w.Progress.Read += int64(len(p.plain))
			w.Written += int64(len(packed))
			w.Zeroed += p.zeroed
			for _, e := range p.unread {
				w.Unread = joined(w.Unread, e)
			}
			w.Meter.Add(int64(len(p.plain)))
			if time.Since(kept) > keepEvery {
				if err := w.keep(); err != nil {
					return err
				}
				kept = time.Now()
			}
		}
		return nil
	})
	return group.Wait()
}

// WriteError says that the file can't be written.
type WriteError struct{ Err error }

func (e *WriteError) Error() string { return fmt.Sprintf("write the copy: %v", e.Err) }

func (e *WriteError) Unwrap() error { return e.Err }

// keep notes how far the copy has come.
func (w *run) keep() error {
	if w.Job.Keep == nil || w.Progress.Read == 0 {
		return nil
	}
	if err := w.Out.Sync(); err != nil {
		return &WriteError{err}
	}
	var err error
	if w.Image, err = w.image.(encoding.BinaryMarshaler).MarshalBinary(); err == nil {
		w.Packed, err = w.packed.(encoding.BinaryMarshaler).MarshalBinary()
	}
	if err != nil {
		return err
	}
	return w.Job.Keep(w.Progress)
}

// piece reads a piece of the card. What can't be read is zeros, and is listed.
func (w *run) piece(ctx context.Context, at, n int64) (plain []byte, unread []layout.Extent, err error) {
	buf, err := w.buf.Get(ctx)
	if err != nil {
		return nil, nil, err
	}
	defer w.buf.Put(buf)
	sector := int64(w.Device.SectorSize())
	if err := w.read(ctx, buf[:n], at, n, &unread, sector); err != nil {
		return nil, nil, err
	}
	return bytes.Clone(buf[:n]), unread, nil
}

// read reads a stretch, and, where that fails at a bad place, its halves, down to sectors, each of which is tried
// twice.
func (w *run) read(ctx context.Context, p []byte, at, n int64, unread *[]layout.Extent, sector int64) error {
	if ctx.Err() != nil {
		return context.Cause(ctx)
	}
	_, err := w.Device.ReadAt(p[:n], at)
	if err == nil || !card.IsBadPlace(err) {
		return err
	}
	if n <= sector {
		if _, err = w.Device.ReadAt(p[:n], at); err == nil {
			return nil
		}
		if !card.IsBadPlace(err) {
			return err
		}
		clear(p[:n])
		*unread = joined(*unread, layout.Extent{Offset: at, Length: n})
		return nil
	}
	half := (n/2 + sector - 1) / sector * sector
	if err := w.read(ctx, p, at, half, unread, sector); err != nil {
		return err
	}
	return w.read(ctx, p[half:], at+half, n-half, unread, sector)
}

// joined adds a stretch to others, the last of which it may follow.
func joined(all []layout.Extent, e layout.Extent) []layout.Extent {
	if last := len(all) - 1; last >= 0 && (all[last].End() == e.Offset || len(all) >= MaxUnread) {
		all[last].Length = e.End() - all[last].Offset
		return all
	}
	return append(all, e)
}

// clearFree makes zeros of what no file uses in a piece, and tells how much that is.
func (w *run) clearFree(piece []byte, at int64) (cleared int64) {
	for len(w.free) > 0 && w.free[0].End() <= at {
		w.free = w.free[1:]
	}
	for _, e := range w.free {
		from, to := max(e.Offset-at, 0), min(e.End()-at, int64(len(piece)))
		if from >= int64(len(piece)) {
			break
		}
		clear(piece[from:to])
		cleared += to - from
	}
	return cleared
}

// packAtOnce is how much is packed between two looks at whether the copy is still wanted, bytes: the slowest packing
// does it in a fraction of a second.
const packAtOnce = 64 << 10

// pack packs a piece by itself; nil where the context has ended.
func pack(ctx context.Context, f Format, plain []byte) []byte {
	var out bytes.Buffer
	var w io.WriteCloser
	var err error
	switch f {
	case Raw:
		return plain
	case Zstd:
		w, err = zstd.NewWriter(&out, zstd.WithEncoderConcurrency(1), zstd.WithWindowSize(Piece))
	case XZ:
		w, err = xz.WriterConfig{DictCap: Piece, CheckSum: xz.CRC64}.NewWriter(&out)
	case Gzip:
		w, err = gzip.NewWriterLevel(&out, gzip.DefaultCompression)
	}
	for at := 0; err == nil && at < len(plain); at += packAtOnce {
		if ctx.Err() != nil {
			return nil
		}
		_, err = w.Write(plain[at:min(at+packAtOnce, len(plain))])
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		panic(err) // memory never fails
	}
	return out.Bytes()
}
