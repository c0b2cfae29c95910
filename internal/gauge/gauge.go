// Package gauge finds out what a card really holds.
//
// There are three tests. Spots samples the whole range and puts back what was there; Whole writes and reads every
// block, and what was on the card is lost; Space fills the free space of a mounted card with files. All of them write
// sector stamps (package mark), which say who they are: what is read at a place tells whether it was written there,
// somewhere else, or not at all. docs/gauge.md says why each step is as it is.
//
// A verdict is never more than was seen. What can't be told apart from a fault of the reader or the cable is called
// inconclusive.
package gauge

import (
	"fmt"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// BlockSize is the unit in which a card is written and read from end to end, bytes.
const BlockSize = 4 << 20

// Displaced is how much is written after what is to be read, bytes, so that the card's own memory has that and no
// longer what was written before. Memories of up to 32 MiB were seen on cards.
const Displaced = 32 << 20

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
	Holds       Verdict = "holds what it claims" // as far as the method can tell
	Counterfeit Verdict = "counterfeit"          // holds less than it claims
	Faulty      Verdict = "faulty"               // the size is right, and places are bad
	// two reads of a place differed, or an access failed and then went right
	Unsteady Verdict = "unsteady"
	// errors that may be the reader's or the cable's, or the test did not come to its end
	Inconclusive Verdict = "inconclusive"
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
	// In is how much of the stretch is in that state, bytes, where it was joined over what is good; 0: all of it
	In int64 `json:"in,omitempty"`
}

// StretchOf is a stretch all of which is in a state.
func StretchOf(offset, length int64, s State) Stretch {
	return Stretch{Extent: layout.Extent{Offset: offset, Length: length}, State: s}
}

// Bytes is how much of it is in its state.
func (s Stretch) Bytes() int64 {
	if s.In > 0 {
		return s.In
	}
	return s.Length
}

// part is a part of it, which has as much in its state as there is room for.
func (s Stretch) part(from, to int64) Stretch {
	p := StretchOf(from, to-from, s.State)
	if s.In > 0 && s.In < p.Length {
		p.In = s.In
	}
	return p
}

// LostAs is what is read where writes are lost. Receipts have it.
type LostAs string

// What is read there.
const (
	LostZeros     LostAs = "zeros"
	LostOneByte   LostAs = "one byte over and over"
	LostFF        LostAs = "bytes of 0xFF"
	LostElsewhere LostAs = "what was written elsewhere"
	LostEarlier   LostAs = "what an earlier test wrote"
	LostNoise     LostAs = "noise that differs each time"
	LostOther     LostAs = "something that was not written there"
)

// Loss is how a card holds less than it claims.
type Loss struct {
	Repeats bool  // addresses repeat after Real; otherwise writes are lost
	Real    int64 // bytes that hold data, from the start
	Most    int64 // where it is not exact: the most that Real can be, bytes; 0: not known
	Tail    int64 // bytes that hold data at the card's end; 0 for most
	Exact   bool  // Real is exact to the sector, seen from both sides; otherwise it is a lower bound
	// addresses don't tell what is kept: it gives out its room as it is asked for it, or keeps what was written last.
	// Real is how much that is, at least
	Anywhere bool
	ReadsAs  LostAs
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
	Method  Method
	Verdict Verdict
	Claimed int64     // bytes
	Tested  int64     // the first so many bytes of it
	Loss    *Loss     // nil where none was found
	Extents []Stretch // of all that is claimed, in order
	Bad     Counts    // sectors, below the real size
	Limit   int64     // beyond it all accesses failed, which is a reader's limit or a fault; 0: none
	Tried   int       // spots: places that were chosen to be written
	// spots: bytes that were written after them, so that a memory of the card of that size can't have answered
	Displaced int64
	Places    int // spots: those of them chosen by chance that are right

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
	// spots: places that did not read as before after they had been put back; bad ones, or beyond what is real
	Changed int64
	Early   int64 // whole: where the head was when the loss was found; 0 if it went to the end
	Resumed bool
	// whole, carried on: bytes that were written before an interruption and not there afterwards. They were written
	// again, and count as they were then: who lost them isn't known
	Unkept int64
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
