// Package mark makes and knows the sector stamps of capacity tests: 512 bytes that say who they are, so that what
// is read at a place tells whether it was written there, somewhere else, earlier, or not at all.
//
// A sector stamp is 64 little-endian words of 8 bytes:
//
//	0      "SaltMark" (the magic)
//	1, 2   the nonce of the run
//	3      the number of the sector it was made for, counted in 512 bytes from the start
//	4..62  a keystream of nonce and number
//	63     a check value of words 0 to 3, so that these can be trusted where other bits are wrong
//
// The keystream is SplitMix64's (Steele, Lea, Flood: Fast Splittable Pseudorandom Number Generators, 2014) with one of
// its two multiplications. It has to look like no other sector's and to be faster than any card; nobody has to be kept
// from guessing it.
package mark

import (
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"math/bits"
)

// Size is the length of a sector stamp, bytes: the unit of addresses on memory cards (SD Physical Layer Simplified
// Specification, 2.1), whatever the logical sector of the device.
const Size = 512

// words of a sector stamp.
const (
	words     = Size / 8
	keystream = 4 // the first word of it
	last      = words - 1
)

const (
	magic  = 0x6b72614d746c6153 // "SaltMark", little endian
	golden = 0x9e3779b97f4a7c15 // 2^64 divided by the golden ratio, odd
)

// Nonce tells the sector stamps of a run from those of all others.
type Nonce [16]byte

func (n Nonce) String() string { return hex.EncodeToString(n[:]) }

// MarshalText writes the nonce in hex.
func (n Nonce) MarshalText() ([]byte, error) { return []byte(n.String()), nil }

// UnmarshalText reads what MarshalText writes.
func (n *Nonce) UnmarshalText(text []byte) error {
	b, err := hex.DecodeString(string(text))
	if err != nil || len(b) != len(n) {
		return fmt.Errorf("%q is not a nonce of %d hex digits", text, 2*len(n))
	}
	copy(n[:], b)
	return nil
}

// Run makes and judges the sector stamps of one run.
type Run struct{ a, b uint64 }

// NewRun is the run with the nonce.
func NewRun(n Nonce) Run {
	return Run{binary.LittleEndian.Uint64(n[:8]), binary.LittleEndian.Uint64(n[8:])}
}

func mix(v uint64) uint64 {
	v = (v ^ v>>30) * 0xbf58476d1ce4e5b9
	v = (v ^ v>>27) * 0x94d049bb133111eb
	return v ^ v>>31
}

// seed is where the keystream of a sector starts.
func (r Run) seed(number uint64) uint64 { return mix(mix(number+r.a) ^ r.b) }

// check is the check value.
func (r Run) check(number uint64) uint64 {
	return mix(mix(mix(number^magic)+r.a) + r.b)
}

// stream gives the word of the keystream that follows the state.
func stream(state uint64) uint64 {
	v := (state ^ state>>29) * 0xbf58476d1ce4e5b9
	return v ^ v>>32
}

// Fill makes the stamps of as many sectors as p holds, the first of which has the number. The length of p is a multiple
// of Size.
func (r Run) Fill(p []byte, number int64) {
	for len(p) >= Size {
		r.fill((*[Size]byte)(p), uint64(number))
		p = p[Size:]
		number++
	}
}

func (r Run) fill(p *[Size]byte, number uint64) {
	binary.LittleEndian.PutUint64(p[0:], magic)
	binary.LittleEndian.PutUint64(p[8:], r.a)
	binary.LittleEndian.PutUint64(p[16:], r.b)
	binary.LittleEndian.PutUint64(p[24:], number)
	state := r.seed(number)
	for i := keystream * 8; i < last*8; i += 8 {
		state += golden
		binary.LittleEndian.PutUint64(p[i:], stream(state))
	}
	binary.LittleEndian.PutUint64(p[last*8:], r.check(number))
}

// Right counts the sectors from the start of p that are the stamps of their own places, the first of which has the
// number.
func (r Run) Right(p []byte, number int64) (n int) {
	for len(p) >= Size && r.right((*[Size]byte)(p), uint64(number)) {
		p = p[Size:]
		number++
		n++
	}
	return n
}

func (r Run) right(p *[Size]byte, number uint64) bool {
	wrong := binary.LittleEndian.Uint64(p[0:]) ^ magic
	wrong |= binary.LittleEndian.Uint64(p[8:]) ^ r.a
	wrong |= binary.LittleEndian.Uint64(p[16:]) ^ r.b
	wrong |= binary.LittleEndian.Uint64(p[24:]) ^ number
	state := r.seed(number)
	for i := keystream * 8; i < last*8; i += 8 {
		state += golden
		wrong |= binary.LittleEndian.Uint64(p[i:]) ^ stream(state)
	}
	wrong |= binary.LittleEndian.Uint64(p[last*8:]) ^ r.check(number)
	return wrong == 0
}

// Kind is what was read at a place where a sector stamp was written.
type Kind int

// The kinds.
const (
	Right     Kind = iota
	Elsewhere      // the stamp of another place, of this run: addresses that repeat, or the last written data
	Earlier        // a stamp of an earlier run, whatever its place: the write was lost
	Blank          // all one byte
	Worn           // some bits differ from what was written
	Foreign        // anything else
)

var kindNames = [...]string{"right", "elsewhere", "earlier", "blank", "worn", "foreign"}

func (k Kind) String() string { return kindNames[k] }

// Reading is what a sector turned out to be.
type Reading struct {
	Kind  Kind
	Of    int64 // Elsewhere and Earlier: the place that the stamp was made for
	Byte  byte  // Blank
	Bits  int   // Worn: how many differ
	Nonce Nonce // Earlier
}

// maxWorn is the most bits of the 4096 in a sector by which a stamp may differ and still be taken for itself. Two
// stamps, or a stamp and anything that has nothing to do with it, differ by 2048 bits with a standard deviation of 32.
const maxWorn = 512

// Judge says what the 512 bytes of s are, where the stamp of the sector with the number was written.
func (r Run) Judge(s []byte, number int64) Reading {
	var want [Size]byte
	r.fill(&want, uint64(number))
	switch n := differing(s, &want); {
	case n == 0:
		return Reading{Kind: Right}
	case n <= maxWorn:
		return Reading{Kind: Worn, Bits: n}
	}
	if b, ok := blank(s); ok {
		return Reading{Kind: Blank, Byte: b}
	}
	if nonce, of, ok := Know(s); ok {
		if nonce == r.Nonce() {
			return Reading{Kind: Elsewhere, Of: of}
		}
		return Reading{Kind: Earlier, Of: of, Nonce: nonce}
	}
	return Reading{Kind: Foreign}
}

// Nonce of the run.
func (r Run) Nonce() (n Nonce) {
	binary.LittleEndian.PutUint64(n[:8], r.a)
	binary.LittleEndian.PutUint64(n[8:], r.b)
	return n
}

// Know tells whether the 512 bytes of s are a stamp of any run and place, perhaps with some bits wrong, and of which.
func Know(s []byte) (n Nonce, number int64, ok bool) {
	p := (*[Size]byte)(s)
	if bits.OnesCount64(binary.LittleEndian.Uint64(p[0:])^magic) > 8 {
		return n, 0, false
	}
	r := Run{binary.LittleEndian.Uint64(p[8:]), binary.LittleEndian.Uint64(p[16:])}
	at := binary.LittleEndian.Uint64(p[24:])
	if r.check(at) != binary.LittleEndian.Uint64(p[last*8:]) || int64(at) < 0 {
		return n, 0, false
	}
	var want [Size]byte
	r.fill(&want, at)
	return r.Nonce(), int64(at), differing(s, &want) <= maxWorn
}

// differing counts the bits by which s differs from want.
func differing(s []byte, want *[Size]byte) (n int) {
	p := (*[Size]byte)(s)
	for i := 0; i < Size; i += 8 {
		n += bits.OnesCount64(binary.LittleEndian.Uint64(p[i:]) ^ binary.LittleEndian.Uint64(want[i:]))
	}
	return n
}

// Differing counts the bits by which two texts of one length differ.
func Differing(a, b []byte) (n int) {
	for i := range a {
		n += bits.OnesCount8(a[i] ^ b[i])
	}
	return n
}

func blank(s []byte) (byte, bool) {
	for _, b := range s[1:Size] {
		if b != s[0] {
			return 0, false
		}
	}
	return s[0], true
}
