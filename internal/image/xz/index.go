package xz

import (
	"bufio"
	"bytes"
	"errors"
	"hash"
	"hash/crc32"
	"io"
	"math"
	"slices"
)

// blocksKept bounds how many blocks an Index remembers: with the usual 24 MiB each, 1.5 TiB.
const blocksKept = 1 << 16

// Index is what the indexes of all streams in a file say.
type Index struct {
	Unpacked int64 // bytes
	Streams  int
	Blocks   int64

	blocks []record // of the whole file, in order; nil if there are more than blocksKept
}

// record is a Record of an index (section 4.3).
type record struct {
	unpadded int64 // the block without its padding
	unpacked int64
	at       int64 // where the block starts in the file, as far as ReadIndex has made it
	check    checkKind
}

func (b record) padded() int64 { return (b.unpadded + alignment - 1) &^ (alignment - 1) }

// ReadIndex reads the indexes of a file of the given length, from its end to its start. It unpacks nothing, and finds a
// file that is cut short. Errors are those of r, or an *Error.
func ReadIndex(r io.ReaderAt, length int64) (Index, error) {
	var index Index
	for end := length; end > 0; {
		content, err := beforeZeros(r, end)
		if err != nil {
			return Index{}, err
		}
		end -= (end - content) &^ (alignment - 1) // section 2.2, Stream Padding: zeros in fours
		if end < 2*headerSize {
			return Index{}, &Error{end, io.ErrUnexpectedEOF}
		}
		if end, err = index.addStream(r, end); err != nil {
			return Index{}, err
		}
	}
	slices.Reverse(index.blocks)
	return index, nil
}

// beforeZeros returns where the zeros start that end at end.
func beforeZeros(r io.ReaderAt, end int64) (int64, error) {
	buf := make([]byte, 64<<10)
	for end > 0 {
		part := buf[:min(int64(len(buf)), end)]
		if _, err := r.ReadAt(part, end-int64(len(part))); err != nil {
			return 0, err
		}
		left := len(bytes.TrimRight(part, "\x00"))
		end -= int64(len(part) - left)
		if left > 0 {
			break
		}
	}
	return end, nil
}

// noFooter is the error of a file in whose end there is no footer: it is cut short, or a footer not far before says
// that something else follows.
func noFooter(r io.ReaderAt, end int64) error {
	last := make([]byte, min(end, 4096))
	if _, err := r.ReadAt(last, end-int64(len(last))); err != nil {
		return err
	}
	for at := len(last) - headerSize; at >= 0; at-- {
		if _, _, err := parseFooter([headerSize]byte(last[at:])); err == nil {
			return &Error{end - int64(len(last)-at-headerSize), errForeign}
		}
	}
	return &Error{end, io.ErrUnexpectedEOF}
}

// addStream reads the index of the stream that ends at end, and returns where it starts.
func (x *Index) addStream(r io.ReaderAt, end int64) (start int64, err error) {
	var footer, header [headerSize]byte
	if _, err := r.ReadAt(footer[:], end-headerSize); err != nil {
		return 0, err
	}
	flags, size, err := parseFooter(footer)
	if err == errNoFooter {
		return 0, noFooter(r, end)
	}
	if err != nil {
		return 0, &Error{end - headerSize, err}
	}
	indexStart := end - headerSize - size
	if indexStart < headerSize {
		return 0, &Error{end - headerSize, errors.New("the index would start before the file")}
	}
	part := io.NewSectionReader(r, indexStart, size)
	var packed, unpacked, blocks int64
	first := len(x.blocks)
	err = readIndex(bufio.NewReaderSize(part, 64<<10), size, func(b record) error {
		padded := b.padded()
		if b.unpadded < unpaddedMin || padded < 0 || padded > math.MaxInt64-packed ||
			b.unpacked > math.MaxInt64-unpacked-x.Unpacked {
			return errors.New("a size in the index is absurd")
		}
		packed, unpacked, blocks = packed+padded, unpacked+b.unpacked, blocks+1
		if x.Blocks+blocks <= blocksKept {
			x.blocks = append(x.blocks, b)
		}
		return nil
	})
	if err != nil {
		var own *Error
		if errors.As(err, &own) {
			own.At += indexStart
		}
		return 0, err
	}
	x.Unpacked, x.Blocks, x.Streams = x.Unpacked+unpacked, x.Blocks+blocks, x.Streams+1
	if x.Blocks > blocksKept {
		x.blocks = nil
	}
	start = indexStart - packed - headerSize
	if start < 0 {
		return 0, &Error{indexStart, errors.New("the blocks in the index are longer than the file")}
	}
	if _, err := r.ReadAt(header[:], start); err != nil {
		return 0, err
	}
	got, err := parseHeader(header)
	if err != nil || got != flags {
		return 0, &Error{start, errors.New("no xz stream starts where the index says")}
	}
	x.place(min(first, len(x.blocks)), start+headerSize, checkKind(flags[1]))
	return start, nil
}

// place fills in where the blocks of a stream are, from the one with index first, and turns them round, as all are in
// the end.
func (x *Index) place(first int, at int64, kind checkKind) {
	for i := first; i < len(x.blocks); i++ {
		x.blocks[i].at, x.blocks[i].check = at, kind
		at += x.blocks[i].padded()
	}
	slices.Reverse(x.blocks[first:])
}

// Find returns the number of the block that holds the byte at offset off of the contents, and where the block
// starts in them. ok is false where that isn't known.
func (x *Index) Find(off int64) (block int, start int64, ok bool) {
	for i, b := range x.blocks {
		if off < start+b.unpacked {
			return i, start, true
		}
		start += b.unpacked
	}
	return 0, 0, false
}

// readIndex reads an Index (section 4) that ought to be size bytes long, or of any length where size is 0, and shows
// each of its records. Errors are those of r and see, or an *Error whose place is counted from the index's start.
func readIndex(from Source, size int64, see func(record) error) error {
	r := &indexReader{r: from, crc: crc32.NewIEEE()}
	wrong := func(err error) error {
		if err == nil {
			return nil
		}
		if errors.Is(err, io.EOF) && size > 0 {
			err = errors.New("the index is longer than the footer says")
		}
		return &Error{r.n, early(err)}
	}
	if indicator, err := r.ReadByte(); err != nil || indicator != indexIndicator {
		return wrong(errors.Join(err, errors.New("no index where the footer says")))
	}
	records, err := vli(r)
	if err != nil {
		return wrong(err)
	}
	for range records {
		var b record
		if b.unpadded, err = vli(r); err == nil {
			b.unpacked, err = vli(r)
		}
		if err == nil {
			err = see(b)
		}
		if err != nil {
			return wrong(err)
		}
	}
	for r.n%alignment != 0 {
		if pad, err := r.ReadByte(); err != nil || pad != 0 {
			return wrong(errors.Join(err, errors.New("the index is not padded with zeros")))
		}
	}
	want := r.crc.Sum32()
	var got uint32
	for i := range crc32.Size {
		b, err := r.ReadByte()
		if err != nil {
			return wrong(err)
		}
		got |= uint32(b) << (8 * i)
	}
	switch {
	case got != want:
		return wrong(errors.New("the index's CRC32 differs"))
	case size > 0 && r.n != size:
		return wrong(errors.New("the index is shorter than the footer says"))
	}
	return nil
}

// indexReader counts and sums the bytes of an index.
type indexReader struct {
	r   Source
	crc hash.Hash32
	n   int64
	one [1]byte
}

func (r *indexReader) ReadByte() (byte, error) {
	b, err := r.r.ReadByte()
	if err == nil {
		r.one[0] = b
		r.crc.Write(r.one[:])
		r.n++
	}
	return b, err
}
