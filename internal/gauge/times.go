package gauge

import (
	"math"
	"sync"
	"time"
)

// Times is how long accesses took, as a histogram with steps of a sixteenth of an octave, so that its size doesn't grow
// and a percentile is right within 5 %. The zero value is ready for use, from any goroutine.
type Times struct {
	mu    sync.Mutex
	steps [stepsPerOctave * octaves]int64
	count int64
	sum   time.Duration
	worst time.Duration
	place int64 // of the worst, bytes
}

const (
	stepsPerOctave = 16
	octaves        = 32 // from a microsecond to more than an hour
)

// Add counts an access at a place.
func (t *Times) Add(took time.Duration, place int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.steps[stepOf(took)]++
	t.count++
	t.sum += took
	if took > t.worst {
		t.worst, t.place = took, place
	}
}

func stepOf(took time.Duration) int {
	us := float64(took) / float64(time.Microsecond)
	if us < 1 {
		return 0
	}
	return min(int(math.Log2(us)*stepsPerOctave), stepsPerOctave*octaves-1)
}

// end of a step.
func endOf(step int) time.Duration {
	return time.Duration(math.Exp2(float64(step+1)/stepsPerOctave) * float64(time.Microsecond))
}

// Count of accesses.
func (t *Times) Count() int64 {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.count
}

// Sum of all times.
func (t *Times) Sum() time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.sum
}

// Worst is the longest time, and the place where that was.
func (t *Times) Worst() (took time.Duration, place int64) {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.worst, t.place
}

// Percentile is the time within which a share of all accesses, from 0 to 1, was done; 0 if there were none.
func (t *Times) Percentile(share float64) time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	left := int64(math.Ceil(share * float64(t.count)))
	for i, n := range t.steps {
		if left -= n; left <= 0 && t.count > 0 {
			return min(endOf(i), t.worst)
		}
	}
	return 0
}

// Bar is a step of a histogram: how many accesses took less than Below, and not less than the bar before.
type Bar struct {
	Below time.Duration
	Count int64
}

// Histogram has four bars an octave, from the first that isn't empty to the last.
func (t *Times) Histogram() (bars []Bar) {
	t.mu.Lock()
	defer t.mu.Unlock()
	const join = stepsPerOctave / 4
	full := 0
	for i := 0; i < len(t.steps); i += join {
		b := Bar{Below: endOf(i + join - 1)}
		for _, n := range t.steps[i : i+join] {
			b.Count += n
		}
		if b.Count == 0 && len(bars) == 0 {
			continue
		}
		bars = append(bars, b)
		if b.Count > 0 {
			full = len(bars)
		}
	}
	return bars[:full]
}
