package meter

import (
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"
)

// TestCurveKeepsAllBytesAndTime holds for any card and any order of nearby blocks.
func TestCurveKeepsAllBytesAndTime(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		const block = 4 << 20
		blocks := rapid.IntRange(1, 3000).Draw(t, "blocks")
		var c Curve
		now := time.Unix(1_800_000_000, 0)
		start := now
		c.Start(now)
		var bytes int64
		for i := 0; i < blocks; i += 2 { // two in flight: the second may come first
			for _, j := range rapid.SampledFrom([][]int{{i, i + 1}, {i + 1, i}}).Draw(t, "order") {
				if j >= blocks {
					continue
				}
				now = now.Add(time.Duration(rapid.SampledFrom([]int{0, 1, 1000, 1_000_000, 3_000_000}).Draw(t, "ns")))
				n := int64(block)
				if j == blocks-1 {
					n = rapid.Int64Range(1, block).Draw(t, "last")
				}
				c.Mark(int64(j)*block, n, now)
				bytes += n
			}
		}
		points := c.Points()
		if len(points) > MaxPoints {
			t.Fatalf("%d points", len(points))
		}
		var gotBytes int64
		var took time.Duration
		last := int64(-1)
		for _, p := range points {
			if p.Offset <= last || p.Bytes <= 0 {
				t.Fatalf("point %+v after %d", p, last)
			}
			if all := now.Sub(start); float64(p.Took)/float64(p.Bytes) < 0.009*float64(all)/float64(bytes) {
				t.Fatalf("a stretch is more than 100 times as fast as all: %+v", p)
			}
			last = p.Offset
			gotBytes += p.Bytes
			took += p.Took
		}
		if gotBytes != bytes || took != now.Sub(start) {
			t.Fatalf("%d of %d bytes, %v of %v", gotBytes, bytes, took, now.Sub(start))
		}
	})
}

func TestFirstStretchWithoutAStartTakesNoTime(t *testing.T) {
	var c Curve
	now := time.Now()
	c.Mark(0, 100, now)
	c.Mark(100, 100, now.Add(time.Second))
	assert.Equal(t, []Point{{0, 100, 0}, {100, 100, time.Second}}, c.Points())
}

func TestMeterTellsPhases(t *testing.T) {
	var m Meter
	assert.Empty(t, m.Read().Phase)
	m.Begin(Check, 100)
	m.Add(30)
	m.Add(10)
	share, known := m.Read().Share()
	assert.True(t, known)
	assert.InDelta(t, 0.4, share, 1e-9)
	m.Begin(Write, 0)
	_, known = m.Read().Share()
	assert.False(t, known)
	m.Source(3, 4)
	m.Add(1000)
	share, known = m.Read().Share()
	assert.True(t, known)
	assert.InDelta(t, 0.75, share, 1e-9, "where the total isn't known, the packed file tells")
	m.End()
	m.End()
	past := m.Past()
	assert.Len(t, past, 2)
	assert.Equal(t, []any{Check, int64(40), Write, int64(1000)}, []any{
		past[0].Phase, past[0].Done, past[1].Phase, past[1].Done,
	})
	assert.False(t, past[1].Ended.Before(past[1].Started))
	assert.Empty(t, m.Read().Phase)

	m.Begin(Write, 50) // a hint that proves too small
	m.Add(60)
	assert.False(t, m.Read().Expects())

	var none *Meter
	none.Begin(Write, 1)
	none.Add(1)
	none.Source(1, 2)
	none.End()
	assert.Empty(t, none.Read().Phase)
	assert.Empty(t, none.Past())
}

// TestPartsCountInTheWhole has several jobs whose first phase counts in one meter, and only that.
func TestPartsCountInTheWhole(t *testing.T) {
	var whole Meter
	whole.Begin(Check, 300)
	var jobs sync.WaitGroup
	for range 3 {
		jobs.Go(func() {
			part := whole.Part()
			part.Begin(Unpack, 0)
			part.Source(40, 100)
			part.Source(100, 100)
			part.Begin(Check, 100)
			part.Add(50)
			part.End()
		})
	}
	jobs.Wait()
	assert.Equal(t, int64(300), whole.Read().Done)
	part := whole.Part()
	part.Begin(Check, 100)
	part.Add(7)
	assert.Equal(t, int64(307), whole.Read().Done)
	assert.True(t, part.Read().Short())
	part.Add(93)
	assert.False(t, part.Read().Short())
}

// TestJoinedCurvesKeepAllBytesAndTime carries a curve on again and again.
func TestJoinedCurvesKeepAllBytesAndTime(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var all []Point
		bytes, took := int64(0), time.Duration(0)
		for range rapid.IntRange(0, 6).Draw(t, "runs") {
			var more []Point
			for range rapid.IntRange(0, MaxPoints).Draw(t, "points") {
				p := Point{
					Offset: bytes, Bytes: rapid.Int64Range(1, 1<<30).Draw(t, "bytes"),
					Took: time.Duration(rapid.Int64Range(0, 1e9).Draw(t, "took")),
				}
				more = append(more, p)
				bytes += p.Bytes
				took += p.Took
			}
			all = Join(all, more)
			if len(all) > MaxPoints {
				t.Fatal("too many points")
			}
		}
		end := int64(0)
		for _, p := range all {
			if p.Offset != end {
				t.Fatalf("a gap before %d", p.Offset)
			}
			end = p.Offset + p.Bytes
			took -= p.Took
		}
		if end != bytes || took != 0 {
			t.Fatalf("%d of %d bytes, %v lost", end, bytes, took)
		}
	})
}
