package gauge

import (
	"slices"

	"zipstamp/internal/gauge/mark"
)

// Bad is what is bad on a card, as extents in order, those of the same state that touch joined. Memory stays bounded:
// when there are too many extents, those of the same state that are close together are joined over what is good between
// them. Counts are exact, unless a part is cut out after that.
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
		old := b.List[i]
		if Rank(old.State) >= Rank(e.State) {
			if old.Offset > e.Offset {
				b.Add(StretchOf(e.Offset, old.Offset-e.Offset, e.State))
			}
			if rest := e.End() - old.End(); rest > 0 {
				b.Add(StretchOf(old.End(), rest, e.State))
			}
			return
		}
	}
	var before, after []Stretch // what is left of those that are replaced
	end := at
	for ; end < len(b.List) && b.List[end].Offset < e.End(); end++ {
		old := b.List[end]
		b.Bytes[old.State] -= min(old.End(), e.End()) - max(old.Offset, e.Offset)
		if old.Offset < e.Offset {
			before = []Stretch{StretchOf(old.Offset, e.Offset-old.Offset, old.State)}
		}
		if old.End() > e.End() {
			after = []Stretch{StretchOf(e.End(), old.End()-e.End(), old.State)}
		}
	}
	b.Bytes[e.State] += e.Length
	b.List = slices.Replace(b.List, at, end, slices.Concat(before, []Stretch{e}, after)...)
	b.join(at + len(before))
	for len(b.List) > MaxStretches {
		b.coarsen()
	}
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
		b.List[i].Length = b.List[i+1].End() - b.List[i].Offset
		b.List = slices.Delete(b.List, i+1, i+2)
	}
	if i > 0 && touch(b.List[i-1], b.List[i]) {
		b.List[i-1].Length = b.List[i].End() - b.List[i-1].Offset
		b.List = slices.Delete(b.List, i, i+1)
	}
}

// coarsen joins what is close together, twice as far as before.
func (b *Bad) coarsen() {
	b.gap = max(2*b.gap, BlockSize/64)
	var out []Stretch
	for _, e := range b.List {
		if n := len(out); n > 0 && e.Offset-out[n-1].End() <= b.gap {
			out[n-1].Length = e.End() - out[n-1].Offset
			if Rank(e.State) > Rank(out[n-1].State) {
				out[n-1].State = e.State
			}
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
			out.Add(StretchOf(e.Offset, min(e.End(), from)-e.Offset, e.State))
		}
		if e.End() > to {
			start := max(e.Offset, to)
			out.Add(StretchOf(start, e.End()-start, e.State))
		}
	}
	if out.Bytes[Worn] == 0 {
		out.Bits = 0 // they were in what is cut out
	}
	return out
}
