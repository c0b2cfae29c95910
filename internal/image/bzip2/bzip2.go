// Package bzip2 unpacks bzip2 block by block, side by side, with the standard library's decoder. A block starts with a
// mark of 48 bits at any bit; each is made a file of its own. The mark can also occur within a block, once in some 2^48
// bits: a block that can't be unpacked is tried again together with what follows the mark.
//
// The format has no published specification. A stream is "BZh" and a digit, blocks, and an end mark with the check
// value of all blocks' check values; then zeros to a whole byte. Streams may follow each other.
package bzip2

import (
	"bufio"
	"bytes"
	"compress/bzip2"
	"errors"
	"io"
	"slices"

	"zipstamp/internal/image/lanes"
)

const (
	blockMark = 0x314159265359 // pi in BCD
	endMark   = 0x177245385090 // its square root
	markBits  = 48
	markMask  = 1<<markBits - 1
	sumBits   = 32
	headSize  = 4

	// blockMax bounds a block, packed, in bytes: 900 kB that can't be packed at all, its tables, and room to spare.
	blockMax = 4 << 20
	// A block gives 900 kB, or 46 MB if it is one byte over and over. What is beyond these pieces is unpacked when it
	// is the block's turn. room is what a block takes till then, bytes: they, and its packed bits.
	pieces = 3
	room   = (pieces + 1) * lanes.PieceSize
)

// mayEndMark tells, by the bits 16 to 31 before the last, whether a mark can end within the last byte: these bits are
// of the mark, wherever in the byte it ends.
var mayEndMark = func() (table [1 << 16]bool) {
	for _, mark := range []uint64{blockMark, endMark} {
		for shift := range 8 {
			table[uint16(mark<<shift>>16)] = true
		}
	}
	return table
}()

// NewReader unpacks r, which is read to its end, with so many blocks at once. What follows the last stream and starts
// no other is given to trailing, whose error counts; nil takes it for damage. Errors of Read are those of r,
// bzip2.StructuralError, or io.ErrUnexpectedEOF.
func NewReader(r *bufio.Reader, workers int, trailing func(io.Reader) error) io.ReadCloser {
	s := &splitter{r: r, trailing: trailing}
	return lanes.New(max(workers, 1), int64(workers+2)*room, s.feed)
}

func damaged(why string) error { return bzip2.StructuralError(why) }

// splitter finds the blocks.
type splitter struct {
	r        *bufio.Reader
	trailing func(io.Reader) error
	level    byte
	total    uint32 // check value of the stream's blocks so far, on the reader's side
}

// block is a block, or what seems to be one.
type block struct {
	level   byte
	data    []byte // the mark at bit skip, to the next mark at bit end
	skip    int
	end     int
	sum     uint32
	before  *block
	next    chan *block   // what follows the mark at its end; closed if that is the stream's end
	settled chan struct{} // closed when it is known how many blocks it took
	took    int           // further blocks that were part of this one
}

// feed reads all streams.
func (s *splitter) feed(f *lanes.Feeder) error {
	for first := true; ; first = false {
		if start, _ := s.r.Peek(len("BZh")); !first && string(start) != "BZh" {
			if s.trailing != nil {
				return s.trailing(s.r)
			}
			if len(start) == 0 {
				return nil
			}
		}
		var head [headSize]byte
		n, err := io.ReadFull(s.r, head[:])
		if err != nil {
			return cut(err)
		}
		if string(head[:3]) != "BZh" || head[3] < '1' || head[3] > '9' || n < headSize {
			return damaged("no stream starts where the one before ends")
		}
		s.level = head[3]
		if err := s.stream(f); err != nil {
			return err
		}
	}
}

func cut(err error) error {
	if err == io.EOF {
		return io.ErrUnexpectedEOF
	}
	return err
}

// stream reads the blocks of a stream, and hands out each when its end has been found.
func (s *splitter) stream(f *lanes.Feeder) error {
	var last *block
	ended := false
	end := func() { // nothing follows the last block, whatever the reason
		if last != nil && !ended {
			close(last.next)
		}
		ended = true
	}
	defer end()
	var window uint64 // the last 64 bits
	var data []byte   // of the block being read, with the byte that its mark starts in
	skip, bits := 0, 0
	started := false
	for {
		b, err := s.r.ReadByte()
		if err != nil {
			return cut(err)
		}
		window = window<<8 | uint64(b)
		bits += 8
		if started {
			data = append(data, b)
			if len(data) > blockMax {
				return damaged("a block has no end")
			}
		} else if bits > markBits {
			return damaged("no block starts where one should")
		}
		if bits < markBits || !mayEndMark[uint16(window>>16)] {
			continue
		}
		for shift := 7; shift >= 0; shift-- {
			mark := window >> shift & markMask
			if mark != blockMark && mark != endMark || bits-shift < markBits || !started && (shift > 0 ||
				bits != markBits) {
				continue
			}
			if started {
				stop := len(data)*8 - shift - markBits
				if stop < skip+markBits+sumBits { // two marks over each other are none
					continue
				}
				last = &block{
					level: s.level, data: data, skip: skip, end: stop, before: last, next: make(chan *block, 1),
					settled: make(chan struct{}),
				}
				last.sum = uint32(last.bitsAt(skip+markBits, sumBits))
				if last.before != nil {
					last.before.next <- last
				}
				if err := s.hand(f, last); err != nil {
					return err
				}
			}
			if mark == endMark {
				end() // before the end waits for all blocks
				return s.end(f, window, shift)
			}
			// the next block's data start with the bytes that hold its mark
			started = true
			back := (markBits + shift + 7) / 8
			data = make([]byte, 0, 256<<10)
			for i := back - 1; i >= 0; i-- {
				data = append(data, byte(window>>(8*i)))
			}
			skip = back*8 - markBits - shift
			break
		}
	}
}

// end reads the check value of a stream, whose mark ends shift bits before the end of the last byte.
func (s *splitter) end(f *lanes.Feeder, window uint64, shift int) error {
	for range sumBits / 8 {
		b, err := s.r.ReadByte()
		if err != nil {
			return cut(err)
		}
		window = window<<8 | uint64(b)
	}
	want := uint32(window >> shift)
	return f.Here(0, lanes.Part{
		Work: func(*lanes.Out) error { return nil },
		Done: func() error {
			if s.total != want {
				return damaged("the stream's check value differs")
			}
			s.total = 0
			return nil
		},
	})
}

// hand has a block unpacked.
func (s *splitter) hand(f *lanes.Feeder, b *block) error {
	return f.Beside(room, pieces, lanes.Part{
		Work: func(out *lanes.Out) error { return b.unpack(out) },
		Done: func() error {
			if b.took >= 0 {
				s.total = (s.total<<1 | s.total>>31) ^ b.sum
			}
			return nil
		},
	})
}

// unpack unpacks a block, unless it is part of the one before it.
func (b *block) unpack(out io.Writer) error {
	settled := false
	settle := func() {
		if !settled {
			settled = true
			close(b.settled)
		}
	}
	defer settle()
	whole := b
	r, err := whole.open()
	if err != nil {
		if b.before != nil {
			<-b.before.settled
			if b.before.took > 0 {
				b.took = -1
				return nil
			}
		}
		// is the mark at its end no mark?
		next, more := <-b.next
		if !more {
			return err
		}
		from := (b.end - next.skip) / 8 // where the next one's data start in this one's
		whole = &block{
			level: b.level, data: slices.Concat(b.data[:from], next.data), skip: b.skip, end: from*8 + next.end,
		}
		var errWhole error
		if r, errWhole = whole.open(); errWhole != nil {
			return err
		}
		b.took = 1
	}
	settle()
	b.before = nil // or each block would keep all that were before it
	buf := make([]byte, 256<<10)
	for {
		n, err := r.Read(buf)
		if n > 0 {
			if _, err := out.Write(buf[:n]); err != nil {
				return err
			}
		}
		switch {
		case err == io.EOF:
			return nil
		case err != nil:
			return asDamage(err)
		}
	}
}

// open makes a file of the block's bits, and unpacks the start of it: the decoder gives nothing before it has read a
// block to its end, so what comes after is right, or the block's check value shows that it isn't.
func (b *block) open() (io.Reader, error) {
	file := bitWriter{out: append(make([]byte, 0, len(b.data)+headSize+16), 'B', 'Z', 'h', b.level)}
	for at := b.skip; at < b.end; {
		n := min(32, b.end-at)
		file.write(b.bitsAt(at, n), n)
		at += n
	}
	file.write(endMark, markBits)
	file.write(b.bitsAt(b.skip+markBits, sumBits), sumBits)
	file.flush()
	r := bufio.NewReaderSize(bzip2.NewReader(bytes.NewReader(file.out)), 16)
	if _, err := r.Peek(1); err != nil {
		return nil, asDamage(err)
	}
	return r, nil
}

func asDamage(err error) error {
	if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF) {
		return damaged("a block is cut short")
	}
	return err
}

// bitsAt returns n bits, 32 at most, from bit at on.
func (b *block) bitsAt(at, n int) uint64 {
	var v uint64
	first := at / 8
	for i := first; i < first+5; i++ {
		v <<= 8
		if i < len(b.data) {
			v |= uint64(b.data[i])
		}
	}
	return v >> (40 - at%8 - n) & (1<<n - 1)
}

// bitWriter writes bits, the most significant first.
type bitWriter struct {
	out  []byte
	held uint64
	n    int
}

func (w *bitWriter) write(v uint64, n int) {
	w.held = w.held<<n | v
	w.n += n
	for w.n >= 8 {
		w.n -= 8
		w.out = append(w.out, byte(w.held>>w.n))
	}
	w.held &= 1<<w.n - 1
}

func (w *bitWriter) flush() {
	if w.n > 0 {
		w.write(0, 8-w.n)
	}
}
