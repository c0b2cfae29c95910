package stamp

import (
	"maps"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
)

// Loss is a card that holds less than it claims, as far as a stamp can tell. A capacity test tells more.
type Loss struct {
	Wraps bool // addresses repeat: writing further on overwrote what was written before
	// what the card seems to hold, bytes; right to the sector if the marker told, and to a block or so otherwise; 0:
	// nothing
	Holds int64
}

// minLoss is how many blocks must be wrong, in one run to the image's end or from its start, before they are
// taken for a card that holds less than it claims, and not for wear.
const minLoss = 3

// findLoss looks for the patterns of counterfeit cards in the bad blocks:
//   - the marker stands at a second address: addresses repeat at that distance;
//   - a block reads as another block of the image does, further on: addresses repeat, and the greatest common
//     divisor of the distances is the real size, or a multiple of it;
//   - nothing was kept at all, or nothing from some place on;
//   - up to some place everything was overwritten, and as much as the card holds is right at the end.
//
// Blocks of zeros tell nothing, since a card may read as zeros where it holds nothing.
func (r *run) findLoss(bad *badBlocks) *Loss {
	if bad.repeats > 0 {
		return &Loss{Wraps: true, Holds: bad.repeats}
	}
	bad = &badBlocks{blocks: maps.Clone(bad.blocks)}
	delete(bad.blocks, 0) // which is written late
	if len(bad.blocks) < minLoss {
		return nil
	}
	if distance := r.aliases(bad); distance > 0 {
		return &Loss{Wraps: true, Holds: distance * BlockSize}
	}
	told := r.telling()
	lastGood, firstGood := -1, len(r.src.sums)
	for _, i := range told {
		if _, wrong := bad.blocks[i]; !wrong {
			lastGood = i
			firstGood = min(firstGood, i)
		}
	}
	firstBad, lastBad := len(r.src.sums), 0
	for i := range bad.blocks {
		firstBad, lastBad = min(firstBad, i), max(lastBad, i)
	}
	switch {
	case len(told) == len(bad.blocks) && lastGood < 0:
		return &Loss{}
	case firstBad > lastGood && allWrong(told, bad, firstBad, len(r.src.sums)):
		return &Loss{Holds: int64(firstBad) * BlockSize}
	case lastBad < firstGood && allWrong(told, bad, 1, lastBad+1):
		return &Loss{Wraps: true, Holds: int64(len(r.src.sums)-lastBad-1) * BlockSize}
	}
	return nil
}

// allWrong tells whether all telling blocks from first to last (exclusive) are bad.
func allWrong(told []int, bad *badBlocks, first, last int) bool {
	for _, i := range told {
		if _, wrong := bad.blocks[i]; i >= first && i < last && !wrong {
			return false
		}
	}
	return true
}

// aliases is the distance, in blocks, at which addresses seem to repeat; 0 if none do.
func (r *run) aliases(bad *badBlocks) int64 {
	place := map[digest.Block]int{}
	for _, i := range r.telling() {
		if _, twice := place[r.src.sums[i]]; twice {
			place[r.src.sums[i]] = -1
		} else {
			place[r.src.sums[i]] = i
		}
	}
	distance := int64(0)
	for i, got := range bad.blocks {
		if other, known := place[got]; known && other > i {
			distance = card.Period(distance, int64(other-i))
		}
	}
	return distance
}

// telling lists the blocks that aren't all zeros, without the first, which is written last.
func (r *run) telling() []int {
	var out []int
	for i := 1; i < len(r.src.sums); i++ {
		if r.src.sums[i] != zeroBlock() {
			out = append(out, i)
		}
	}
	return out
}
