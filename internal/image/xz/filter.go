package xz

import (
	"encoding/binary"
	"fmt"
)

// filter undoes one of the filters which packers put before LZMA2, so that programs pack better.
type filter interface {
	// undo changes p in place; p starts with what the last call left unfinished. It returns how many bytes at its start
	// are finished; what is unfinished at the block's end stays as it is.
	undo(p []byte) int
}

// Filter IDs, section 5.3 of the format; 0x0A and 0x0B came with version 1.1.0 and 1.2.0.
const (
	idDelta    = 0x03
	idX86      = 0x04
	idPowerPC  = 0x05
	idIA64     = 0x06
	idARM      = 0x07
	idARMThumb = 0x08
	idSPARC    = 0x09
	idARM64    = 0x0A
	idRISCV    = 0x0B
)

// branchFilters turn the absolute targets of calls back into relative ones; align is of the start offset.
var branchFilters = map[int64]struct {
	align uint32
	undo  func() func(pos uint32, p []byte) int
}{
	idX86:      {1, func() func(uint32, []byte) int { return (&x86{lastPos: ^uint32(4)}).undo }},
	idPowerPC:  {4, func() func(uint32, []byte) int { return undoPowerPC }},
	idIA64:     {16, func() func(uint32, []byte) int { return undoIA64 }},
	idSPARC:    {4, func() func(uint32, []byte) int { return undoSPARC }},
	idARM:      {4, func() func(uint32, []byte) int { return undoARM }},
	idARMThumb: {2, func() func(uint32, []byte) int { return undoARMThumb }},
	idARM64:    {4, func() func(uint32, []byte) int { return undoARM64 }},
	idRISCV:    {2, func() func(uint32, []byte) int { return undoRISCV }},
}

// newFilter makes the filter with this ID and its properties.
func newFilter(id int64, properties []byte) (filter, error) {
	if id == idDelta {
		if len(properties) != 1 {
			return nil, fmt.Errorf("the delta filter has %d bytes of properties, not 1", len(properties))
		}
		return &delta{distance: int(properties[0]) + 1}, nil
	}
	b, known := branchFilters[id]
	if !known {
		return nil, &UnsupportedError{Filter: id}
	}
	f := &branches{convert: b.undo()}
	switch len(properties) {
	case 0:
	case 4:
		f.pos = binary.LittleEndian.Uint32(properties)
	default:
		return nil, fmt.Errorf("a filter has %d bytes of properties, not 0 or 4", len(properties))
	}
	if f.pos%b.align != 0 {
		return nil, fmt.Errorf("a filter's start offset %d is not a multiple of %d", f.pos, b.align)
	}
	return f, nil
}

// delta adds to each byte the one at a distance of 1 to 256 before it (section 5.3.3).
type delta struct {
	distance int
	past     [256]byte
	at       uint8
}

func (d *delta) undo(p []byte) int {
	for i := range p {
		p[i] += d.past[uint8(int(d.at)-d.distance)]
		d.past[d.at] = p[i]
		d.at++
	}
	return len(p)
}

// branches keeps the position for a filter of branch instructions (section 5.3.2).
type branches struct {
	pos     uint32
	convert func(pos uint32, p []byte) int
}

func (b *branches) undo(p []byte) int {
	n := b.convert(b.pos, p)
	b.pos += uint32(n)
	return n
}

// x86 is for CALL (E8) and JMP (E9) with 32-bit displacements. What looks like one just before another is in
// doubt: mask remembers where in the last bytes such opcodes stood.
type x86 struct {
	mask    uint32
	lastPos uint32
}

func (x *x86) undo(pos uint32, p []byte) int {
	allZerosOrOnes := func(b byte) bool { return b == 0 || b == 0xFF }
	if pos-x.lastPos > 5 {
		x.lastPos = pos - 5
	}
	i := 0
	for i+5 <= len(p) {
		if p[i]&0xFE != 0xE8 {
			i++
			continue
		}
		here := pos + uint32(i)
		since := here - x.lastPos
		x.lastPos = here
		if since > 5 {
			x.mask = 0
		} else {
			for range since {
				x.mask = x.mask & 0x77 << 1
			}
		}
		top := p[i+4]
		if !allZerosOrOnes(top) || x.mask>>1 >= 0x10 || !x86Allowed[x.mask>>1&7] {
			x.mask |= 1
			if allZerosOrOnes(top) {
				x.mask |= 0x10
			}
			i++
			continue
		}
		target := binary.LittleEndian.Uint32(p[i+1:])
		relative := target - (here + 5)
		for x.mask != 0 {
			bits := x86Bits[x.mask>>1] * 8
			if !allZerosOrOnes(byte(relative >> (24 - bits))) {
				break
			}
			target = relative ^ (1<<(32-bits) - 1)
			relative = target - (here + 5)
		}
		relative &= 0x1FFFFFF
		if relative&0x1000000 != 0 {
			relative |= 0xFF000000
		}
		binary.LittleEndian.PutUint32(p[i+1:], relative)
		x.mask = 0
		i += 5
	}
	return i
}

var (
	x86Allowed = [8]bool{true, true, true, false, true, false, false, false}
	x86Bits    = [16]uint32{0, 1, 2, 2, 3, 3, 3, 3, 0, 0, 0, 0, 0, 0, 0, 0}
)

// undoPowerPC is for bl: 24 bits of a word offset, with AA clear and LK set.
func undoPowerPC(pos uint32, p []byte) int {
	i := 0
	for ; i+4 <= len(p); i += 4 {
		word := binary.BigEndian.Uint32(p[i:])
		if word&0xFC000003 == 0x48000001 {
			binary.BigEndian.PutUint32(p[i:], 0x48000001|(word&0x03FFFFFC-(pos+uint32(i)))&0x03FFFFFC)
		}
	}
	return i
}

// undoSPARC is for call, within ±8 MiB: the 22 bits above are all alike.
func undoSPARC(pos uint32, p []byte) int {
	i := 0
	for ; i+4 <= len(p); i += 4 {
		word := binary.BigEndian.Uint32(p[i:])
		if top := word >> 22; top != 0x100 && top != 0x1FF {
			continue
		}
		offset := (word<<2 - (pos + uint32(i))) >> 2
		sign := -(offset >> 22 & 1) << 22 & 0x3FFFFFFF
		binary.BigEndian.PutUint32(p[i:], 0x40000000|sign|offset&0x3FFFFF)
	}
	return i
}

// branchSlots are those of the three slots of an IA-64 bundle, as bits, that hold a branch instruction, by the bundle's
// template.
var branchSlots = [32]byte{16: 4, 4, 6, 6, 0, 0, 7, 7, 4, 4, 0, 0, 4, 4, 0, 0}

// undoIA64 is for br.call: 21 bits of an offset in bundles of 16 bytes.
func undoIA64(pos uint32, p []byte) int {
	const slotBits = 41
	i := 0
	for ; i+16 <= len(p); i += 16 {
		slots := branchSlots[p[i]&0x1F]
		for slot := range 3 {
			if slots>>slot&1 == 0 {
				continue
			}
			at := 5 + slot*slotBits
			b := p[i+at/8:][:6]
			word := uint64(binary.LittleEndian.Uint32(b)) | uint64(binary.LittleEndian.Uint16(b[4:]))<<32
			in := word >> (at % 8)
			if in>>37&0xF != 5 || in>>9&7 != 0 {
				continue
			}
			target := uint32(in>>13&0xFFFFF) | uint32(in>>36&1)<<20
			offset := uint64((target<<4 - (pos + uint32(i))) >> 4)
			in = in&^(0x8FFFFF<<13) | offset&0xFFFFF<<13 | offset&0x100000<<16
			word = word&(1<<(at%8)-1) | in<<(at%8)
			binary.LittleEndian.PutUint32(b, uint32(word))
			binary.LittleEndian.PutUint16(b[4:], uint16(word>>32))
		}
	}
	return i
}

// undoARM is for BL (always): 24 bits of a word offset from 8 bytes further on.
func undoARM(pos uint32, p []byte) int {
	i := 0
	for ; i+4 <= len(p); i += 4 {
		if p[i+3] != 0xEB {
			continue
		}
		word := binary.LittleEndian.Uint32(p[i:])
		offset := (word<<2 - (pos + uint32(i) + 8)) >> 2
		binary.LittleEndian.PutUint32(p[i:], 0xEB000000|offset&0xFFFFFF)
	}
	return i
}

// undoARMThumb is for BL in two halves of 11 bits each, of a half-word offset from 4 bytes further on.
func undoARMThumb(pos uint32, p []byte) int {
	i := 0
	for ; i+4 <= len(p); i += 2 {
		high, low := uint32(binary.LittleEndian.Uint16(p[i:])), uint32(binary.LittleEndian.Uint16(p[i+2:]))
		if high&0xF800 != 0xF000 || low&0xF800 != 0xF800 {
			continue
		}
		offset := ((high&0x7FF<<11|low&0x7FF)<<1 - (pos + uint32(i) + 4)) >> 1
		binary.LittleEndian.PutUint16(p[i:], uint16(0xF000|offset>>11&0x7FF))
		binary.LittleEndian.PutUint16(p[i+2:], uint16(0xF800|offset&0x7FF))
		i += 2
	}
	return i
}

// undoARM64 is for BL, and for ADRP within ±512 MiB.
func undoARM64(pos uint32, p []byte) int {
	i := 0
	for ; i+4 <= len(p); i += 4 {
		word, pc := binary.LittleEndian.Uint32(p[i:]), pos+uint32(i)
		switch {
		case word>>26 == 0x25: // BL imm26
			word = 0x94000000 | (word-pc>>2)&0x03FFFFFF
		case word&0x9F000000 == 0x90000000: // ADRP immhi:immlo
			page := word>>29&3 | word>>3&0x1FFFFC
			if (page+0x20000)&0x1C0000 != 0 {
				continue
			}
			page -= pc >> 12
			word = word&0x9000001F | page&3<<29 | page&0x3FFFC<<3 | -(page&0x20000)&0xE00000
		default:
			continue
		}
		binary.LittleEndian.PutUint32(p[i:], word)
	}
	return i
}

// undoRISCV is for JAL to ra or t0, and for AUIPC with the instruction that uses its result.
func undoRISCV(pos uint32, p []byte) int {
	i := 0
	for ; i+8 <= len(p); i += 2 {
		switch {
		case p[i] == 0xEF: // JAL with the lowest bit of rd set
			if p[i+1]&0x0D != 0 {
				continue
			}
			b1, b2, b3 := uint32(p[i+1]), uint32(p[i+2]), uint32(p[i+3])
			offset := b1&0xF0<<13 | b2<<9 | b3<<1
			offset -= pos + uint32(i)
			p[i+1] = byte(b1&0x0F | offset>>8&0xF0)
			p[i+2] = byte(offset>>16&0x0F | offset>>7&0x10 | offset<<4&0xE0)
			p[i+3] = byte(offset>>4&0x7F | offset>>13&0x80)
			i += 2
		case p[i]&0x7F == 0x17: // AUIPC
			i += undoAUIPC(pos+uint32(i), p[i:]) - 2
		}
	}
	return i
}

// undoAUIPC undoes a pair of instructions, the first of which is an AUIPC, and returns how far to go on.
func undoAUIPC(pc uint32, p []byte) int {
	first, second := binary.LittleEndian.Uint32(p), binary.LittleEndian.Uint32(p[4:])
	// rd is neither x0 nor x2: this pair was left alone, unless it was made to look like a filtered one
	if first&0xE80 != 0 {
		if (first<<8^(second-3))&0xF8003 != 0 {
			return 6
		}
		address := first&0xFFFFF000 + second>>20
		first = 0x17 | 2<<7 | second<<12
		second = address
	} else {
		rs1 := first >> 27
		if (first-0x3117)<<18 >= rs1&0x1D {
			return 4
		}
		address := binary.BigEndian.Uint32(p[4:]) - pc
		second = first>>12 | address<<20
		first = 0x17 | rs1<<7 | (address+0x800)&0xFFFFF000
	}
	binary.LittleEndian.PutUint32(p, first)
	binary.LittleEndian.PutUint32(p[4:], second)
	return 8
}
