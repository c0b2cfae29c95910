// Package gauge finds out what a card really holds.
//
// There are three tests. Spots samples the whole range and puts back what was there; Whole writes and reads every block, and what was on the card is lost;
// Space fills the free space of a mounted card with files. All of them write sector stamps (package mark), which say who they are: what is read at a
// place tells whether it was written there, somewhere else, or not at all. docs/gauge.md says why each step is as it is.
//
// A verdict is never more than was seen. What can't be told apart from a fault of the reader or the cable is called inconclusive.
package gauge

import (
	"fmt"
	"slices"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// BlockSize is the unit in which a card is written and read from end to end, bytes.
const BlockSize = 4 << 20

// inFlight is how many blocks are written, or read, at once.
const inFlight = 3

// Method is how a card was tested.
type Method string

// The methods.
const (
	BySpots Method = "spots"
	ByWhole Method = "whole"
	BySpace Method = "space"
)

// Verdict sums up a test.
type Verdict string

// The verdicts.
const (
	Holds        Verdict = "holds what it claims" // as far as the method can tell
	Counterfeit  Verdict = "counterfeit"          // holds less than it claims
	Faulty       Verdict = "faulty"               // the size is right, and places are bad
	Unsteady     Verdict = "unsteady"             // two reads of a place differed, or an access failed and then went right
	Inconclusive Verdict = "inconclusive"         // errors that may be the reader's or the cable's, or the test did not come to its end
)

// State is what is known of a stretch of the card.
type State string

// The states, the worst last.
const (
	Good       State = "holds"
	Unwritten  State = "not tested"
	Shaky      State = "unsteady"      // right at one reading, and not at another
	Worn       State = "worn"          // some bits differ
	Failing    State = "can't be read" // I/O errors
	Unwritable State = "can't be written"
	Missing    State = "lost"    // what was written isn't there
	Repeating  State = "repeats" // what is written here overwrites what is below the real size
)

// Stretch is a stretch of the card in one state.
type Stretch struct {
	layout.Extent
	State State `json:"state"`
}

func StretchOf(offset, length int64, s State) Stretch {
	return Stretch{layout.Extent{Offset: offset, Length: length}, s}
}

// Loss is how a card holds less than it claims.
type Loss struct {
	Repeats  bool  // addresses repeat after Real; otherwise writes are lost
	Real     int64 // bytes that hold data, from the start
	Most     int64 // where it is not exact: the most that Real can be, bytes; 0: not known
	Tail     int64 // bytes that hold data at the card's end; 0 for most
	Exact    bool  // Real is exact to the sector, seen from both sides; otherwise it is a lower bound
	Anywhere bool  // addresses don't tell what is kept: it gives out its room as it is asked for it, or keeps what was written last. Real is how much that is, at least
	ReadsAs  string
	Cached   int64 // bytes that it answered from its own memory at first, at least; 0: none seen
}

// TooSmallError says that a card was found to hold less than is needed of it.
type TooSmallError struct {
	Loss
	Claimed, Need int64 // bytes
}

func (e *TooSmallError) Error() string {
	return fmt.Sprintf("of the %d bytes that the card claims it holds %d, and %d are needed", e.Claimed, e.Real, e.Need)
}

// Holds is how many bytes hold data.
func (l Loss) Holds() int64 { return l.Real + l.Tail }

// Report is the result of a test. It is filled as far as the test came.
type Report struct {
	Method    Method
	Verdict   Verdict
	Claimed   int64     // bytes
	Tested    int64     // the first so many bytes of it
	Loss      *Loss     // nil where none was found
	Extents   []Stretch // of all that is claimed, in order
	Bad       Counts    // sectors, below the real size
	Limit     int64     // beyond it all accesses failed, which is a reader's limit or a fault; 0: none
	Tried     int       // spots: places that were chosen to be written
	Displaced int64     // spots: bytes that were written after them, so that a memory of the card of that size can't have answered
	Places    int       // spots: those of them chosen by chance that are right

	Access  card.Access // how reads got past this computer's memory
	Nonce   mark.Nonce
	Seed    uint64
	Written int64 // bytes
	Read    int64
	Writes  Times // of single accesses
	Reads   Times
	Writing []meter.Point // speed over position
	Reading []meter.Point
	Phases  []meter.PhaseTime
	Mishaps []card.Mishap
	Changed int64 // spots: places that did not read as before after they had been put back; bad ones, or beyond what is real
	Early   int64 // whole: where the head was when the loss was found; 0 if it went to the end
	Resumed bool
}

// Counts counts sectors of 512 bytes by what is wrong with them.
type Counts struct {
	Unsteady   int64 `json:"unsteady"`
	Worn       int64 `json:"worn"`
	Bits       int64 `json:"bits"` // that differ, in worn sectors
	Unreadable int64 `json:"unreadable"`
	Unwritable int64 `json:"unwritable"`
	Lost       int64 `json:"lost"` // single places, not the loss of a part of the card
}

// Faults is how many sectors are bad at every reading.
func (c Counts) Faults() int64 { return c.Worn + c.Unreadable + c.Unwritable + c.Lost }

// Judge gives the verdict. ended says that the test came to its end.
func (r *Report) Judge(ended bool) {
	faults := r.Bad.Faults()
	if !ended {
		faults -= r.Bad.Lost // whether they are bad places, or a part of the card is lost, was not found out
	}
	switch {
	case r.Loss != nil:
		r.Verdict = Counterfeit
	case faults > 0:
		r.Verdict = Faulty
	case !ended || r.Limit > 0:
		r.Verdict = Inconclusive
	case r.Bad.Unsteady > 0:
		r.Verdict = Unsteady
	default:
		r.Verdict = Holds
	}
}

// TookPhase adds to the time of a phase.
func (r *Report) TookPhase(p meter.Phase, bytes int64, start time.Time) {
	took := time.Since(start)
	for i := range r.Phases {
		if r.Phases[i].Phase == p {
			r.Phases[i].Bytes += bytes
			r.Phases[i].Took += took
			return
		}
	}
	r.Phases = append(r.Phases, meter.PhaseTime{Phase: p, Bytes: bytes, Took: took})
}

// Forgive takes over what the device has tried again. A place that failed once, and then did not, is unsteady.
func (r *Report) Forgive(d card.Device, bad *Bad) {
	r.Mishaps = card.MishapsOf(d)
	for _, m := range r.Mishaps {
		if m.Op == "read" || m.Op == "write" {
			bad.Add(StretchOf(m.Offset, mark.Size, Shaky))
		}
	}
}

// Bad is what is bad on a card, as extents in order, those of the same state that touch joined. Memory stays bounded: when there are too many
// extents, those of the same state that are close together are joined over what is good between them. Counts are exact, unless a part is cut out after that.
type Bad struct {
	List   []Stretch
	Bytes map[State]int64 // bytes
	Bits   int64
	gap    int64 // bytes over which extents are joined
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

// countsOf are the counts in Sectors.
func (b *Bad) Sectors() Counts {
	n := func(s State) int64 { return b.Bytes[s] / mark.Size }
	return Counts{Unsteady: n(Shaky), Worn: n(Worn), Bits: b.Bits, Unreadable: n(Failing), Unwritable: n(Unwritable), Lost: n(Missing) + n(Repeating)}
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
