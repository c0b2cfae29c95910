package spots

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/probe"
)

// seesRepeat tells whether a comb sees that addresses repeat after a distance: whether a tooth lies whole under a
// window, a multiple of the distance away.
func seesRepeat(c comb, size, real, most int64, sector int) bool {
	teeth := c.teeth(size, sector)
	for _, w := range c.windows(size, most) {
		for at := w.Offset; at < w.End(); {
			low := at % real // where that is stored
			n := min(w.End()-at, real-low)
			i := (low + c.step - 1) / c.step // the first tooth from there on
			if i < int64(len(teeth)) && teeth[i].off+int64(sector) <= low+n && teeth[i].off < at {
				return true
			}
			at += n
		}
	}
	return false
}

// TestCombSeesEveryRealSize is the promise of the comb: whatever the real size is, a window shows it.
func TestCombSeesEveryRealSize(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		sector := rapid.SampledFrom([]int{512, 4096}).Draw(t, "sector")
		unit := int64(sector)
		size := rapid.OneOf(rapid.Int64Range(16<<20, 1<<30), rapid.Int64Range(1<<30, 64e9),
			rapid.Int64Range(64e9, 2e12)).Draw(t, "size") / unit * unit
		c := combOf(size, size, false, sector)
		real := rapid.OneOf(rapid.Int64Range(4*c.step, size-unit), rapid.Int64Range(size-3*c.step, size-unit),
			rapid.Int64Range(4*c.step, min(8*c.span, size-unit))).Draw(t, "real") / unit * unit
		require.True(t, seesRepeat(c, size, real, size, sector), "%+v", c)
		require.LessOrEqual(t, len(c.teeth(size, sector)), 1540)
		for _, w := range c.windows(size, size) {
			require.True(t, w.Offset >= 0 && w.End() <= size && w.Offset%512 == 0)
		}
	})
}

// TestQuickCombSeesSizesOfFlash is the promise of the quick one: real sizes that are multiples of a MiB, as long as
// they matter.
func TestQuickCombSeesSizesOfFlash(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		size := rapid.Int64Range(8e9, 2e12).Draw(t, "size") / 512 * 512
		need := rapid.Int64Range(1e9, min(64e9, size)).Draw(t, "need")
		c := combOf(size, need, true, 512)
		real := rapid.Int64Range(64, need>>20).Draw(t, "real") << 20
		require.True(t, seesRepeat(c, size, real, need+c.span, 512), "%+v", c)
		read := int64(0)
		for _, w := range c.windows(size, need+c.span) {
			read += w.Length
		}
		require.LessOrEqual(t, read, int64(12<<20), "within a second or so")
	})
}

func TestPlacesDoNotOverlap(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		size := rapid.Int64Range(1<<20, 2e12).Draw(t, "size") / 4096 * 4096
		seed := rapid.Uint64().Draw(t, "seed")
		parts := rapid.IntRange(1, 900).Draw(t, "parts")
		choose := func() []spot {
			random := rand.New(rand.NewPCG(seed, 1))
			return disjoint(append(append(scattered(size, parts, random), edges(size, 512)...),
				combOf(size, size, false, 512).teeth(size, 512)...))
		}
		spots := choose()
		require.Equal(t, spots, choose(), "the same seed, the same places")
		end := int64(0)
		for _, s := range spots {
			require.GreaterOrEqual(t, s.off, end)
			require.Zero(t, s.off%512)
			require.Positive(t, s.n)
			end = s.end()
		}
		require.LessOrEqual(t, end, size)
		require.Zero(t, spots[0].off, "the start")
		require.Equal(t, size, end, "and the end")
	})
}

// TestEveryPartHasAPlace is what the confidence rests on.
func TestEveryPartHasAPlace(t *testing.T) {
	for _, size := range []int64{64e6, 1e9 + 4096, 2e12} {
		spots := scattered(size, DefaultPlaces, rand.New(rand.NewPCG(1, 1)))
		require.Len(t, spots, DefaultPlaces)
		for i, s := range spots {
			assert.GreaterOrEqual(t, s.off, size/DefaultPlaces*int64(i)/4096*4096)
			assert.LessOrEqual(t, s.end(), mulDiv(size, int64(i+1), DefaultPlaces))
		}
	}
	assert.InDelta(t, 0.995, Confidence(DefaultPlaces, 0.98), 0.0002)
	assert.Zero(t, Confidence(0, 0.98))
}

// TestSpotsOnTwoTerabytesWriteLittle sums up what is written on a claimed 2 TB: all places twice, and what displaces
// them.
func TestSpotsOnTwoTerabytesWriteLittle(t *testing.T) {
	const size = 2_000_000_000_000 / 512 * 512
	spots := disjoint(append(append(scattered(size, DefaultPlaces, rand.New(rand.NewPCG(1, 1))), edges(size, 512)...),
		combOf(size, size, false, 512).teeth(size, 512)...))
	bytes := int64(gauge.Displaced)
	for _, s := range spots {
		bytes += 2 * s.n
	}
	assert.LessOrEqual(t, bytes, int64(50e6))
}

// TestUsedUpCardsAreKnownByTheOrder tells the places that were written last from any others.
func TestUsedUpCardsAreKnownByTheOrder(t *testing.T) {
	make := func(lost ...int) (all []*spot) {
		for i := range 50 {
			s := &spot{
				n: 4096, order: (i * 7) % 50, first: probe.Outcome{State: gauge.Good},
				second: probe.Outcome{State: gauge.Good},
			}
			for _, l := range lost {
				if s.order == l {
					s.first.State, s.second.State = gauge.Missing, gauge.Missing
				}
			}
			all = append(all, s)
		}
		return all
	}
	for _, c := range []struct {
		lost []int
		want bool
		why  string
	}{
		{[]int{47, 48, 49}, true, "the last"},
		{[]int{40, 41, 42, 43, 44, 45, 46, 47, 48, 49}, true, "the last"},
		{[]int{0, 1, 2, 3}, true, "the first"},
		{[]int{48, 49}, false, "that may be chance"},
		{[]int{46, 48, 49}, false, "not all of the last"},
		{[]int{3, 4, 5}, false, "in between"},
	} {
		keeps, got := anywhere(make(c.lost...))
		assert.Equal(t, c.want, got, "%v: %s", c.lost, c.why)
		if got {
			assert.EqualValues(t, (50-len(c.lost))*4096, keeps)
		}
	}
}
