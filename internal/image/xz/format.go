package xz

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"hash/crc32"
	"io"
	"math"
)

// Constants of the .xz file format, version 1.2.1, with its names.
const (
	headerSize     = 12      // section 2.1.1, Stream Header; section 2.1.2, Stream Footer has the same
	indexIndicator = 0       // section 4.1
	vliMax         = 9       // section 1.2: bytes of a multibyte integer
	blockHeaderMax = 1024    // section 3.1.1, Block Header Size
	unpaddedMin    = 5       // section 4.3.1, Unpadded Size
	filtersMax     = 4       // section 3.1.2
	idLZMA2        = 0x21    // section 5.3.1
	flagFilters    = 0x03    // section 3.1.2, Block Flags: number of filters less one
	flagReserved   = 0x3C    //
	flagPacked     = 0x40    // the Compressed Size is there
	flagUnpacked   = 0x80    // the Uncompressed Size is there
	dictBitsMax    = 40      // section 5.3.1, Dictionary Size: 4 GiB - 1
	backwardUnit   = 4       // section 2.1.2.2, Backward Size
	alignment      = 4       // of blocks, index and padding: sections 3.3, 4.4, 2.2
	idReservedFrom = 1 << 62 // section 6.1: reserved filter IDs
)

var (
	headerMagic = []byte{0xFD, '7', 'z', 'X', 'Z', 0}
	footerMagic = []byte{'Y', 'Z'}
)

// Match tells whether head is the start of an .xz file.
func Match(head []byte) bool { return bytes.HasPrefix(head, headerMagic) }

var errVLI = errors.New("a number is not well formed")

// vli reads a multibyte integer (section 1.2).
func vli(r io.ByteReader) (int64, error) {
	var v int64
	for i := range vliMax {
		b, err := r.ReadByte()
		if err != nil {
			return 0, err
		}
		if b == 0 && i > 0 {
			return 0, errVLI
		}
		v |= int64(b&0x7F) << (7 * i)
		if b&0x80 == 0 {
			return v, nil
		}
	}
	return 0, errVLI
}

// streamFlags are those of a Stream Header or Footer (section 2.1.1.2): the check of its blocks.
type streamFlags [2]byte

func (f streamFlags) check() (checkKind, error) {
	if f[0] != 0 || f[1] > 0x0F {
		return 0, errors.New("the stream has flags that the format does not define")
	}
	kind := checkKind(f[1])
	if !kind.supported() {
		return 0, fmt.Errorf("its blocks are checked by method %d, which the format does not define", f[1])
	}
	return kind, nil
}

func parseHeader(h [headerSize]byte) (streamFlags, error) {
	flags := streamFlags(h[6:8])
	if !Match(h[:]) {
		return flags, errors.New("no xz stream starts here")
	}
	if crc32.ChecksumIEEE(h[6:8]) != binary.LittleEndian.Uint32(h[8:]) {
		return flags, errors.New("the stream header's CRC32 differs")
	}
	return flags, nil
}

// parseFooter returns the flags and the size of the index.
func parseFooter(h [headerSize]byte) (streamFlags, int64, error) {
	flags := streamFlags(h[8:10])
	if !bytes.Equal(h[10:], footerMagic) {
		return flags, 0, errNoFooter
	}
	if crc32.ChecksumIEEE(h[4:10]) != binary.LittleEndian.Uint32(h[:]) {
		return flags, 0, errors.New("the stream footer's CRC32 differs")
	}
	return flags, (int64(binary.LittleEndian.Uint32(h[4:])) + 1) * backwardUnit, nil
}

var errNoFooter = errors.New("no stream footer at the end")

// blockHeader is a Block Header (section 3.1). Sizes are -1 where it doesn't tell them.
type blockHeader struct {
	size             int64 // of the header itself
	packed, unpacked int64
	dict             int64    // LZMA2's dictionary, bytes
	filters          []filter // to be undone in this order after LZMA2
}

// parseBlockHeader reads a Block Header whose first byte, its size, has been seen.
func parseBlockHeader(h []byte) (blockHeader, error) {
	b := blockHeader{size: int64(len(h)), packed: -1, unpacked: -1}
	body, sum := h[:len(h)-crc32.Size], binary.LittleEndian.Uint32(h[len(h)-crc32.Size:])
	if crc32.ChecksumIEEE(body) != sum {
		return b, errors.New("the block header's CRC32 differs")
	}
	flags := body[1]
	if flags&flagReserved != 0 {
		return b, errors.New("the block has flags that the format does not define")
	}
	r := bytes.NewReader(body[2:])
	err := b.parseSizes(r, flags)
	for i := 0; i <= int(flags&flagFilters) && err == nil; i++ {
		err = b.parseFilter(r, i == int(flags&flagFilters))
	}
	if errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		err = errors.New("the block header is too short for what it says")
	}
	if err != nil {
		return b, err
	}
	for r.Len() > 0 {
		if pad, _ := r.ReadByte(); pad != 0 {
			return b, errors.New("the block header is not padded with zeros")
		}
	}
	return b, nil
}

func (b *blockHeader) parseSizes(r *bytes.Reader, flags byte) (err error) {
	if flags&flagPacked != 0 {
		if b.packed, err = vli(r); err != nil {
			return err
		}
		if b.packed == 0 || b.packed > math.MaxInt64-blockHeaderMax-64 {
			return errors.New("the block header's size of the block is absurd")
		}
	}
	if flags&flagUnpacked != 0 {
		b.unpacked, err = vli(r)
	}
	return err
}

// parseFilter reads Filter Flags (section 3.1.5). The last one must be LZMA2, and no other may (section 5.3).
func (b *blockHeader) parseFilter(r *bytes.Reader, last bool) error {
	id, err := vli(r)
	if err != nil {
		return err
	}
	size, err := vli(r)
	if err != nil {
		return err
	}
	if size > int64(r.Len()) {
		return io.ErrUnexpectedEOF
	}
	properties := make([]byte, size)
	if _, err := io.ReadFull(r, properties); err != nil {
		return err
	}
	if last != (id == idLZMA2) {
		return &UnsupportedError{Filter: id}
	}
	if !last {
		f, err := newFilter(id, properties)
		if err != nil {
			return err
		}
		b.filters = append([]filter{f}, b.filters...)
		return nil
	}
	if len(properties) != 1 || properties[0] > dictBitsMax {
		return errors.New("the block's dictionary size is not one of the format's")
	}
	bits := properties[0]
	if bits == dictBitsMax {
		b.dict = math.MaxUint32
	} else {
		b.dict = (2 | int64(bits&1)) << (bits/2 + 11)
	}
	return nil
}
