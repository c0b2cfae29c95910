// Package xz unpacks .xz files (the .xz file format, version 1.2.1): all checks, several streams, and the filters that
// occur in images. A file of several blocks is unpacked side by side.
package xz

//go:generate go run ./gen

import (
	"bufio"
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"io"

	"zipstamp/internal/image/lanes"
)

// Options are how to unpack.
type Options struct {
	Lanes   int    // blocks unpacked side by side; 1 if it is less
	Memory  int64  // bytes that they may take together; 256 MiB if it is 0
	DictMax int64  // the largest dictionary, bytes; 1 GiB if it is 0
	Index   *Index // of this file, if it is known; blocks whose headers don't tell their sizes need it
}

const (
	memoryDefault  = 256 << 20
	dictMaxDefault = 1 << 30
)

// NewReader unpacks r, which is read to its end. Errors of Read are those of r, an *Error, or an *UnsupportedError
// within one. After an error or io.EOF, and after Close, r is no longer used.
func NewReader(r Source, o Options) io.ReadCloser {
	if o.Memory == 0 {
		o.Memory = memoryDefault
	}
	if o.DictMax == 0 {
		o.DictMax = dictMaxDefault
	}
	o.Lanes = max(o.Lanes, 1)
	f := &file{Options: o, r: &counter{r: r}, spare: make(chan *lzma2, o.Lanes+2)}
	if o.Index != nil {
		f.records = o.Index.blocks
	}
	return lanes.New(o.Lanes, o.Memory, f.feed)
}

// NewBlockReader unpacks one block of a file whose index has been read, by its number.
func NewBlockReader(r io.ReaderAt, index *Index, block int) io.ReadCloser {
	b := index.blocks[block]
	in := &counter{r: bufio.NewReaderSize(io.NewSectionReader(r, b.at, b.padded()), 64<<10), n: b.at}
	f := &file{
		Options: Options{Lanes: 1, DictMax: dictMaxDefault}, r: in, spare: make(chan *lzma2, 1), records: []record{b},
		seen: newTally(),
	}
	return lanes.New(1, memoryDefault, func(feeder *lanes.Feeder) error {
		f.feeder = feeder
		size, err := in.ReadByte()
		if err != nil {
			return cut(b.at, err)
		}
		return f.blockHere(size, b.check, b.at)
	})
}

// file is a file being read.
type file struct {
	Options
	r       *counter
	feeder  *lanes.Feeder
	spare   chan *lzma2
	records []record // of the blocks to come
	seen    tally    // of the stream's blocks so far
}

// counter counts what is read.
type counter struct {
	r Source
	n int64
}

func (c *counter) Read(p []byte) (int, error) {
	n, err := c.r.Read(p)
	c.n += int64(n)
	return n, err
}

func (c *counter) ReadByte() (byte, error) {
	b, err := c.r.ReadByte()
	if err == nil {
		c.n++
	}
	return b, err
}

// tally sums up records, to compare those of the index with the blocks themselves without keeping them.
type tally struct {
	n    int64
	hash hash.Hash
}

func newTally() tally { return tally{hash: sha256.New()} }

func (t *tally) add(b record) {
	var both [16]byte
	binary.LittleEndian.PutUint64(both[:], uint64(b.unpadded))
	binary.LittleEndian.PutUint64(both[8:], uint64(b.unpacked))
	t.hash.Write(both[:])
	t.n++
}

func (t *tally) equal(o tally) bool {
	return t.n == o.n && bytes.Equal(t.hash.Sum(nil), o.hash.Sum(nil))
}

// wrong places an error about the file's contents at its part; errors of reading stay as they are.
func wrong(at int64, err error) error {
	switch {
	case err == nil, errors.As(err, new(*Error)):
		return err
	}
	return &Error{at, err}
}

// feed reads the whole file.
func (f *file) feed(feeder *lanes.Feeder) error {
	f.feeder = feeder
	for first := true; ; first = false {
		header, at, err := f.streamStart(first)
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
		if err := f.stream(header, at); err != nil {
			return err
		}
	}
}

// streamStart reads padding and a Stream Header. io.EOF says that there is no further stream.
func (f *file) streamStart(first bool) (flags streamFlags, at int64, err error) {
	var h [headerSize]byte
	for {
		at = f.r.n
		n, err := io.ReadFull(f.r, h[:alignment])
		switch {
		case err == io.EOF && !first:
			return flags, at, io.EOF
		case err != nil && n > 0 && !first && !begins(h[:n]):
			return flags, at, &Error{at, errForeign}
		case err != nil && (n > 0 || err == io.EOF):
			return flags, at, cut(at, err)
		case err != nil:
			return flags, at, err
		}
		if first || [alignment]byte(h[:]) != [alignment]byte{} {
			break
		}
	}
	if !first && !begins(h[:alignment]) {
		return flags, at, &Error{at, errForeign}
	}
	if _, err := io.ReadFull(f.r, h[alignment:]); err != nil {
		return flags, at, cut(at, err)
	}
	flags, err = parseHeader(h)
	return flags, at, wrong(at, err)
}

// errForeign says that what follows the end of a stream is neither padding nor another stream.
var errForeign = errors.New("bytes that do not belong to it follow its end")

// begins tells whether bytes may be the first ones of a stream, or of padding.
func begins(p []byte) bool {
	return bytes.HasPrefix(headerMagic, p) || len(bytes.TrimLeft(p, "\x00")) == 0
}

// cut makes an end of the file an *Error, and leaves any other error of reading as it is.
func cut(at int64, err error) error {
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		return &Error{at, io.ErrUnexpectedEOF}
	}
	return err
}

// stream reads the blocks of a stream, its index and its footer.
func (f *file) stream(flags streamFlags, at int64) error {
	kind, err := flags.check()
	if err != nil {
		return wrong(at, err)
	}
	f.seen = newTally()
	for {
		at = f.r.n
		size, err := f.r.ReadByte()
		if err != nil {
			return cut(at, err)
		}
		if size == indexIndicator {
			break
		}
		if err := f.blockHere(size, kind, at); err != nil {
			return err
		}
	}
	return f.streamEnd(flags, at)
}

// blockHere reads the block at at, whose first byte, the size of its header, has been read.
func (f *file) blockHere(size byte, kind checkKind, at int64) error {
	header := make([]byte, (int(size)+1)*4)
	header[0] = size
	if _, err := io.ReadFull(f.r, header[1:]); err != nil {
		return cut(at, err)
	}
	b, err := parseBlockHeader(header)
	if err == nil && b.dict > f.DictMax {
		err = &UnsupportedError{Dict: b.dict, DictMax: f.DictMax}
	}
	if err != nil {
		return wrong(at, err)
	}
	return f.block(b, kind, at)
}

// streamEnd reads index and footer; the index's first byte, at at, has been read.
func (f *file) streamEnd(flags streamFlags, at int64) error {
	index := newTally()
	err := readIndex(&unreadByte{Source: f.r, b: indexIndicator}, 0, func(b record) error {
		index.add(b)
		return nil
	})
	var own *Error
	if errors.As(err, &own) {
		own.At += at
	}
	if err != nil {
		return err
	}
	if !index.equal(f.seen) {
		return &Error{at, errors.New("the index is not that of these blocks")}
	}
	footerAt := f.r.n
	var footer [headerSize]byte
	if _, err := io.ReadFull(f.r, footer[:]); err != nil {
		return cut(footerAt, err)
	}
	got, size, err := parseFooter(footer)
	switch {
	case err != nil:
	case got != flags:
		err = errors.New("the stream's footer has other flags than its header")
	case size != footerAt-at:
		err = errors.New("the stream's footer has another size of the index")
	}
	return wrong(footerAt, err)
}

// unreadByte gives a byte that has been read already.
type unreadByte struct {
	Source
	b    byte
	done bool
}

func (u *unreadByte) ReadByte() (byte, error) {
	if !u.done {
		u.done = true
		return u.b, nil
	}
	return u.Source.ReadByte()
}

// block unpacks a block, whose header has been read, side by side with others if its sizes are known and not too large.
func (f *file) block(b blockHeader, kind checkKind, at int64) error {
	packed, unpacked := b.packed, b.unpacked
	if len(f.records) > 0 {
		r := f.records[0]
		f.records = f.records[1:]
		if packed < 0 {
			packed = r.unpadded - b.size - kind.size()
		}
		if unpacked < 0 {
			unpacked = r.unpacked
		}
	}
	const state = 256 << 10 // of an lzma2, about
	if room := packed + unpacked + state; f.Lanes > 1 && packed > 0 && unpacked >= 0 && room > 0 &&
		f.feeder.Fits(room) {
		return f.beside(b, kind, at, packed, unpacked, room)
	}
	return f.here(b, kind, at, unpacked)
}

// beside hands a block to a worker.
func (f *file) beside(b blockHeader, kind checkKind, at, packed, unpacked, room int64) error {
	z := f.decoder()
	padded := (packed+alignment-1)&^(alignment-1) + kind.size()
	if int64(cap(z.block)) < padded {
		z.block = make([]byte, padded)
	}
	z.block = z.block[:padded]
	if _, err := io.ReadFull(f.r, z.block); err != nil {
		return cut(at, err)
	}
	f.seen.add(record{unpadded: b.size + packed + kind.size(), unpacked: unpacked})
	check := kind.sum()
	return f.feeder.Beside(room, int(unpacked/lanes.PieceSize)+2, lanes.Part{
		Work: func(out *lanes.Out) error {
			r := bytes.NewReader(z.block[:packed])
			z.prepare(b.dict, unpacked, true)
			give := out.Give
			if len(b.filters) > 0 {
				// filters change what the dictionary is made of, so they come after all
				give = func([]byte) error { return nil }
			}
			err := z.run(r, give)
			if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
				err = errors.New("the block ends before its data do")
			}
			if err == nil && (r.Len() > 0 || int64(z.pos-windowHead) != unpacked) {
				err = errors.New("the block is not as long as the file says")
			}
			if err == nil {
				err = padding(z.block[packed : padded-kind.size()])
			}
			if err != nil || len(b.filters) == 0 {
				return wrong(at, err)
			}
			all := z.window[windowHead:z.pos]
			for _, filter := range b.filters {
				filter.undo(all)
			}
			return out.Give(all)
		},
		Pass: check.write,
		Done: func() error {
			field := z.block[padded-kind.size():]
			if !bytes.Equal(check.field(), field) {
				return wrong(at, errCheck(kind))
			}
			select {
			case f.spare <- z:
			default:
			}
			return nil
		},
	})
}

// here unpacks a block as it is read.
func (f *file) here(b blockHeader, kind checkKind, at, likely int64) error {
	z := f.decoder()
	check := kind.sum()
	var field []byte
	start := f.r.n
	return f.feeder.Here(windowSize(b.dict, likely, false), lanes.Part{
		Work: func(out *lanes.Out) error {
			z.prepare(b.dict, likely, false)
			var unpacked int64
			chain := newChain(b.filters, out)
			err := z.run(f.r, func(p []byte) error {
				unpacked += int64(len(p))
				_, err := chain.Write(p)
				return err
			})
			if err == nil {
				err = chain.flush()
			}
			if errors.Is(err, errData) {
				return wrong(f.r.n, err)
			}
			if err != nil {
				return cut(f.r.n, err)
			}
			packed := f.r.n - start
			if b.packed >= 0 && packed != b.packed || b.unpacked >= 0 && unpacked != b.unpacked {
				return wrong(at, errors.New("the block is not as long as its header says"))
			}
			f.seen.add(record{unpadded: b.size + packed + kind.size(), unpacked: unpacked})
			end := make([]byte, -packed&(alignment-1)+kind.size())
			if _, err := io.ReadFull(f.r, end); err != nil {
				return cut(f.r.n, err)
			}
			field = end[int64(len(end))-kind.size():]
			f.spare <- z
			return wrong(at, padding(end[:int64(len(end))-kind.size()]))
		},
		Pass: check.write,
		Done: func() error {
			if !bytes.Equal(check.field(), field) {
				return wrong(at, errCheck(kind))
			}
			return nil
		},
	})
}

func errCheck(kind checkKind) error {
	return fmt.Errorf("the %v of the block that starts there differs", kind)
}

func padding(p []byte) error {
	for _, b := range p {
		if b != 0 {
			return errors.New("the block is not padded with zeros")
		}
	}
	return nil
}

// decoder is one that isn't in use.
func (f *file) decoder() *lzma2 {
	select {
	case z := <-f.spare:
		return z
	default:
		return new(lzma2)
	}
}

// chain undoes filters on the way to an output.
type chain struct {
	filters []filter
	left    [][]byte // of each filter: what it has not finished
	out     io.Writer
}

func newChain(filters []filter, out io.Writer) *chain {
	return &chain{filters, make([][]byte, len(filters)), out}
}

func (c *chain) Write(p []byte) (int, error) {
	n := len(p)
	for i, f := range c.filters {
		c.left[i] = append(c.left[i], p...) // a copy: p is the dictionary
		done := f.undo(c.left[i])
		p = append([]byte(nil), c.left[i][:done]...)
		c.left[i] = append(c.left[i][:0], c.left[i][done:]...)
	}
	if _, err := c.out.Write(p); err != nil {
		return 0, err
	}
	return n, nil
}

// flush passes on what filters have left unfinished, which is right as it is.
func (c *chain) flush() error {
	for i := range c.filters {
		p := c.left[i]
		c.left[i] = nil
		rest := &chain{c.filters[i+1:], c.left[i+1:], c.out}
		if _, err := rest.Write(p); err != nil {
			return err
		}
	}
	return nil
}
