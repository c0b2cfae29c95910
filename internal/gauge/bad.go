package gauge

import (
	"slices"

	"zipstamp/internal/gauge/mark"
)

// Bad is what is bad on a card, as extents in order, those of the same state that touch joined. Memory stays bounded:
// when there are too many extents, those of the same state that are close together are joined over what is good between
// them, and keep how much of them is bad. Counts are exact, unless a part is cut out after that, or a place is added
// twice to what was joined.
type Bad struct {
	List  []Stretch
	Bytes map[State]int64 // bytes
	Bits  int64
	gap   int64 // bytes over which extents are joined
}

// MaxStretches is how many extents are kept.
const MaxStretches = 4096

// Add puts an extent in. It replaces what is known of its stretch only if it is worse.
func (b *Bad) Add(e Stretch) {
	if b.Bytes == nil {
		b.Bytes = map[State]int64{}
	}
	at := b.from(e.Offset)
	for i := at; i < len(b.List) && b.List[i].Offset < e.End(); i++ { // what is known already
		old := &b.List[i]
		if Rank(old.State) >= Rank(e.State) {
			before, after := e.part(e.Offset, old.Offset), e.part(old.End(), e.End())
			b.countIn(old, e)
			if before.Length > 0 {
				b.Add(before)
			}
			if after.Length > 0 {
				b.Add(after)
			}
			return
		}
	}
	var before, after []Stretch // what is left of those that are replaced
	end := at
	for ; end < len(b.List) && b.List[end].Offset < e.End(); end++ {
		old := b.List[end]
		left := int64(0)
		if old.Offset < e.Offset {
			before = []Stretch{old.part(old.Offset, e.Offset)}
			left += before[0].Bytes()
		}
		if old.End() > e.End() {
			rest := old.part(e.End(), old.End())
			if old.In > 0 { // what was counted before it isn't counted again
				if rest.In = min(rest.Length, old.In-left); rest.In <= 0 {
					continue
				}
			}
			after = []Stretch{rest}
			left += rest.Bytes()
		}
		b.Bytes[old.State] -= old.Bytes() - left
	}
	b.Bytes[e.State] += e.Bytes()
	b.List = slices.Replace(b.List, at, end, slices.Concat(before, []Stretch{e}, after)...)
	b.join(at + len(before))
	for len(b.List) > MaxStretches {
		b.coarsen()
	}
}

// countIn counts what is added to a stretch that is as bad or worse. Where that was joined over what is good, it is
// more of it, if it is of the same state, and otherwise counted without a place of its own.
func (b *Bad) countIn(old *Stretch, e Stretch) {
	if old.In == 0 {
		return
	}
	within := e.part(max(e.Offset, old.Offset), min(e.End(), old.End())).Bytes()
	if e.State == old.State {
		within = min(within, old.Length-old.In)
		old.In += within
	}
	b.Bytes[e.State] += within
}

// At is the state of the sector At a place.
func (b *Bad) At(off int64) State {
	if i := b.from(off); i < len(b.List) && b.List[i].Offset <= off {
		return b.List[i].State
	}
	return Good
}

// from is the index of the first extent that ends behind a place.
func (b *Bad) from(off int64) int {
	i, _ := slices.BinarySearchFunc(b.List, off, func(x Stretch, off int64) int {
		if x.End() <= off {
			return -1
		}
		return 1
	})
	return i
}

// join joins the extent with its neighbours.
func (b *Bad) join(i int) {
	touch := func(x, y Stretch) bool { return x.State == y.State && y.Offset-x.End() <= b.gap }
	if i+1 < len(b.List) && touch(b.List[i], b.List[i+1]) {
		b.List[i] = joined(b.List[i], b.List[i+1])
		b.List = slices.Delete(b.List, i+1, i+2)
	}
	if i > 0 && touch(b.List[i-1], b.List[i]) {
		b.List[i-1] = joined(b.List[i-1], b.List[i])
		b.List = slices.Delete(b.List, i, i+1)
	}
}

// joined is two stretches, and what is between, in one: it has the worse state, and as much of it as both.
func joined(a, b Stretch) Stretch {
	bytes := a.Bytes() + b.Bytes()
	if Rank(b.State) > Rank(a.State) {
		a.State = b.State
	}
	a.Length, a.In = b.End()-a.Offset, bytes
	if bytes == a.Length {
		a.In = 0
	}
	return a
}

// How far apart what is joined may be, bytes, before states that are only alike are joined too, and then any.
const (
	leastGap  = BlockSize / 64
	alikeGap  = 64 << 20
	anyGap    = 1 << 40
	losesFrom = Missing // states from this one on are those of room that isn't there, and those below of bad places
)

// coarsen joins what is close together, twice as far as before.
func (b *Bad) coarsen() {
	b.gap = max(2*b.gap, leastGap)
	alike := func(x, y State) bool {
		switch {
		case b.gap > anyGap:
			return true
		case b.gap > alikeGap:
			return Rank(x) >= Rank(losesFrom) == (Rank(y) >= Rank(losesFrom))
		}
		return x == y
	}
	var out []Stretch
	for _, e := range b.List {
		if n := len(out); n > 0 && e.Offset-out[n-1].End() <= b.gap && alike(out[n-1].State, e.State) {
			out[n-1] = joined(out[n-1], e)
			continue
		}
		out = append(out, e)
	}
	b.List = out
}

// Rank orders states, the worse the higher.
func Rank(s State) int {
	return slices.Index([]State{Good, Unwritten, Shaky, Worn, Failing, Unwritable, Missing, Repeating}, s)
}

// Sectors are the counts of bad sectors, by kinds.
func (b *Bad) Sectors() Counts {
	n := func(s State) int64 { return b.Bytes[s] / mark.Size }
	return Counts{
		Unsteady: n(Shaky), Worn: n(Worn), Bits: b.Bits, Unreadable: n(Failing), Unwritable: n(Unwritable),
		Lost: n(Missing) + n(Repeating),
	}
}

// Cover lists all of [0, size): what is bad, and what is good between.
func (b *Bad) Cover(size int64) (all []Stretch) {
	at := int64(0)
	for _, e := range b.List {
		if e.Offset > at {
			all = append(all, StretchOf(at, e.Offset-at, Good))
		}
		all = append(all, e)
		at = e.End()
	}
	if at < size {
		all = append(all, StretchOf(at, size-at, Good))
	}
	return all
}

// Outside is what is bad below from, and from to on.
func (b *Bad) Outside(from, to int64) (out Bad) {
	out = Bad{gap: b.gap, Bits: b.Bits}
	for _, e := range b.List {
		if e.Offset < from {
			out.Add(e.part(e.Offset, min(e.End(), from)))
		}
		if e.End() > to {
			out.Add(e.part(max(e.Offset, to), e.End()))
		}
	}
	if out.Bytes[Worn] == 0 {
		out.Bits = 0 // they were in what is cut out
	}
	return out
}
