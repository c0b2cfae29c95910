package image

import (
	"bufio"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
)

// The sparse image format of Android, version 1.0: its public header system/core/libsparse/sparse_format.h, with its
// names.
const (
	sparseHeaderMagic = 0xED26FF3A
	sparseHeaderLen   = 28
	sparseChunkLen    = 12
	sparseRaw         = 0xCAC1
	sparseFill        = 0xCAC2
	sparseDontCare    = 0xCAC3
	sparseCRC32       = 0xCAC4
	sparseBlockMax    = 64 << 20 // ours: no image has larger blocks than some KiB
)

var sparsePacking = packing{
	name:    "sparse",
	endings: []string{".simg"},
	match: func(head []byte) bool {
		return len(head) >= sparseHeaderLen && binary.LittleEndian.Uint32(head) == sparseHeaderMagic
	},
	unpack: func(r *bufio.Reader, s setting) (*layer, error) {
		e, err := newExpander(r)
		if err != nil {
			return nil, err
		}
		return &layer{
			ReadCloser: io.NopCloser(e), size: Size{e.blocks * e.blockSize, Exact}, unchecked: true,
			skipZeros: e.skipZeros,
		}, nil
	},
}

// expander expands a sparse image: chunks that are there, filled, or of no concern, which become zeros.
type expander struct {
	r           *bufio.Reader
	blockSize   int64
	blocks      int64 // in all
	done        int64 // blocks of the chunks so far
	chunks      uint32
	chunkHeader int64 // size of a chunk's header
	sum         uint32
	left        int64   // bytes of the current chunk
	fill        [4]byte // what it is filled with
	stored      bool    // its bytes are in the file
	at          int     // place in fill
}

func newExpander(r *bufio.Reader) (*expander, error) {
	var h [sparseHeaderLen]byte
	if _, err := io.ReadFull(r, h[:]); err != nil {
		return nil, err
	}
	le := binary.LittleEndian
	major, headerLen := le.Uint16(h[4:]), int64(le.Uint16(h[8:]))
	e := &expander{
		r: r, chunkHeader: int64(le.Uint16(h[10:])), blockSize: int64(le.Uint32(h[12:])),
		blocks: int64(le.Uint32(h[16:])), chunks: le.Uint32(h[20:]),
	}
	switch {
	case major != 1:
		return nil, &UnusableError{Why: UnknownVersion, Packing: "sparse", Count: int64(major)}
	case headerLen < sparseHeaderLen || e.chunkHeader < sparseChunkLen || e.blockSize == 0 || e.blockSize%4 != 0 ||
		e.blockSize > sparseBlockMax:
		return nil, errors.New("the sparse image's header is not well formed")
	}
	_, err := r.Discard(int(headerLen - sparseHeaderLen))
	return e, err
}

func (e *expander) Read(p []byte) (int, error) {
	for e.left == 0 {
		if err := e.nextChunk(); err != nil {
			return 0, err
		}
	}
	p = p[:min(int64(len(p)), e.left)]
	n := len(p)
	if e.stored {
		var err error
		if n, err = e.r.Read(p); err != nil {
			return n, early(err)
		}
	} else {
		for i := range p {
			p[i] = e.fill[(e.at+i)&3]
		}
		e.at += n
	}
	e.left -= int64(n)
	e.sum = crc32.Update(e.sum, crc32.IEEETable, p[:n])
	return n, nil
}

// skipZeros tells whether the next n bytes are zeros by the chunk at hand, and skips them then.
func (e *expander) skipZeros(n int64) bool {
	if e.stored || e.fill != [4]byte{} || e.left < n {
		return false
	}
	e.left -= n
	for ; n > 0; n -= int64(len(noBytes)) { // the image may have a CRC
		e.sum = crc32.Update(e.sum, crc32.IEEETable, noBytes[:min(n, int64(len(noBytes)))])
	}
	return true
}

var noBytes = make([]byte, 256<<10)

// nextChunk reads the header of the next chunk. io.EOF says that there is none.
func (e *expander) nextChunk() error {
	if e.chunks == 0 {
		if e.done != e.blocks {
			return fmt.Errorf("the sparse image's chunks have %d blocks, its header says %d", e.done, e.blocks)
		}
		return io.EOF
	}
	e.chunks--
	var h [sparseChunkLen]byte
	if _, err := io.ReadFull(e.r, h[:]); err != nil {
		return early(err)
	}
	if _, err := e.r.Discard(int(e.chunkHeader - sparseChunkLen)); err != nil {
		return early(err)
	}
	kind, blocks, total := binary.LittleEndian.Uint16(h[:]), int64(binary.LittleEndian.Uint32(h[4:])), int64(
		binary.LittleEndian.Uint32(h[8:]),
	)
	size, body := blocks*e.blockSize, total-e.chunkHeader
	e.left, e.stored, e.at, e.fill = size, false, 0, [4]byte{}
	want := int64(4)
	switch kind {
	case sparseRaw:
		e.stored, want = true, size
	case sparseDontCare:
		want = 0
	case sparseFill, sparseCRC32:
		if _, err := io.ReadFull(e.r, e.fill[:]); err != nil {
			return early(err)
		}
	default:
		return fmt.Errorf("the sparse image has a chunk of unknown kind 0x%04X", kind)
	}
	if kind == sparseCRC32 {
		e.left, size, blocks = 0, 0, 0
		if binary.LittleEndian.Uint32(e.fill[:]) != e.sum {
			return errors.New("the sparse image's CRC32 differs")
		}
	}
	e.done += blocks
	if body != want || e.done > e.blocks {
		return errors.New("a chunk of the sparse image is not as long as its header says")
	}
	return nil
}

// early makes an end of the input an early one.
func early(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}
