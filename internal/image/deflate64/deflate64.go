// Package deflate64 unpacks "enhanced deflate", the method 9 of zip (APPNOTE.TXT, section 4.4.5), by which the file
// manager of Windows packs files of 2 GB and more.
//
// It is deflate (RFC 1951) with three differences: the window has 64 KiB; the distance codes 30 and 31 stand for 49153
// and 65537 and more, with 14 extra bits; and the length code 285 stands for 3 to 65538, with 16 extra bits, where
// deflate has 258 and none.
package deflate64

import (
	"encoding/binary"
	"errors"
	"io"
)

// Sizes, bytes.
const (
	window  = 64 << 10
	longest = 3 + 1<<16 - 1 // of a match
	room    = 256 << 10     // of the output: a window, what is handed out, and one match more
	inputs  = 64 << 10
)

// ErrDamaged says that what is read was not made by this packing.
var ErrDamaged = errors.New("not well-formed deflate64 data")

// Reader unpacks a stream. It may read beyond the end of the packed data.
type Reader struct {
	r        io.Reader
	in       []byte
	from, to int // what of in has not been used
	ended    error

	bits  uint64
	count uint // of bits

	out         []byte
	given, made int // of out: handed out, and unpacked

	final    bool // the block at hand is the last
	stored   int  // bytes left of a block that is stored
	inBlock  bool // of codes
	literals table
	places   table
	err      error
}

// NewReader unpacks what r gives.
func NewReader(r io.Reader) *Reader {
	return &Reader{r: r, in: make([]byte, inputs), out: make([]byte, room)}
}

// Read implements io.Reader. Data that is cut short gives io.ErrUnexpectedEOF, and other damage ErrDamaged.
func (d *Reader) Read(p []byte) (int, error) {
	if len(p) == 0 {
		return 0, nil
	}
	for d.given == d.made {
		if d.err != nil {
			return 0, d.err
		}
		d.slide()
		d.err = d.unpack()
	}
	n := copy(p, d.out[d.given:d.made])
	d.given += n
	return n, nil
}

// Close does nothing; the source is another's.
func (d *Reader) Close() error { return nil }

// slide makes room behind what later matches may repeat.
func (d *Reader) slide() {
	if d.made < room-longest-window {
		return
	}
	copy(d.out, d.out[d.made-window:d.made])
	d.given, d.made = window, window
}

// unpack fills the output, or ends with the data or an error.
func (d *Reader) unpack() error {
	for {
		switch {
		case d.stored > 0:
			if err := d.copyStored(); err != nil {
				return err
			}
		case d.inBlock:
			if err := d.codes(); err != nil {
				return err
			}
		case d.final:
			return io.EOF
		default:
			if err := d.header(); err != nil {
				return err
			}
		}
		if d.made >= room-longest {
			return nil
		}
	}
}

// fill gets more bits, if there are more: 56 at least then.
func (d *Reader) fill() {
	if d.to-d.from >= 8 {
		d.bits |= binary.LittleEndian.Uint64(d.in[d.from:]) << d.count
		d.from += int((63 - d.count) >> 3)
		d.count |= 56
		return
	}
	for d.count <= 56 {
		if d.from == d.to {
			if d.ended != nil {
				return
			}
			d.from = 0
			d.to, d.ended = d.r.Read(d.in)
			continue
		}
		d.bits |= uint64(d.in[d.from]) << d.count
		d.from++
		d.count += 8
	}
}

// short is the error of data that ends too early.
func (d *Reader) short() error {
	if d.ended != nil && d.ended != io.EOF {
		return d.ended
	}
	return io.ErrUnexpectedEOF
}

// take gives the next n bits, at most 16.
func (d *Reader) take(n uint) (int, error) {
	if d.count < n {
		d.fill()
		if d.count < n {
			return 0, d.short()
		}
	}
	v := int(d.bits & (1<<n - 1))
	d.bits >>= n
	d.count -= n
	return v, nil
}

// header begins a block (RFC 1951, section 3.2.3).
func (d *Reader) header() error {
	v, err := d.take(3)
	if err != nil {
		return err
	}
	d.final = v&1 != 0
	switch v >> 1 {
	case 0:
		return d.storedHeader()
	case 1:
		d.literals, d.places = fixedLiterals, fixedPlaces
	case 2:
		if err := d.readCodes(); err != nil {
			return err
		}
	default:
		return ErrDamaged
	}
	d.inBlock = true
	return nil
}

func (d *Reader) storedHeader() error {
	if _, err := d.take(d.count % 8); err != nil {
		return err
	}
	length, err := d.take(16)
	if err != nil {
		return err
	}
	inverse, err := d.take(16)
	if err != nil {
		return err
	}
	if length != inverse^0xFFFF {
		return ErrDamaged
	}
	d.stored = length
	return nil
}

func (d *Reader) copyStored() error {
	for d.stored > 0 && d.made < room-longest {
		if d.count >= 8 { // read ahead
			d.out[d.made] = byte(d.bits)
			d.bits >>= 8
			d.count -= 8
			d.made++
			d.stored--
			continue
		}
		d.bits, d.count = 0, 0
		if d.from == d.to {
			if d.fill(); d.count == 0 {
				return d.short()
			}
			continue
		}
		n := copy(d.out[d.made:min(d.made+d.stored, room-longest)], d.in[d.from:d.to])
		d.from += n
		d.made += n
		d.stored -= n
	}
	return nil
}

// order is that of the lengths of codes for lengths of codes (RFC 1951, section 3.2.7).
var order = [19]int{16, 17, 18, 0, 8, 7, 9, 6, 10, 5, 11, 4, 12, 3, 13, 2, 14, 1, 15}

// readCodes reads the codes of a block (RFC 1951, section 3.2.7).
func (d *Reader) readCodes() error {
	v, err := d.take(14)
	if err != nil {
		return err
	}
	literals, places, lengths := v&31+257, v>>5&31+1, v>>10+4
	if literals > 286 {
		return ErrDamaged
	}
	var of [19]uint8
	for _, i := range order[:lengths] {
		n, err := d.take(3)
		if err != nil {
			return err
		}
		of[i] = uint8(n)
	}
	if err := d.literals.build(of[:], false); err != nil {
		return err
	}
	var all [286 + 32]uint8
	for i := 0; i < literals+places; {
		sym, err := d.symbol(&d.literals)
		if err != nil {
			return err
		}
		if sym < 16 {
			all[i] = uint8(sym)
			i++
			continue
		}
		again, least, extra := uint8(0), 3, uint(2)
		switch sym {
		case 16:
			if i == 0 {
				return ErrDamaged
			}
			again = all[i-1]
		case 17:
			extra = 3
		default:
			least, extra = 11, 7
		}
		n, err := d.take(extra)
		if err != nil {
			return err
		}
		if n += least; i+n > literals+places {
			return ErrDamaged
		}
		for ; n > 0; n-- {
			all[i] = again
			i++
		}
	}
	if all[256] == 0 { // a block without an end
		return ErrDamaged
	}
	if err := d.literals.build(all[:literals], true); err != nil {
		return err
	}
	return d.places.build(all[literals:literals+places], true)
}

// symbol reads a symbol.
func (d *Reader) symbol(t *table) (int, error) {
	if d.count < maxCode {
		d.fill()
	}
	e := t.find(d.bits)
	n := uint(e & 15)
	if n == 0 {
		return 0, ErrDamaged
	}
	if n > d.count {
		return 0, d.short()
	}
	d.bits >>= n
	d.count -= n
	return int(e >> 8), nil
}

// Lengths and distances by their codes (RFC 1951, section 3.2.5, with the differences above).
var (
	lengthBase, lengthExtra = func() (base [29]int, extra [29]uint) {
		at := 3
		for i := range 28 {
			if i >= 8 {
				extra[i] = uint(i-4) / 4
			}
			base[i] = at
			at += 1 << extra[i]
		}
		base[28], extra[28] = 3, 16
		return base, extra
	}()
	placeBase, placeExtra = func() (base [32]int, extra [32]uint) {
		at := 1
		for i := range 32 {
			if i >= 4 {
				extra[i] = uint(i-2) / 2
			}
			base[i] = at
			at += 1 << extra[i]
		}
		return base, extra
	}()
)

// codes unpacks literals and matches, until the block ends or the output is full.
func (d *Reader) codes() error {
	for d.made < room-longest {
		sym, err := d.symbol(&d.literals)
		switch {
		case err != nil:
			return err
		case sym < 256:
			d.out[d.made] = byte(sym)
			d.made++
			continue
		case sym == 256:
			d.inBlock = false
			return nil
		}
		sym -= 257
		if sym >= len(lengthBase) {
			return ErrDamaged
		}
		more, err := d.take(lengthExtra[sym])
		if err != nil {
			return err
		}
		length := lengthBase[sym] + more
		if sym, err = d.symbol(&d.places); err != nil {
			return err
		}
		if more, err = d.take(placeExtra[sym]); err != nil {
			return err
		}
		if err := d.repeat(placeBase[sym]+more, length); err != nil {
			return err
		}
	}
	return nil
}

// repeat writes so many bytes again that stand at a distance back.
func (d *Reader) repeat(distance, length int) error {
	if distance > d.made {
		return ErrDamaged
	}
	from, to := d.made-distance, d.made+length
	for d.made < to { // what is repeated may include what has just been written
		d.made += copy(d.out[d.made:to], d.out[from:d.made])
	}
	return nil
}
