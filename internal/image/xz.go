package image

import (
	"bufio"
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash"
	"hash/crc32"
	"io"
	"math"

	"github.com/ulikunitz/xz"
)

// Constants of the .xz file format, version 1.2.1, with its names.
const (
	xzHeaderSize     = 12 // section 2.1.1, Stream Header; 2.1.2, Stream Footer has the same
	xzIndexIndicator = 0  // section 4.1
	xzVLIMax         = 9  // section 1.2: bytes of a multibyte integer
)

var (
	xzHeaderMagic = []byte{0xFD, '7', 'z', 'X', 'Z', 0}
	xzFooterMagic = []byte{'Y', 'Z'}
)

var xzPacking = packing{
	name:    "xz",
	endings: []string{".xz"},
	match:   func(head []byte) bool { return bytes.HasPrefix(head, xzHeaderMagic) },
	look: func(f *File, _ string) (Contents, error) {
		size, err := xzSize(f.file, f.Size)
		if err != nil {
			return Contents{}, err
		}
		return single("xz", Size{size, Exact}, func(r *packedReader) (io.ReadCloser, error) {
			d, err := xz.NewReader(r)
			if err != nil {
				return nil, err
			}
			return io.NopCloser(d), nil
		}), nil
	},
}

// xzSize reads the indexes of all streams in the file, from its end to its start, and returns the
// unpacked size of all blocks. It unpacks nothing, and finds a file that is cut short.
func xzSize(r io.ReaderAt, length int64) (int64, error) {
	var total int64
	for end := length; end > 0; {
		content, err := beforeZeros(r, end)
		if err != nil {
			return 0, err
		}
		end -= (end - content) &^ 3 // section 2.2, Stream Padding: zeros in fours
		var footer [xzHeaderSize]byte
		if end < 2*xzHeaderSize {
			return 0, &DamageError{At: end, Truncated: true, Err: errors.New("too short for an xz stream")}
		}
		if _, err := r.ReadAt(footer[:], end-xzHeaderSize); err != nil {
			return 0, err
		}
		size, start, err := xzStream(r, footer, end)
		if err != nil {
			return 0, err
		}
		if total > math.MaxInt64-size {
			return 0, &DamageError{At: end, Err: errors.New("the sizes in the index are absurd")}
		}
		total += size
		end = start
	}
	return total, nil
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

// xzStream reads the index of the stream that ends at end with footer. It returns the unpacked size
// and where the stream starts.
func xzStream(r io.ReaderAt, footer [xzHeaderSize]byte, end int64) (size, start int64, err error) {
	if !bytes.Equal(footer[10:], xzFooterMagic) {
		return 0, 0, &DamageError{At: end, Truncated: true, Err: errors.New("no xz footer at the end")}
	}
	if crc32.ChecksumIEEE(footer[4:10]) != binary.LittleEndian.Uint32(footer[:]) {
		return 0, 0, &DamageError{At: end - xzHeaderSize, Err: errors.New("the xz footer's CRC32 differs")}
	}
	indexSize := (int64(binary.LittleEndian.Uint32(footer[4:])) + 1) * 4
	indexStart := end - xzHeaderSize - indexSize
	if indexStart < xzHeaderSize {
		return 0, 0, &DamageError{At: end - xzHeaderSize, Err: errors.New("the xz index would start before the file")}
	}
	size, packed, err := xzIndex(io.NewSectionReader(r, indexStart, indexSize))
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		err = errors.New("the xz index is cut short")
	}
	if err != nil {
		return 0, 0, &DamageError{At: indexStart, Err: err}
	}
	start = indexStart - packed - xzHeaderSize
	if start < 0 {
		return 0, 0, &DamageError{At: indexStart, Err: errors.New("the blocks in the xz index are longer than the file")}
	}
	var header [xzHeaderSize]byte
	if _, err := r.ReadAt(header[:], start); err != nil {
		return 0, 0, err
	}
	if !bytes.HasPrefix(header[:], xzHeaderMagic) || !bytes.Equal(header[6:8], footer[8:10]) {
		return 0, 0, &DamageError{At: start, Err: errors.New("no xz stream starts where the index says")}
	}
	return size, start, nil
}

// xzIndex reads an Index (section 4): the blocks' unpacked size, and the bytes that they take in the file.
func xzIndex(section *io.SectionReader) (size, packed int64, err error) {
	r := &xzIndexReader{r: bufio.NewReaderSize(section, 64<<10), crc: crc32.NewIEEE()}
	if indicator, err := r.ReadByte(); err != nil || indicator != xzIndexIndicator {
		return 0, 0, errors.Join(errors.New("no xz index where the footer says"), err)
	}
	records, err := r.vli()
	if err != nil {
		return 0, 0, err
	}
	for range records {
		unpadded, err := r.vli()
		if err != nil {
			return 0, 0, err
		}
		uncompressed, err := r.vli()
		if err != nil {
			return 0, 0, err
		}
		padded := (unpadded + 3) &^ 3
		if unpadded < 5 || padded > math.MaxInt64-packed || uncompressed > math.MaxInt64-size || padded < 0 {
			return 0, 0, errors.New("a size in the xz index is absurd")
		}
		packed += padded
		size += uncompressed
	}
	for r.n%4 != 0 {
		if pad, err := r.ReadByte(); err != nil || pad != 0 {
			return 0, 0, errors.Join(errors.New("the xz index is not padded with zeros"), err)
		}
	}
	var want [4]byte
	if _, err := io.ReadFull(r.r, want[:]); err != nil {
		return 0, 0, err
	}
	if r.crc.Sum32() != binary.LittleEndian.Uint32(want[:]) {
		return 0, 0, errors.New("the xz index's CRC32 differs")
	}
	if r.n+4 != section.Size() {
		return 0, 0, errors.New("the xz index is shorter than the footer says")
	}
	return size, packed, nil
}

// xzIndexReader reads the bytes that the index's CRC32 covers.
type xzIndexReader struct {
	r   *bufio.Reader
	crc hash.Hash32
	n   int64
}

func (r *xzIndexReader) ReadByte() (byte, error) {
	b, err := r.r.ReadByte()
	if err == nil {
		r.crc.Write([]byte{b})
		r.n++
	}
	return b, err
}

// vli reads a multibyte integer (section 1.2).
func (r *xzIndexReader) vli() (int64, error) {
	var v int64
	for i := range xzVLIMax {
		b, err := r.ReadByte()
		if err != nil {
			return 0, err
		}
		if b == 0 && i > 0 {
			break
		}
		v |= int64(b&0x7F) << (7 * i)
		if b&0x80 == 0 {
			return v, nil
		}
	}
	return 0, fmt.Errorf("a number in the xz index is not well formed")
}
