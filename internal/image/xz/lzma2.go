package xz

import (
	"errors"
	"io"
)

const (
	chunkMax  = 2 << 20 // unpacked bytes of a chunk
	packedMax = 1 << 16 // packed bytes of a chunk
	inputSize = 1 << 17 // a power of two that also holds what corrupt data may run on to, so that masks bound indexes
	inputMask = inputSize - 1

	// windowHead is before the first byte, so that there is always a last one; windowTail is room for copies of 8 bytes
	// at a time to run over the end.
	windowHead = 16
	windowTail = 16

	windowFirst = 64 << 10 // what a window that slides starts with; it grows as it is used

	emitSize = 1 << 20 // bytes that are worth handing on
)

var errData = errors.New("the packed data are not well formed")

// Source is where packed bytes are read from, such as a bufio.Reader.
type Source interface {
	io.Reader
	io.ByteReader
}

// lzma2 unpacks LZMA2 (section 5.3.1 of the .xz format; the chunks are those of its authors' decoder).
type lzma2 struct {
	model
	input  [inputSize]byte
	block  []byte // the packed block, where all of it is there
	window []byte // the dictionary, and what has been unpacked and not yet handed on
	pos    int    // where the next byte goes
	sent   int    // what is before has been handed on
	low    int    // the first byte that matches may refer to
	base   int    // where the dictionary was reset last; it may lie before the window
	dict   int    // bytes
	whole  bool   // the window holds the whole block, and never moves
	most   int    // how large the window may grow

	// what the next chunk must bring
	needDict, needProps, needState bool
}

// prepare makes a window for a block: one for all of it, or one that slides.
func (z *lzma2) prepare(dict, unpacked int64, whole bool) {
	size := int(windowSize(dict, unpacked, whole))
	first := size
	if !whole {
		first = min(size, windowFirst) // most small files never need more
	}
	if cap(z.window) < first {
		z.window = make([]byte, first)
	}
	z.window = z.window[:min(size, cap(z.window))]
	z.whole, z.most = whole, size
	z.dict = int(dict)
	z.pos, z.sent, z.low, z.base = windowHead, windowHead, windowHead, windowHead
	z.needDict, z.needProps, z.needState = true, true, true
}

// windowSize is the size of a window in bytes. One that slides has room beyond the dictionary, so that it
// slides seldom. unpacked is -1 where it isn't known.
func windowSize(dict, unpacked int64, whole bool) int64 {
	const around = windowHead + windowTail
	if whole {
		return unpacked + around
	}
	size := dict + min(max(dict/2, 4*chunkMax), 32*chunkMax)
	if unpacked >= 0 {
		size = min(size, unpacked)
	}
	return max(size, chunkMax) + around
}

// run unpacks a block and hands its pieces to emit. io.EOF and io.ErrUnexpectedEOF are those of r.
func (z *lzma2) run(r Source, emit func(p []byte) error) error {
	for {
		if end, err := z.step(r, emit); end || err != nil {
			return err
		}
	}
}

// step unpacks a chunk, or finds the end.
func (z *lzma2) step(r Source, emit func(p []byte) error) (end bool, err error) {
	control, size, limit, err := z.next(r, emit)
	switch {
	case err != nil:
		return false, err
	case control == 0:
		return true, z.emit(z.pos, emit)
	case size > 0 && !z.unpack((*lzma2).chunk, size, limit):
		return false, errData
	}
	return false, z.emitMuch(emit)
}

// next reads a chunk, and unpacks it if it is only stored. Of one that is packed by LZMA, size bytes are in the input
// then, and limit is the window's position at its end. control is 0 at the end of all chunks.
func (z *lzma2) next(r Source, emit func(p []byte) error) (control byte, size, limit int, err error) {
	if control, err = r.ReadByte(); err != nil {
		return 0, 0, 0, err
	}
	switch {
	case control == 0:
		return 0, 0, 0, nil
	case control >= 0xE0 || control == 1: // dictionary reset
		z.needDict, z.needProps = false, true
		z.low, z.base = z.pos, z.pos
	case z.needDict:
		return 0, 0, 0, errData
	}
	if control < 0x80 {
		if control > 2 {
			return 0, 0, 0, errData
		}
		return control, 0, 0, z.stored(r, emit)
	}
	if control < 0xC0 && z.needProps || control < 0xA0 && z.needState {
		return 0, 0, 0, errData
	}
	z.needProps, z.needState = z.needProps && control < 0xC0, z.needState && control < 0xA0
	size, limit, err = z.packed(r, control, emit)
	return control, size, limit, err
}

// stored takes a chunk that isn't packed.
func (z *lzma2) stored(r Source, emit func(p []byte) error) error {
	var h [2]byte
	if _, err := io.ReadFull(r, h[:]); err != nil {
		return err
	}
	size := int(h[0])<<8 | int(h[1]) + 1
	if err := z.makeRoom(size, emit); err != nil {
		return err
	}
	n, err := io.ReadFull(r, z.window[z.pos:z.pos+size])
	z.pos += n
	return err
}

// packed reads a chunk that is packed by LZMA into the input.
func (z *lzma2) packed(r Source, control byte, emit func(p []byte) error) (size, limit int, err error) {
	var h [4]byte
	if _, err := io.ReadFull(r, h[:]); err != nil {
		return 0, 0, err
	}
	unpacked := int(control&0x1F)<<16 + int(h[0])<<8 + int(h[1]) + 1
	size = int(h[2])<<8 + int(h[3]) + 1
	if control >= 0xC0 {
		props, err := r.ReadByte()
		if err != nil {
			return 0, 0, err
		}
		if !z.setProps(props) {
			return 0, 0, errData
		}
	}
	if control >= 0xA0 {
		z.reset()
	}
	if _, err := io.ReadFull(r, z.input[:size]); err != nil {
		return 0, 0, err
	}
	if err := z.makeRoom(unpacked, emit); err != nil {
		return 0, 0, err
	}
	return size, z.pos + unpacked, nil
}

// unpack unpacks what packed has read, by chunk, which tells whether it is well formed.
func (z *lzma2) unpack(chunk func(z *lzma2, size, limit int) bool, size, limit int) bool {
	last := &z.window[z.pos-1]
	kept := *last
	if z.low == z.pos {
		*last = 0 // the first literal after a dictionary reset is predicted by a zero
	}
	defer func() { *last = kept }()
	return z.fits(size, limit) && chunk(z, size, limit)
}

// fits tells whether a chunk of size bytes may be unpacked to where the window's position is limit. It is what chunk
// relies on.
func (z *lzma2) fits(size, limit int) bool {
	return size >= 5 && size <= packedMax && z.input[0] == 0 &&
		windowHead <= z.pos && z.low <= z.pos && z.pos <= limit && limit+windowTail <= len(z.window) &&
		z.state < states && (z.state < 7 || z.rep0 < uint(z.pos-z.low)) &&
		z.lc <= lcLpMax && z.lpMask < 1<<(lcLpMax-z.lc) && z.pbMask < posStates
}

// makeRoom lets the window grow, or moves it on, so that size bytes fit.
func (z *lzma2) makeRoom(size int, emit func(p []byte) error) error {
	if need := z.pos + size + windowTail; need > len(z.window) && len(z.window) < z.most {
		larger := make([]byte, min(max(need, 2*len(z.window)), z.most))
		copy(larger, z.window[:z.pos])
		z.window = larger
	}
	if z.pos+size+windowTail > len(z.window) {
		if z.whole {
			return errData // longer than the sizes say
		}
		if err := z.emit(z.pos, emit); err != nil {
			return err
		}
		keep := min(z.dict, z.pos-z.low)
		if windowHead+keep+size+windowTail > len(z.window) {
			return errData // likewise
		}
		// one byte more, since a literal is predicted by the one before it
		copy(z.window[windowHead-1:], z.window[z.pos-keep-1:z.pos])
		z.base -= z.pos - (windowHead + keep)
		z.pos = windowHead + keep
		z.sent, z.low = z.pos, windowHead
	}
	return nil
}

// emitMuch hands on all but the last byte, which stays ours (see packed), if that is worth it.
func (z *lzma2) emitMuch(emit func(p []byte) error) error {
	if z.pos-z.sent <= emitSize {
		return nil
	}
	return z.emit(z.pos-1, emit)
}

func (z *lzma2) emit(end int, emit func(p []byte) error) error {
	if z.sent == end {
		return nil
	}
	p := z.window[z.sent:end]
	z.sent = end
	return emit(p)
}
