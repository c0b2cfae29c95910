package image

import (
	"bufio"
	"errors"
	"io"
	"io/fs"
	"runtime"
	"sync/atomic"
)

// Stream is an image as it comes out of its packing, from the first byte to the last. The packed file is
// read once, from its start to its end.
type Stream struct {
	file    *File
	packing string
	packed  *packedReader
	stack   *stack
	count   atomic.Int64
	limit   int64
	keeper  *keeper // nil: nothing is kept
	done    error   // what every Read returns from now on
}

// Unpack starts to unpack the contents c of the file. All bytes of the download, those between and
// after the packed ones too, go through tap when the stream is read to its end; tap may be nil.
// The error is a *DamageError, *UnusableError or *ChoiceError, or one of reading; so are those of Read.
func (f *File) Unpack(c Contents, tap io.Writer) (*Stream, error) {
	limit := f.limit()
	if known := c.Size.Known(); known > limit {
		return nil, &UnusableError{Path: f.Path, Why: UnpacksToMuch, Most: limit, Claimed: true}
	}
	lanes := f.Lanes
	if lanes == 0 {
		lanes = runtime.GOMAXPROCS(0)
	}
	f.kept = nil
	s, err := f.unpack(c, tap, setting{path: f.Path, member: c.asked, lanes: lanes, limit: limit, any: f.any})
	if likely := c.Size.Likely(f.Size); err == nil && f.Keep > 0 && likely <= 2*f.Keep { // half of it may be zeros
		s.keeper = &keeper{asked: c.asked, likely: likely, most: f.Keep}
	}
	return s, err
}

func (f *File) unpack(c Contents, tap io.Writer, set setting) (*Stream, error) {
	r := newPackedReader(f, tap)
	s := &Stream{file: f, packing: c.Packing, packed: r, limit: set.limit}
	outermost := f.packing()
	first, err := c.start(r, set)
	if err == nil {
		s.stack, err = descend(first, outermost.name, set)
	}
	if err != nil {
		return nil, s.damage(err)
	}
	return s, nil
}

// Read returns bytes of the image. At its end it reads what is left of the packed file, and only then says io.EOF.
func (s *Stream) Read(p []byte) (int, error) {
	if s.done != nil {
		return 0, s.done
	}
	n, err := s.stack.out().Read(p)
	defer func() { s.keep(p[:n]) }()
	switch total := s.count.Add(int64(n)); {
	case total > s.limit:
		s.done = s.damage(tooMuch(s.file.Path, s.limit))
		return 0, s.done
	case err == io.EOF:
		s.done = s.drain()
	case err != nil:
		s.done = s.damage(err)
	default:
		return n, nil
	}
	return n, s.done
}

// SkipZeros tells whether the next n bytes are zeros by what the packing says of them, and skips them then.
func (s *Stream) SkipZeros(n int64) bool {
	top, out := s.stack.layers[len(s.stack.layers)-1], s.stack.out()
	held := out.Buffered()
	if top.skipZeros == nil || s.keeper != nil || s.done != nil || // what is kept must have all of it
		s.count.Load()+n > s.limit || int64(held) > n {
		return false
	}
	read, err := out.Peek(held)
	if err != nil || !allZero(read) || !top.skipZeros(n-int64(held)) {
		return false
	}
	_, _ = out.Discard(held) // it is there
	s.count.Add(n)
	return true
}

// drain reads the rest of all packings, and passes the rest of the file through the tap.
func (s *Stream) drain() error {
	if err := s.stack.finish(); err != nil {
		return s.damage(err)
	}
	if _, err := io.Copy(io.Discard, s.packed); err != nil {
		return err
	}
	return io.EOF
}

// damage ends the unpacking and says where it failed.
func (s *Stream) damage(err error) error {
	if s.stack != nil {
		s.stack.Close() // ends what may still be reading ahead
	}
	err = s.file.damage(err, s.packing, s.packed.Position())
	var damage *DamageError
	if errors.As(err, &damage) {
		damage.Unpacked = s.count.Load()
	}
	return err
}

// Position is how many bytes of the packed file have been used. It may be called while another
// goroutine reads.
func (s *Stream) Position() int64 { return max(s.packed.raw.count.Load(), s.packed.far.Load()) }

// Close ends the unpacking; the stream may not be read to its end.
func (s *Stream) Close() error { return s.stack.Close() }

// packedReader reads the packed file in large pieces, and passes each through the tap.
type packedReader struct {
	*bufio.Reader
	raw  rawReader
	far  atomic.Int64 // how far the file has been read by those that go about in it
	file *File
	tap  io.Writer
}

func newPackedReader(f *File, tap io.Writer) *packedReader {
	r := &packedReader{file: f, tap: tap}
	r.Reader = bufio.NewReaderSize(&r.raw, 256<<10)
	r.raw.r = r
	return r
}

// Position is how many bytes the decoder has taken. It must not be called while a goroutine reads.
func (r *packedReader) Position() int64 { return r.raw.count.Load() - int64(r.Buffered()) }

// rawReader is the part of a packedReader below its buffer.
type rawReader struct {
	r     *packedReader
	count atomic.Int64
}

func (r *rawReader) Read(p []byte) (int, error) {
	n, err := r.read(p)
	r.count.Add(int64(n))
	if r.r.tap != nil && n > 0 {
		if _, err := r.r.tap.Write(p[:n]); err != nil {
			return 0, err
		}
	}
	if n > 0 {
		return n, nil
	}
	return n, err
}

func (r *rawReader) read(p []byte) (int, error) {
	f := r.r.file
	if f.once {
		return pipeReader{f}.Read(p)
	}
	left := f.Size - r.count.Load()
	if left <= 0 {
		return 0, io.EOF
	}
	n, err := f.file.ReadAt(p[:min(int64(len(p)), left)], r.count.Load())
	if n == 0 && errors.Is(err, io.EOF) { // it was longer when it was opened
		err = &fs.PathError{Op: "read", Path: f.Path, Err: errors.New("the file became shorter while it was read")}
	}
	return n, err
}
