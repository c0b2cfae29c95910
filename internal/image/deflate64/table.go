package deflate64

// primary is how many bits are looked up at once; longer codes go on in a table of their own.
const primary = 10

const maxCode = 15

// table finds the symbols of codes, which are read from their first bit. An entry is the symbol, shifted by 8, and the
// length of its code; 0 is no code. One with the flag further leads to the entries for longer codes: their place,
// shifted by 8, and how many bits more they are found by.
type table struct {
	first [1 << primary]uint32
	rest  []uint32
}

const further = 0x80

// find gives the entry of the code that the bits begin with.
func (t *table) find(bits uint64) uint32 {
	e := t.first[bits&(1<<primary-1)]
	if e&further != 0 {
		e = t.rest[uint64(e>>8)+bits>>primary&(1<<(e&15)-1)]
	}
	return e
}

// build makes the codes of symbols by their lengths (RFC 1951, section 3.2.2). With lax, one code alone need not use
// all of its bits, and there may be none at all.
func (t *table) build(lengths []uint8, lax bool) error {
	var count [maxCode + 1]int
	longestCode := 0
	for _, n := range lengths {
		count[n]++
		longestCode = max(longestCode, int(n))
	}
	used := len(lengths) - count[0]
	count[0] = 0
	clear(t.first[:])
	t.rest = t.rest[:0]
	var next [maxCode + 2]int
	code, left := 0, 1
	for n := 1; n <= maxCode; n++ {
		left = left<<1 - count[n]
		if left < 0 {
			return ErrDamaged // more codes than there are
		}
		code = (code + count[n-1]) << 1
		next[n] = code
	}
	if left > 0 && !(lax && used <= 1) {
		return ErrDamaged
	}
	for sym, n := range lengths {
		if n == 0 {
			continue
		}
		c := reverse(next[n], int(n))
		next[n]++
		t.put(c, int(n), longestCode, uint32(sym)<<8|uint32(n))
	}
	return nil
}

// put fills in a code, whose first bit is the lowest of c.
func (t *table) put(c, n, longestCode int, entry uint32) {
	if n <= primary {
		for i := c; i < 1<<primary; i += 1 << n {
			t.first[i] = entry
		}
		return
	}
	more := longestCode - primary
	link := &t.first[c&(1<<primary-1)]
	if *link == 0 {
		*link = uint32(len(t.rest))<<8 | further | uint32(more)
		t.rest = append(t.rest, make([]uint32, 1<<more)...)
	}
	rest := t.rest[*link>>8:]
	for i := c >> primary; i < 1<<more; i += 1 << (n - primary) {
		rest[i] = entry
	}
}

func reverse(code, n int) (out int) {
	for range n {
		out = out<<1 | code&1
		code >>= 1
	}
	return out
}

// The codes of blocks that bring none (RFC 1951, section 3.2.6).
var fixedLiterals, fixedPlaces = func() (literals, places table) {
	var lengths [288]uint8
	for i := range lengths {
		switch {
		case i < 144:
			lengths[i] = 8
		case i < 256:
			lengths[i] = 9
		case i < 280:
			lengths[i] = 7
		default:
			lengths[i] = 8
		}
	}
	var fives [32]uint8
	for i := range fives {
		fives[i] = 5
	}
	if literals.build(lengths[:], false) != nil || places.build(fives[:], false) != nil {
		panic("the codes of RFC 1951, section 3.2.6, are complete")
	}
	return literals, places
}()
