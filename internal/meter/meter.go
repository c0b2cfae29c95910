// Package meter carries progress from the core, which does the work, to whoever shows it.
//
// The core calls Begin, Add and Source; a view calls Read as often as it likes. All methods
// may be called from any goroutine, and all work on a nil *Meter, so that work without an
// audience needs no special case.
package meter

import (
	"slices"
	"sync"
	"time"
)

// Phase names a stretch of work that has a rate of its own.
type Phase string

// The phases of a check and a stamp, in their order.
const (
	Download  Phase = "download"
	Check     Phase = "check"
	List      Phase = "list"      // what is in an archive that must be unpacked for that
	Unpack    Phase = "unpack"    // of a check that needs the image's digest
	Signature Phase = "signature" // of a check of a download that is signed itself
	Compare   Phase = "compare"   // of what a card holds with what is to be written
	Write     Phase = "write"
	Discard   Phase = "discard"
	Flush     Phase = "flush"
	ReadBack  Phase = "read back"
	Files     Phase = "read files" // by the file system that was made
	Repair    Phase = "repair"
	Finish    Phase = "finish" // the first block, written and read back last
)

// The phases of a test of a card, besides those above.
const (
	Save    Phase = "save"     // what stands where it will be written
	Sample  Phase = "sample"   // sector stamps are written here and there
	Look    Phase = "look"     // places are read
	Search  Phase = "search"   // for stamps where none was written
	Bound   Phase = "narrow"   // the boundary of what is real is looked for
	Try     Phase = "try"      // places, before a stamp
	PutBack Phase = "put back" // what was saved
	Rewrite Phase = "rewrite"  // a part, so that the card's own memory can't answer
)

// The phases of measuring how fast a card is.
const (
	Sequential Phase = "sequential"
	Random     Phase = "random"
)

// PhaseTime is how long a phase took, and how many bytes it moved.
type PhaseTime struct {
	Phase Phase
	Bytes int64
	Took  time.Duration
	Card  time.Duration // of this, the time in which the card was at work; 0: not measured
}

// Meter is the progress of one job. The zero value is ready for use.
type Meter struct {
	mu      sync.Mutex
	foresee func(Reading) (Foreseen, bool)
	whole   *Meter // of which this is a part
	state   Reading
	past    []Reading
}

// Reading is what a Meter shows of a phase at one moment.
type Reading struct {
	Phase   Phase     // empty before the first Begin
	Serial  int       // counts the phases begun, from 1, since a phase may come twice
	Started time.Time // when the phase began
	Ended   time.Time // when it ended; zero while it goes on
	Done    int64     // bytes done in this phase, and before it
	Before  int64     // of these, bytes that were done before it began
	Total   int64     // bytes to do in this phase, as far as known beforehand; 0 where it isn't

	// SourceDone and SourceTotal are bytes of the packed file; they give the share that is
	// done where Total isn't known. SourceTotal is 0 where they mean nothing.
	SourceDone, SourceTotal int64

	Judges bool  // what is done was found to be good, but for
	Bad    int64 // bytes

	Foreseen Foreseen // where Foresees
	Foresees bool
}

// Begin starts a phase of total bytes (0: not known).
func (m *Meter) Begin(p Phase, total int64) {
	if m == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	now := time.Now()
	m.end(now)
	m.state = Reading{Phase: p, Serial: m.state.Serial + 1, Started: now, Total: total}
}

// Had says that n bytes of the phase were done before it began: they count as done, and not for its rate.
func (m *Meter) Had(n int64) {
	if m == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.state.Done, m.state.Before = m.state.Done+n, m.state.Before+n
}

// Part is the meter of one of several jobs that go on at once: what its first phase has read of its file counts in m
// too.
func (m *Meter) Part() *Meter { return &Meter{whole: m} }

// Add counts n more bytes done in the current phase.
func (m *Meter) Add(n int64) {
	if m == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.state.Done += n
	if m.state.Phase == Check && m.state.Serial == 1 {
		m.whole.Add(n)
	}
}

// Source tells how far the packed file has been read, in bytes.
func (m *Meter) Source(done, total int64) {
	if m == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.state.Phase == Unpack && m.state.Serial == 1 {
		m.whole.Add(done - m.state.SourceDone)
	}
	m.state.SourceDone, m.state.SourceTotal = done, total
}

// End ends the last phase.
func (m *Meter) End() {
	if m == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.end(time.Now())
	m.state = Reading{Serial: m.state.Serial}
}

func (m *Meter) end(now time.Time) {
	if m.state.Phase != "" {
		m.state.Ended = now
		m.past = append(m.past, m.state)
	}
}

// Past returns the phases that have ended, in their order, as they were at their end.
func (m *Meter) Past() []Reading {
	if m == nil {
		return nil
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	return slices.Clone(m.past)
}

// Read returns the progress at this moment.
func (m *Meter) Read() Reading {
	if m == nil {
		return Reading{}
	}
	m.mu.Lock()
	r, foresee := m.state, m.foresee
	m.mu.Unlock()
	if foresee != nil && r.Phase != "" {
		r.Foreseen, r.Foresees = foresee(r)
	}
	return r
}

// Share is the part of the phase that is done, from 0 to 1, and whether it is known at all.
func (r Reading) Share() (float64, bool) {
	switch {
	case r.Expects():
		return float64(r.Done) / float64(r.Total), true
	case r.SourceTotal > 0:
		return min(float64(r.SourceDone)/float64(r.SourceTotal), 1), true
	}
	return 0, false
}

// Left is how long the phase will go on, at the rate that it had until now, and whether that can be told: took is how
// long it has gone on.
func (r Reading) Left(took time.Duration) (time.Duration, bool) {
	share, known := r.Share()
	before := 0.0
	if r.Total > 0 {
		before = float64(r.Before) / float64(r.Total)
	}
	if !known || share < 0.02 || share <= before {
		return 0, false
	}
	return time.Duration(float64(took) * (1 - share) / (share - before)), true
}

// Good is how many bytes were found to be good, where the phase judges.
func (r Reading) Good() int64 { return max(r.Done-r.Bad, 0) }

// Expects tells whether Total is known, and hasn't turned out to be too small.
func (r Reading) Expects() bool { return r.Total > 0 && r.Done <= r.Total }

// Short tells whether the phase has done less than it was to do.
func (r Reading) Short() bool { return r.Done < r.Total }
