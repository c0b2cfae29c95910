// Command gen writes chunk.go, the function that unpacks one LZMA chunk in Go: for processors that have none in
// assembler, and as what that one is compared with.
//
// LZMA decodes bit by bit, each bit depends on the one before it, and a call for each costs more than the bit. The
// compiler does not inline functions of this size, so the function is written out by this program, from pieces that
// each stand for one idea. What makes it fast:
//
//   - range, code and position are local variables in one function for a whole chunk;
//   - the bits of a tree are decoded without branches: they are what a processor can't predict. A mask, all
//     ones or zeros, stands for the bit, and both probabilities that may come next are loaded before it is known;
//   - bits that can be predicted (is it a match, which distance again) are branches;
//   - the input is an array whose index is masked, which needs no check;
//   - matches are copied by 8 bytes.
package main

import (
	"fmt"
	"go/format"
	"log"
	"os"
	"strings"
)

func main() {
	log.SetFlags(0)
	source, err := generate()
	if err != nil {
		log.Fatal(err)
	}
	if err := os.WriteFile("chunk.go", source, 0o644); err != nil {
		log.Fatal(err)
	}
}

// generate returns the source of chunk.go.
func generate() ([]byte, error) { return format.Source([]byte(chunk())) }

// The range decoder. rng and code are uint64, so that code-bound shows its sign.

// normalize makes sure that rng has the bits for the next bit.
const normalize = `
	if rng < 1<<24 {
		rng <<= 8
		code = code<<8 | uint64(byteAt(in, ip))
		ip++
	}`

// branch decodes a bit of probability prob (an lvalue), and goes on with zero or one.
func branch(prob, zero, one string) string {
	return fill(`$normalize
	p = uint64($prob)
	bound = rng >> 11 * p
	if code < bound {
		rng = bound
		$prob = uint16(p + (2048-p)>>5)
		$zero
	} else {
		rng -= bound
		code -= bound
		$prob = uint16(p - p>>5)
		$one
	}`, "$prob", prob, "$zero", zero, "$one", one)
}

// mask decodes a bit of probability p, which has been loaded from prob, without a branch: mask is 0 for a one, and -1
// for a zero. The probability moves by (2048-p)>>5 up or p>>5 down; 2017 is 2048-31, and rounds like the shift of the
// difference.
func mask(prob string) string {
	return fill(`$normalize
	bound = rng >> 11 * p
	code -= bound
	mask = uint64(int64(code) >> 63)
	code += bound & mask
	rng -= bound
	rng += (bound - rng) & mask
	$prob = uint16(int64(p) - (int64(p)+int64(mask)&-2017)>>5)`, "$prob", prob)
}

// tree decodes a symbol of some bits with the probabilities in array, the most significant bit first. sym then has a
// leading one. and masks the index, and is as long as the array.
func tree(array, and string, bits int) string {
	var b strings.Builder
	fmt.Fprintf(&b, "\nsym = 1\np = uint64(%s[1])", array)
	for i := range bits {
		prob := fmt.Sprintf("%s[sym&%s]", array, and)
		if i == 0 {
			prob = array + "[1]"
		}
		if i < bits-1 {
			fmt.Fprintf(&b, "\np0, p1 = uint64(%[1]s[sym*2&%[2]s]), uint64(%[1]s[(sym*2+1)&%[2]s])", array, and)
		}
		b.WriteString(mask(prob))
		b.WriteString("\nsym = sym*2 + 1 + mask")
		if i < bits-1 {
			b.WriteString("\np = p1 ^ (p0^p1)&mask")
		}
	}
	return b.String()
}

// reverse decodes the low bits of a distance, the least significant bit first, into value.
func reverse(array, and string, bits int, value string) string {
	var b strings.Builder
	b.WriteString("\nsym = 1")
	for i := range bits {
		prob := fmt.Sprintf("%s[sym&%s]", array, and)
		fmt.Fprintf(&b, "\np = uint64(%s)%s\n%s += (1 + mask) << %d", prob, mask(prob), value, i)
		if i < bits-1 {
			b.WriteString("\nsym = sym*2 + 1 + mask")
		}
	}
	return b.String()
}

// matchedLiteral decodes a literal after a match: the byte at the last distance predicts its bits, as long as they
// agree.
func matchedLiteral() string {
	var b strings.Builder
	b.WriteString("\nguess, half, sym = uint64(out[pos-rep0-1]), 0x100, 1")
	for range 8 {
		b.WriteString(
			"\nguess += guess\nguessed = guess & half\nat = (half + guessed + sym) & 0x3FF\np = uint64(literal[at])",
		)
		b.WriteString(mask("literal[at]"))
		b.WriteString("\nsym = sym*2 + 1 + mask\nhalf &= guessed ^ mask")
	}
	return b.String()
}

// length decodes a length with the coder named, into length.
func length(coder string) string {
	low := "\ntree3 = &lengths.low[posState&15]" + tree("tree3", "7", 3) + "\nlength = uint(sym) - 1<<3 + matchMin"
	mid := "\ntree3 = &lengths.mid[posState&15]" + tree("tree3", "7", 3) + "\nlength = uint(sym) - 1<<3 + matchMin + 8"
	high := tree("lengths.high", "255", 8) + "\nlength = uint(sym) - 1<<8 + matchMin + 16"
	return "\nlengths = &odds." + coder + branch("lengths.choice", low, branch("lengths.choice2", mid, high))
}

// distance decodes the distance of a new match into rep0.
func distance() string {
	return fill(`
	slots = &odds.slot[min(length-matchMin, 3)]$slot
	slot = sym & 63
	if slot < slotsSimple {
		rep0 = uint(slot)
	} else {
		bits = slot>>1 - 1
		far = (2 | slot&1) << (bits & 31)
		if slot < slotsModel {
			at = far - slot
			sym = 1
			for low = 1; low < 1<<(bits&31); low <<= 1 {$modelled
			}
		} else {
			far = 2 | slot&1
			for bits -= 4; bits > 0; bits-- {$direct
			}
			far <<= 4$align
		}
		if far >= dict {
			return false
		}
		rep0 = uint(far)
	}`,
		"$slot", tree("slots", "63", 6),
		"$modelled",
		"\nspecial = &odds.special[(at+sym)&127]"+branch("*special", "sym *= 2", "sym = sym*2 + 1\nfar += low"),
		"$direct", normalize+`
				rng >>= 1
				code -= rng
				mask = uint64(int64(code) >> 63)
				code += rng & mask
				far = far*2 + 1 + mask`,
		"$align", reverse("odds.align", "15", 4, "far"))
}

// again decodes which of the last distances a match has, and the short match of one byte.
func again() string {
	short := `
		if state < 7 {
			state = 9
		} else {
			state = 11
		}
		if rep0 >= pos-low0 {
			return false
		}
		out[pos] = out[pos-rep0-1]
		pos++
		continue`
	return branch("odds.isRepG0[state&15]",
		branch("odds.isRep0Long[uint8(state<<4|posState)]", short, ""),
		branch("odds.isRepG1[state&15]", "rep0, rep1 = rep1, rep0",
			branch("odds.isRepG2[state&15]", "rep0, rep1, rep2 = rep2, rep0, rep1",
				"rep0, rep1, rep2, rep3 = rep3, rep0, rep1, rep2"))) + `
		if state < 7 {
			state = 8
		} else {
			state = 11
		}` + length("rep")
}

func chunk() string {
	literal := `
		literal = &odds.literal[((pos-base)&lpMask<<(lc&7)+uint(out[pos-1])>>(lcShift&15))&15]
		if state < 7 {` + tree("literal", "0xFF", 8) + `
		} else {` + matchedLiteral() + `
		}
		out[pos] = byte(sym)
		pos++
		state = uint(afterLiteral[state&15])
		continue`
	match := `
		rep1, rep2, rep3 = rep0, rep1, rep2
		if state < 7 {
			state = 7
		} else {
			state = 10
		}` + length("match") + distance()
	return fill(`// Code generated by gen; DO NOT EDIT.

package xz

import "encoding/binary"

// chunkPlain unpacks a chunk of LZMA: size bytes of the input, to where the window's position is limit, before which at
// least windowTail bytes less than the window's length must be left. It tells whether the chunk is well formed;
// whatever it holds, no byte beyond limit+windowTail is written, and none before low is copied.
func (z *lzma2) chunkPlain(size, limit int) bool {
	in, out, odds := &z.input, z.window, &z.odds
	rep0, rep1, rep2, rep3, state := z.rep0, z.rep1, z.rep2, z.rep3, z.state
	lc, lpMask, pbMask := z.lc, z.lpMask, z.pbMask
	lcShift := 8 - lc
	pos, end, low0, base, dict := uint(z.pos), uint(limit), uint(z.low), uint(z.base), uint64(z.dict)
	if pos < windowHead || pos < low0 || end < pos || uint(len(out)) < end+windowTail || size < 5 || in[0] != 0 {
		return false
	}
	rng, code, ip := uint64(0xFFFFFFFF), uint64(binary.BigEndian.Uint32(in[1:5])), uint(5)
	if code >= rng {
		return false
	}
	var (
		p, p0, p1, bound, mask, sym        uint64
		guess, half, guessed, at           uint64
		slot, bits, far, low               uint64
		posState, length, source, copyEnd  uint
		isMatch, special                   *uint16
		literal                            *[0x400]uint16
		lengths                            *lengths
		tree3                              *[8]uint16
		slots                              *[64]uint16
	)
	for pos < end {
		posState = (pos - base) & pbMask
		isMatch = &odds.isMatch[uint8(state<<4|posState)]$symbol

		// copy the match
		if rep0 >= pos-low0 || length > end-pos {
			return false
		}
		source = pos - rep0 - 1
		copyEnd = pos + length
		if rep0 < 7 { // it repeats itself within 8 bytes
			for range min(length, 8) {
				out[pos] = out[source]
				pos++
				source++
			}
			if pos == copyEnd {
				continue
			}
			source = pos - uint(repeats[rep0&7])
		} else if length >= 96 && rep0 >= length {
			copy(out[pos:copyEnd], out[source:source+length])
			pos = copyEnd
			continue
		}
		for pos < copyEnd {
			copy8(out, pos, source)
			pos += 8
			source += 8
		}
		pos = copyEnd
	}
	if rng < 1<<24 {
		code = code<<8 | uint64(byteAt(in, ip))
		ip++
	}
	if code != 0 || ip != uint(size) {
		return false
	}
	z.pos = int(pos)
	z.rep0, z.rep1, z.rep2, z.rep3, z.state = rep0, rep1, rep2, rep3, state
	return true
}
`, "$symbol", branch("*isMatch", literal, branch("odds.isRep[state&15]", match, again())))
}

// fill puts values into a piece of source, and normalize, which needs none.
func fill(piece string, values ...string) string {
	return strings.NewReplacer(append(values, "$normalize", normalize)...).Replace(piece)
}
