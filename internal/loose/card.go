package loose

import (
	"context"
	"errors"
	"fmt"
	"io"
	"sync/atomic"
	"time"

	"zipstamp/internal/blank"
	"zipstamp/internal/card"
	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
	"zipstamp/internal/stamp"
)

// Card is a card that is to have the files of a set. It is a stamp.Source: the bytes from the card's start to the end
// of the last file.
type Card struct {
	Set  *Set
	Plan *blank.Plan // laid out with the set's files

	sums []digest.Seal // of the files, when they have been read once
}

// Path is that of the archive or folder.
func (c *Card) Path() string { return c.Set.Path }

// Download is the size of the archive, or of all files of a folder, bytes.
func (c *Card) Download() int64 {
	if c.Set.Archive == nil {
		return c.Set.Bytes
	}
	return c.Set.Archive.Size
}

// Size is how many bytes the card starts with.
func (c *Card) Size() image.Size {
	return image.Size{Bytes: c.Plan.Start + c.Plan.FAT.Used(), Certainty: image.Exact}
}

// Form says that others know no digest of it.
func (c *Card) Form() stamp.Form {
	if c.Set.Archive == nil {
		return stamp.Gathered
	}
	return stamp.Composed
}

// Changed tells whether the archive was written since it was listed. Of files in a folder, each is compared when it is
// opened.
func (c *Card) Changed() bool { return c.Set.Archive != nil && c.Set.Archive.Changed() }

// Open starts to read it.
func (c *Card) Open(tap io.Writer) (stamp.Stream, error) {
	files, err := c.Set.open(tap)
	if err != nil {
		return nil, c.named(err)
	}
	return &stream{card: c, files: files, part: c.Plan.Head(), at: -1}, nil
}

// named says of which file it is that its contents changed.
func (c *Card) named(err error) error {
	if errors.Is(err, errChanged) {
		return &stamp.ChangedError{Path: c.Set.Path}
	}
	return err
}

// stream is a card being composed.
type stream struct {
	card   *Card
	files  reader
	part   io.Reader // that is read now
	at     int       // the file that it is of; -1: it is what comes before
	left   int64     // bytes of the file that are still to come; then its clusters are filled up
	sealer *digest.Sealer
	sums   []digest.Seal
	err    error
}

func (s *stream) Read(p []byte) (int, error) {
	for s.err == nil {
		n, err := s.read(p)
		if err == io.EOF {
			err = s.turn()
		}
		s.err = err
		if n > 0 {
			return n, nil
		}
	}
	return 0, s.err
}

// read reads the part.
func (s *stream) read(p []byte) (int, error) {
	if s.sealer == nil {
		return s.part.Read(p)
	}
	if s.left > 0 {
		p = p[:min(int64(len(p)), s.left)]
	} else {
		p = p[:1] // its end, where an archive's check of it is made
	}
	n, err := s.part.Read(p)
	if n > 0 && s.left == 0 || err == io.EOF && int64(n) < s.left {
		return 0, s.card.named(errChanged)
	}
	s.left -= int64(n)
	_, _ = s.sealer.Write(p[:n]) // never fails
	if err != nil && err != io.EOF {
		err = s.card.named(err)
	}
	return n, err
}

// turn goes on to what follows the part that has ended: what fills up its clusters, the next file, or the end.
func (s *stream) turn() error {
	if s.sealer != nil {
		s.sums = append(s.sums, s.sealer.Seal())
		s.sealer = nil
		f := s.card.Set.Files[s.at]
		s.part = layout.Zeros(s.card.Plan.FAT.Place(s.at).Length - f.Size)
		return nil
	}
	for s.at++; s.at < len(s.card.Set.Files); s.at++ {
		f := s.card.Set.Files[s.at]
		if f.Folder {
			s.sums = append(s.sums, digest.Seal{})
			continue
		}
		part, err := s.files.next(s.at)
		if err != nil {
			return s.card.named(err)
		}
		s.part, s.left, s.sealer = part, f.Size, &digest.Sealer{}
		return nil
	}
	if err := s.files.end(); err != nil {
		return s.card.named(err)
	}
	if s.card.sums == nil {
		s.card.sums = s.sums
	}
	return io.EOF
}

func (s *stream) Position() int64 { return s.files.Position() }

func (s *stream) Close() error { return s.files.Close() }

// counter counts what is written to it. It may be read while it is written.
type counter struct{ n atomic.Int64 }

func (c *counter) Write(p []byte) (int, error) {
	c.n.Add(int64(len(p)))
	return len(p), nil
}

// FileFault is what is wrong with a file that was read back.
type FileFault string

// The kinds.
const (
	Missing  FileFault = "is not there"
	Extra    FileFault = "is there, and should not be"
	Differs  FileFault = "differs"
	NoFS     FileFault = "no such file system"
	Unlisted FileFault = "the folders can't be read"
)

// WrongError says that the files on a card are not those that were written.
type WrongError struct {
	Path  string // of the first that is wrong; may be empty
	Why   FileFault
	Count int // of all
	Err   error
}

func (e *WrongError) Error() string {
	if e.Err != nil {
		return fmt.Sprintf("%s (%v)", e.Why, e.Err)
	}
	return fmt.Sprintf("%s %s", e.Path, e.Why)
}

func (e *WrongError) Unwrap() error { return e.Err }

// Inspect reads the files back from a card by its file system: the folders, the tables and then every file. The error
// is a *WrongError, one of the card, or the cause of ctx's end. It is a stamp.Inspect.
func (c *Card) Inspect(ctx context.Context, d card.Device, m *meter.Meter) (bytes int64, err error) {
	m.Begin(meter.Files, c.Set.Bytes)
	small, err := card.NewReader(d, nil)
	if err != nil {
		return 0, err
	}
	defer small.Close()
	pool, err := card.NewPool(1, windowSize)
	if err != nil {
		return 0, err
	}
	defer pool.Close()
	large, err := pool.Get(ctx)
	if err != nil {
		return 0, err
	}
	defer pool.Put(large)
	r := split{small, &window{d: d, buf: large, at: -1}, c.Plan.HeadSize()}
	failed := func(why FileFault, err error) error {
		if errors.As(err, new(*card.GoneError)) || errors.As(err, new(*card.IOError)) {
			return err
		}
		return &WrongError{Why: why, Count: 1, Err: err}
	}
	v, err := layout.OpenFAT(io.NewSectionReader(r, c.Plan.Start, c.Plan.Size))
	if err != nil {
		return 0, failed(NoFS, err)
	}
	there, err := v.FilesWithin(layout.Bounds{
		Folders: c.Plan.FAT.Folders() + 1, Files: len(c.Set.Files) + 1, Depth: 1000,
	})
	if err != nil {
		return 0, failed(Unlisted, err)
	}
	byPath := map[string]layout.FATFile{}
	for _, f := range there {
		byPath[f.Path] = f
	}
	var wrong *WrongError
	add := func(name string, why FileFault) {
		if wrong == nil {
			wrong = &WrongError{Path: name, Why: why}
		}
		wrong.Count++
	}
	buf := make([]byte, 1<<20)
	for i, f := range c.Set.Files {
		if f.Folder {
			continue
		}
		is, ok := byPath[f.Path]
		delete(byPath, f.Path)
		if !ok {
			add(f.Path, Missing)
			continue
		}
		body, err := v.Open(is)
		if err != nil {
			return bytes, failed(Unlisted, err)
		}
		var sealer digest.Sealer
		for {
			if ctx.Err() != nil {
				return bytes, context.Cause(ctx)
			}
			n, err := body.Read(buf)
			_, _ = sealer.Write(buf[:n]) // never fails
			bytes += int64(n)
			m.Add(int64(n))
			if err == io.EOF {
				break
			}
			if err != nil {
				return bytes, failed(Differs, err)
			}
		}
		if is.Size != f.Size || sealer.Seal() != c.sums[i] || !is.Modified.Equal(c.modified(f)) {
			add(f.Path, Differs)
		}
	}
	for name := range byPath {
		add(name, Extra)
	}
	if wrong != nil {
		return bytes, wrong
	}
	return bytes, nil
}

// modified is the time that the file's entry has.
func (c *Card) modified(f layout.NewFile) time.Time {
	if f.Modified.IsZero() {
		return layout.FATTime(c.Plan.FAT.Time)
	}
	return layout.FATTime(f.Modified)
}

// windowSize is how much of the files is read at once, bytes.
const windowSize = 4 << 20

// split reads what comes before a boundary in small pieces, and what is behind it, where one file follows the other, in
// large ones.
type split struct {
	before, behind io.ReaderAt
	boundary       int64
}

func (s split) ReadAt(p []byte, off int64) (int, error) {
	if off < s.boundary {
		return s.before.ReadAt(p, off)
	}
	return s.behind.ReadAt(p, off)
}

// window reads a device in pieces of windowSize, of which it keeps the last.
type window struct {
	d   card.Device
	buf []byte
	at  int64 // of what is in buf; -1: nothing is
	n   int
}

func (w *window) ReadAt(p []byte, off int64) (done int, err error) {
	for done < len(p) {
		at := (off + int64(done)) / windowSize * windowSize
		n := min(windowSize, w.d.Size()-at)
		if n <= 0 {
			return done, io.EOF
		}
		if at != w.at {
			w.at = -1
			if _, err := w.d.ReadAt(w.buf[:n], at); err != nil {
				return done, err
			}
			w.at, w.n = at, int(n)
		}
		from := int(off + int64(done) - at)
		if from >= w.n {
			return done, io.EOF
		}
		done += copy(p[done:], w.buf[from:w.n])
	}
	return done, nil
}
