package xz

// The model of LZMA: adaptive probabilities of 11 bits, and what they are chosen by. LZMA has no specification of its
// own beyond that of its authors ("LZMA specification", Igor Pavlov); names are theirs.

const (
	probInit    = 1 << 10 // even odds
	states      = 12
	posStates   = 16 // at most: pb is 4 at most
	litCoders   = 16 // at most: lc + lp is 4 at most in LZMA2
	matchMin    = 2
	propsMax    = 9 * 5 * 5
	lcLpMax     = 4
	slotsSimple = 4  // distances that are their slot
	slotsModel  = 14 // from here on, the middle bits have even odds
)

// lengths decodes lengths. low and mid have 3 bits, high has 8; the trees' roots are at 1.
type lengths struct {
	choice, choice2 uint16
	low, mid        [posStates][8]uint16
	high            [256]uint16
}

// odds are all probabilities. Arrays are as long as a mask of an index needs, so that the compiler sees the bounds.
type odds struct {
	isMatch, isRep0Long              [256]uint16 // [state<<4 | posState]
	isRep, isRepG0, isRepG1, isRepG2 [16]uint16  // [state]
	slot                             [4][64]uint16
	special                          [128]uint16
	align                            [16]uint16
	match, rep                       lengths
	literal                          [litCoders][0x400]uint16 // 0x300 used
}

// model is the state of LZMA between chunks.
type model struct {
	odds                   odds
	rep0, rep1, rep2, rep3 uint // the last distances, less one
	state                  uint
	lc                     uint
	lpMask, pbMask         uint
}

// reset is the state reset of LZMA2.
func (m *model) reset() {
	o := &m.odds
	even(o.isMatch[:], o.isRep0Long[:], o.isRep[:], o.isRepG0[:], o.isRepG1[:], o.isRepG2[:], o.special[:], o.align[:])
	for i := range o.slot {
		even(o.slot[i][:])
	}
	o.match.reset()
	o.rep.reset()
	for i := range o.literal {
		even(o.literal[i][:])
	}
	m.rep0, m.rep1, m.rep2, m.rep3, m.state = 0, 0, 0, 0, 0
}

func (l *lengths) reset() {
	l.choice, l.choice2 = probInit, probInit
	for i := range l.low {
		even(l.low[i][:], l.mid[i][:])
	}
	even(l.high[:])
}

func even(all ...[]uint16) {
	for _, p := range all {
		for i := range p {
			p[i] = probInit
		}
	}
}

// setProps takes the properties byte: (pb*5 + lp)*9 + lc.
func (m *model) setProps(b byte) bool {
	if b >= propsMax {
		return false
	}
	lc, lp, pb := uint(b%9), uint(b/9%5), uint(b/45)
	if lc+lp > lcLpMax {
		return false
	}
	m.lc, m.lpMask, m.pbMask = lc, 1<<lp-1, 1<<pb-1
	return true
}
