package meter

import "time"

// Foreseen is how long work will take that has not begun.
type Foreseen struct {
	Now     time.Duration // what is left of the phase at hand; 0: its own rate tells
	Next    time.Duration // all phases after it
	Guessed bool          // it is how fast most cards are: nothing is known of this one
	Alike   bool          // it takes the rest of the card to hold as much of the image as what was compared
}

// Foresee says who can tell how long a job will take. tell is called from any goroutine with the phase at hand; ok is
// false where it can't tell.
func (m *Meter) Foresee(tell func(r Reading) (f Foreseen, ok bool)) {
	if m == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.foresee = tell
}

// TimeFor is how long bytes take at a rate in bytes a second.
func TimeFor(bytes int64, rate float64) time.Duration {
	return time.Duration(float64(bytes) / rate * float64(time.Second))
}

// Found says that a test has found so many bytes to be bad, of those that the phase has read; the others are good.
func (m *Meter) Found(bad int64) {
	if m == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.state.Judges, m.state.Bad = true, bad
}

// Forecast is how long a job goes on.
type Forecast struct {
	Left    time.Duration
	Known   bool
	Guessed bool // see Foreseen
	Alike   bool // likewise
	// bytes a second, now and before, when a phase has become so much slower that it is worth a word; once a phase
	Slower bool
	Now    float64
	Before float64
}

// How a Forecaster looks at a phase.
const (
	lookBack  = 15 * time.Second // a rate is that of so long a time
	sampled   = time.Second / 2  // at least from one sample to the next
	settled   = 3 * time.Second  // before that, all of the phase counts
	slowed    = 0.5              // of the rate before: a card that is slower is worth a word
	slowAfter = 2 * lookBack
)

// Forecaster tells how long a job goes on, by the rate that it has had of late. The zero value is ready for one job.
type Forecaster struct {
	serial  int
	samples []sample // of the phase at hand, the oldest first
	said    bool
}

type sample struct {
	at    time.Time
	share float64
	done  int64
}

// See looks at a job.
func (f *Forecaster) See(r Reading, now time.Time) Forecast {
	share, known := r.Share()
	if r.Serial != f.serial {
		*f = Forecaster{serial: r.Serial}
	}
	if n := len(f.samples); n == 0 || now.Sub(f.samples[n-1].at) >= sampled {
		f.samples = append(f.samples, sample{now, share, r.Done})
	}
	for len(f.samples) > 2 && now.Sub(f.samples[1].at) >= lookBack {
		f.samples = f.samples[1:]
	}
	out := f.slower(r, now)
	left, ok := f.phase(r, share, known, now)
	if seen := r.Foreseen.Now; r.Foresees && seen > 0 { // it counts less and less
		weight := 0.0
		if ok {
			weight = min(now.Sub(r.Started).Seconds()/lookBack.Seconds(), 1)
		}
		left = time.Duration((1-weight)*float64(seen) + weight*float64(left))
	}
	left += r.Foreseen.Next
	out.Left, out.Known = left, r.Foresees && left > 0
	out.Guessed, out.Alike = r.Foreseen.Guessed, r.Foreseen.Alike
	return out
}

// phase is how long the phase at hand goes on.
func (f *Forecaster) phase(r Reading, share float64, known bool, now time.Time) (time.Duration, bool) {
	if r.Phase == Flush {
		return 0, true
	}
	first := f.samples[0]
	if took := now.Sub(first.at); known && took >= settled && share > first.share && share >= 0.02 {
		return time.Duration(float64(took) * (1 - share) / (share - first.share)), true
	}
	return r.Left(now.Sub(r.Started))
}

// slower tells whether the phase has become much slower than it was before.
func (f *Forecaster) slower(r Reading, now time.Time) (out Forecast) {
	first := f.samples[0]
	took, before := now.Sub(first.at), first.at.Sub(r.Started)
	if f.said || now.Sub(r.Started) < slowAfter || took < lookBack || before < lookBack || r.Phase == Flush {
		return out
	}
	out.Now = float64(r.Done-first.done) / took.Seconds()
	out.Before = float64(first.done-r.Before) / before.Seconds()
	out.Slower = out.Now < slowed*out.Before
	f.said = out.Slower
	return out
}
