package image

import (
	"bufio"
	"errors"
	"io"
	"io/fs"
	"sync/atomic"
)

// Stream is an image as it comes out of its packing, from the first byte to the last. The packed file is
// read once, from its start to its end.
type Stream struct {
	file       *File
	packing    string
	packed     *packedReader
	unpacked   io.ReadCloser
	head       []byte // read in advance, to know what it is
	recognised bool
	count      int64
	done       error // what every Read returns from now on
}

// Unpack starts to unpack the contents c of the file. All bytes of the download, those between and
// after the packed ones too, go through tap when the stream is read to its end; tap may be nil.
// The error is a *DamageError or *UnusableError, or one of reading; so are those of Read.
func (f *File) Unpack(c Contents, tap io.Writer) (*Stream, error) {
	r := &packedReader{file: f, tap: tap}
	r.Reader = bufio.NewReaderSize(&r.raw, 256<<10)
	r.raw.r = r
	s := &Stream{file: f, packing: c.Packing, packed: r}
	if _, err := io.CopyN(io.Discard, r, c.offset); err != nil {
		return nil, s.damage(err)
	}
	var err error
	if s.unpacked, err = c.decode(r); err != nil {
		return nil, s.damage(err)
	}
	if err := s.readHead(); err != nil {
		s.Close()
		return nil, err
	}
	return s, nil
}

// Peek unpacks the first bytes of the contents c, to see that they are the start of an image, and tells
// whether it starts with a partition table or file system. Errors are those of Unpack.
func (f *File) Peek(c Contents) (recognised bool, err error) {
	s, err := f.Unpack(c, nil)
	if err != nil {
		return false, err
	}
	defer s.Close()
	return s.recognised, nil
}

// readHead looks at the first bytes, since a packed web page is no image either. It doesn't use
// io.ReadFull, which says io.ErrUnexpectedEOF for any end, as decoders do for a file that is cut short.
func (s *Stream) readHead() error {
	s.head = make([]byte, headSize)
	n := 0
	var err error
	for n < headSize && err == nil {
		var more int
		more, err = s.unpacked.Read(s.head[n:])
		n += more
	}
	s.head = s.head[:n]
	if err == io.EOF && n == 0 {
		return &UnusableError{s.file.Path, "holds an image of no bytes", "download it again"}
	}
	if err != nil && err != io.EOF {
		return s.damage(err)
	}
	s.recognised = isDisk(s.head)
	if what := stranger(s.head); what != "" && s.packing != RawPacking {
		return &UnusableError{s.file.Path, "holds " + what + ", not an image of a disk", "look for another download"}
	}
	if err == io.EOF {
		s.done = s.drain()
	}
	return nil
}

// Read returns bytes of the image. At its end it reads what is left of the packed file, and only then says io.EOF.
func (s *Stream) Read(p []byte) (int, error) {
	if len(s.head) > 0 {
		n := copy(p, s.head)
		s.head = s.head[n:]
		s.count += int64(n)
		return n, nil
	}
	if s.done != nil {
		return 0, s.done
	}
	n, err := s.unpacked.Read(p)
	s.count += int64(n)
	switch {
	case err == io.EOF:
		s.done = s.drain()
	case err != nil:
		s.done = s.damage(err)
	default:
		return n, nil
	}
	return n, s.done
}

// drain passes the rest of the packed file through the tap.
func (s *Stream) drain() error {
	if _, err := io.Copy(io.Discard, s.packed); err != nil {
		return err
	}
	return io.EOF
}

// damage ends the unpacking and says where it failed.
func (s *Stream) damage(err error) error {
	if s.unpacked != nil {
		s.unpacked.Close() // ends what may still be reading ahead
	}
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return &DamageError{Path: s.file.Path, Packing: s.packing, At: s.file.Size, Unpacked: s.count, Truncated: true, Err: io.ErrUnexpectedEOF}
	}
	err = s.file.name(err, s.packing, s.packed.Position())
	var damage *DamageError
	if errors.As(err, &damage) {
		damage.Unpacked = s.count
	}
	return err
}

// Position is how many bytes of the packed file have been used. It may be called while another
// goroutine reads.
func (s *Stream) Position() int64 { return s.packed.raw.count.Load() }

// Close ends the unpacking; the stream may not be read to its end.
func (s *Stream) Close() error { return s.unpacked.Close() }

// packedReader reads the packed file in large pieces, and passes each through the tap.
type packedReader struct {
	*bufio.Reader
	raw  rawReader
	file *File
	tap  io.Writer
}

// Position is how many bytes the decoder has taken.
func (r *packedReader) Position() int64 { return r.raw.count.Load() - int64(r.Buffered()) }

// rawReader is the part of a packedReader below its buffer.
type rawReader struct {
	r     *packedReader
	count atomic.Int64
}

func (r *rawReader) Read(p []byte) (int, error) {
	f := r.r.file
	if left := f.Size - r.count.Load(); left <= 0 {
		return 0, io.EOF
	} else if int64(len(p)) > left {
		p = p[:left]
	}
	n, err := f.file.ReadAt(p, r.count.Load())
	if n == 0 && errors.Is(err, io.EOF) { // it was longer when it was opened
		return 0, &fs.PathError{Op: "read", Path: f.Path, Err: errors.New("the file became shorter while it was read")}
	}
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
