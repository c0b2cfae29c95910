package image

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"

	"github.com/klauspost/compress/zstd"
)

// Constants of RFC 8878 (zstd), with its names.
const (
	zstdMagicNumber    = 0xFD2FB528 // section 3.1.1
	zstdSkippableMagic = 0x184D2A50 // section 3.1.2; the lowest 4 bits are free
	zstdHeaderMax      = 18         // magic and the largest frame header, section 3.1.1.1
	zstdBlockHeader    = 3          // section 3.1.1.2
	zstdRLEBlock       = 1
	zstdReservedBlock  = 3
	zstdChecksumSize   = 4
)

var zstdPacking = packing{
	name:    "zstd",
	endings: []string{".zst"},
	kind:    FileZstd,
	match: func(head []byte) bool {
		if len(head) < 4 {
			return false
		}
		magic := binary.LittleEndian.Uint32(head)
		return magic == zstdMagicNumber || magic&^0xF == zstdSkippableMagic
	},
	look: func(f *File, _ string) (Contents, error) {
		size, err := zstdSize(f.file, f.Size)
		return Contents{Packing: "zstd", Size: size}, err
	},
	unpack: func(r *bufio.Reader, _ setting) (*layer, error) {
		var h zstd.Header
		head, _ := r.Peek(zstd.HeaderMaxSize)
		l := &layer{}
		if h.Decode(head) == nil && !h.Skippable {
			l.unchecked = !h.HasCheckSum
			if h.HasFCS && h.FrameContentSize < math.MaxInt64 {
				l.size = Size{int64(h.FrameContentSize), AtLeast} // other frames may follow
			}
		}
		d, err := zstd.NewReader(r,
			zstd.WithDecoderConcurrency(2),           // one unpacks, one reads ahead
			zstd.WithDecoderMaxMemory(math.MaxInt64), // bounds DecodeAll, not a stream
			zstd.WithDecoderMaxWindow(windowMax))
		if err != nil {
			return nil, err
		}
		l.ReadCloser = zstdReader{d.IOReadCloser()}
		return l, nil
	},
}

// windowMax bounds the memory that a packed file may ask for to be unpacked, bytes: what the reference commands take by
// default, for the largest files that they make by default, is an eighth of it.
const windowMax = 1 << 30

// zstdReader says in our words that too much memory would be needed.
type zstdReader struct{ io.ReadCloser }

func (z zstdReader) Read(p []byte) (int, error) {
	n, err := z.ReadCloser.Read(p)
	if errors.Is(err, zstd.ErrWindowSizeExceeded) || errors.Is(err, zstd.ErrDecoderSizeExceeded) {
		err = &UnusableError{Why: NeedsMemory, Most: windowMax}
	}
	return n, err
}

// zstdSize goes from block to block through all frames, reading headers only. It finds the unpacked
// size, if every frame tells its own, and whether the file is cut short.
func zstdSize(r io.ReaderAt, length int64) (Size, error) {
	size := Size{Certainty: Exact}
	for at := int64(0); at < length; {
		var head [zstdHeaderMax]byte
		n, err := r.ReadAt(head[:], at)
		if err != nil && !errors.Is(err, io.EOF) {
			return Size{}, err
		}
		var h zstd.Header
		if err := h.Decode(head[:n]); err != nil {
			return Size{}, &DamageError{At: at, Truncated: errors.Is(err, io.ErrUnexpectedEOF), Err: err}
		}
		if h.Skippable {
			at += int64(h.HeaderSize) + int64(h.SkippableSize)
			continue
		}
		at, err = zstdFrameEnd(r, at+int64(h.HeaderSize), h.HasCheckSum)
		if err == nil && at > length || errors.Is(err, io.ErrUnexpectedEOF) {
			err = &DamageError{
				At: length, Truncated: true, Err: fmt.Errorf("the frame goes on to byte %d or beyond", at),
			}
		}
		if err != nil {
			return Size{}, err
		}
		if !h.HasFCS || h.FrameContentSize > math.MaxInt64-uint64(size.Bytes) {
			size.Certainty = Unknown
		} else {
			size.Bytes += int64(h.FrameContentSize)
		}
	}
	if size.Certainty == Unknown {
		return Size{}, nil
	}
	return size, nil
}

// zstdFrameEnd follows the blocks of a frame from the first block header, at at. io.ErrUnexpectedEOF says that
// the file ends before; the offset returned is where it went on.
func zstdFrameEnd(r io.ReaderAt, at int64, checksum bool) (int64, error) {
	for last := false; !last; {
		var b [zstdBlockHeader]byte
		if _, err := r.ReadAt(b[:], at); errors.Is(err, io.EOF) {
			return at, io.ErrUnexpectedEOF
		} else if err != nil {
			return at, err
		}
		header := int64(b[0]) | int64(b[1])<<8 | int64(b[2])<<16
		last = header&1 == 1
		size := header >> 3
		switch header >> 1 & 3 {
		case zstdRLEBlock:
			size = 1
		case zstdReservedBlock:
			return at, &DamageError{At: at, Err: errors.New("reserved block type")}
		}
		at += zstdBlockHeader + size
	}
	if checksum {
		at += zstdChecksumSize
	}
	return at, nil
}
