package spots

import (
	"cmp"
	"math"
	"math/rand/v2"
	"slices"

	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/probe"
	"zipstamp/internal/layout"
)

// spot is a place that is tested: at most sampleSize bytes.
type spot struct {
	off, n  int64
	must    bool // it decides, where it overlaps one by chance
	random  bool // one of those that the confidence is computed from
	skipped bool // it can't be read, so what is there could not be put back
	failed  bool // it can't be written
	order   int  // in which the places were written
	first   probe.Outcome
	second  probe.Outcome
}

func (s *spot) end() int64 { return s.off + s.n }

// state of the spot after two readings.
func (s *spot) state() gauge.State {
	a, b := s.first.State, s.second.State
	switch {
	case s.skipped:
		return gauge.Failing
	case s.failed:
		return gauge.Unwritable
	case a != b && (a == gauge.Good || b == gauge.Good):
		return gauge.Shaky
	case gauge.Rank(b) > gauge.Rank(a):
		return b
	}
	return a
}

// comb is how repeating addresses are found whatever their distance is. Stamps stand at the multiples of step up to
// span, like the teeth of a comb; and windows of window bytes are read at all multiples of span. Addresses that repeat
// after any distance bring the comb under one of the windows, in which exactly one tooth is seen, if a window is as
// wide as a step. (This is Shanks's baby-step giant-step search, 1971.)
type comb struct {
	step, span, window int64 // bytes
}

// combOf is a comb for so many bytes that costs the least time: each tooth is written and read four times or so at some
// 2 ms, and each MiB of windows read takes some 20 ms. With most, a quick search only looks for distances that are
// multiples of the step, as sizes of flash are, up to most bytes.
func combOf(size, most int64, quick bool, sector int) comb {
	const widest, fewest, mostTeeth = 1 << 20, 16, 1536
	c := comb{step: min(widest, size/64/probe.SampleSize*probe.SampleSize)}
	if c.step == 0 {
		return comb{}
	}
	steps := float64(min(size, most)) / float64(c.step)
	teeth := int64(math.Sqrt(2.5 * steps))
	c.window = c.step
	if quick {
		teeth = int64(math.Sqrt(steps))
	}
	c.span = c.step * min(max(teeth, fewest), mostTeeth)
	if quick {
		const read = 8 << 20 // bytes of all windows together
		count := min(size, most+c.span)/c.span + 1
		c.window = min(c.step, max(read/count/int64(sector)*int64(sector), int64(sector)))
	}
	return c
}

// teeth are the places of the comb.
func (c comb) teeth(size int64, sector int) (spots []spot) {
	for off := int64(0); c.step > 0 && off <= c.span && off+int64(sector) <= size; off += c.step {
		spots = append(spots, spot{off: off, n: int64(sector)})
	}
	return spots
}

// windows are where it is looked for stamps, up to a place; the last window is at the very end of the card.
func (c comb) windows(size, most int64) (all []layout.Extent) {
	if c.step == 0 {
		return nil
	}
	for off := c.span; off < min(size-c.window, most); off += c.span {
		all = append(all, layout.Extent{Offset: off, Length: c.window})
	}
	return append(all, layout.Extent{Offset: size - c.step, Length: c.step})
}

// needed are the first and last places of the card, and those around the end of what is needed of it.
func needed(size, most int64, sector int) (spots []spot) {
	end := min(most/int64(sector)*int64(sector), size)
	for _, off := range []int64{0, end - probe.SampleSize, end, size - probe.SampleSize} {
		if off >= 0 && off+probe.SampleSize <= size {
			spots = append(spots, spot{off: off, n: probe.SampleSize, must: off == 0 || off+probe.SampleSize == size})
		}
	}
	return spots
}

// edges are the first and last places of the card, and both sides of where cards often end.
func edges(size int64, sector int) (spots []spot) {
	for _, p := range append([]int64{0, size}, gauge.Edges(size)...) {
		p -= p % int64(sector)
		for _, off := range []int64{p - probe.SampleSize, p} {
			if off >= 0 && off+probe.SampleSize <= size {
				spots = append(spots, spot{
					off: off, n: probe.SampleSize, must: off == 0 || off+probe.SampleSize == size,
				})
			}
		}
	}
	return spots
}

// scattered are places by chance: one in each of so many equal parts.
func scattered(size int64, parts int, random *rand.Rand) (spots []spot) {
	for i := range int64(parts) {
		from := mulDiv(size, i, int64(parts)) / probe.SampleSize * probe.SampleSize
		to := mulDiv(size, i+1, int64(parts)) / probe.SampleSize * probe.SampleSize
		if to-from < probe.SampleSize {
			continue
		}
		off := from + random.Int64N((to-from)/probe.SampleSize)*probe.SampleSize
		spots = append(spots, spot{off: off, n: probe.SampleSize, random: true})
	}
	return spots
}

// mulDiv is a*b/c; the sizes of cards times a few hundred fit.
func mulDiv(a, b, c int64) int64 { return a/c*b + a%c*b/c }

// disjoint sorts the spots by place and leaves out those that overlap others. Larger ones win, so that a tooth within
// another spot is part of it, and so do those at the card's ends, which alone see that it is a few sectors too small.
func disjoint(spots []spot) (out []spot) {
	slices.SortStableFunc(spots, func(a, b spot) int { return cmp.Compare(a.off, b.off) })
	for _, s := range spots {
		if n := len(out); n > 0 && s.off < out[n-1].end() {
			if (s.n > out[n-1].n || s.must && !out[n-1].must) && (n == 1 || s.off >= out[n-2].end()) {
				out[n-1] = s
			}
			continue
		}
		out = append(out, s)
	}
	return out
}
