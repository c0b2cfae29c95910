package meter_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"zipstamp/internal/meter"
)

// TestForecast goes through a phase of 100 s, with 50 s after it, at a steady speed and at others.
func TestForecast(t *testing.T) {
	start := time.Date(2026, 11, 28, 7, 0, 0, 0, time.UTC)
	for what, c := range map[string]struct {
		rate    func(second int) int64 // of the phase
		foresee time.Duration          // what the core says of the phase in its first moment; 0: nothing
		within  float64                // the error, from a tenth of the time on
		slower  int                    // when it is said, seconds; 0: never
	}{
		"steady, and nothing is foreseen": {rate: func(int) int64 { return 20e6 }, within: 0.02},
		"steady, as foreseen": {
			rate: func(int) int64 { return 20e6 }, foresee: 100 * time.Second, within: 0.02,
		},
		"steady, foreseen wrongly": {
			rate: func(int) int64 { return 20e6 }, foresee: 60 * time.Second, within: 0.15,
		},
		"slower from half of it on": {
			rate: func(s int) int64 {
				if s < 50 {
					return 32e6
				}
				return 8e6
			},
			within: 0.6, slower: 60,
		},
	} {
		var f meter.Forecaster
		r := meter.Reading{Phase: meter.Write, Serial: 1, Started: start, Total: 2e9, Foresees: true}
		told := 0
		for s := range 100 {
			for tenth := range 10 {
				now := start.Add(time.Duration(s)*time.Second + time.Duration(tenth)*100*time.Millisecond)
				r.Foreseen = meter.Foreseen{Next: 50 * time.Second}
				if c.foresee > 0 {
					r.Foreseen.Now = max(c.foresee-now.Sub(start), 1)
				}
				seen := f.See(r, now)
				if seen.Slower {
					told = s
					assert.Less(t, seen.Now, 16e6, what)
					assert.InDelta(t, 32e6, seen.Before, 2e6, what)
				}
				if s >= 15 { // a tenth of the time
					assert.True(t, seen.Known, what)
					all := now.Add(seen.Left).Sub(start)
					assert.InDelta(t, 1, all.Seconds()/150, c.within, "%s, after %d s", what, s)
				}
				r.Done += c.rate(s) / 10
			}
		}
		assert.InDelta(t, c.slower, told, 3, what)
	}
}

func TestMeterForesees(t *testing.T) {
	var m meter.Meter
	m.Foresee(func(r meter.Reading) (meter.Foreseen, bool) {
		return meter.Foreseen{Next: time.Duration(r.Done)}, r.Phase == meter.Write
	})
	assert.False(t, m.Read().Foresees, "before the first phase")
	m.Begin(meter.Check, 9)
	assert.False(t, m.Read().Foresees)
	m.Begin(meter.Write, 9)
	m.Add(5)
	m.Found(2)
	r := m.Read()
	assert.True(t, r.Foresees)
	assert.EqualValues(t, 5, r.Foreseen.Next)
	assert.Equal(t, []int64{3, 2}, []int64{r.Good(), r.Bad})
}
