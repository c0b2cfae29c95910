package recheck

import (
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/layout"
)

// TestAreasSumUpToWhatDiffers gives every byte that differs to one place, and to the first that it is in.
func TestAreasSumUpToWhatDiffers(t *testing.T) {
	for seed := range uint64(200) {
		random := rand.New(rand.NewPCG(3, seed))
		const size = 300
		var places []place
		for i := range 6 {
			from := random.Int64N(size)
			places = append(places, place{
				Extent: layout.Extent{Offset: from, Length: 1 + random.Int64N(size-from)},
				Place:  Place{Partition: i + 1}, started: random.IntN(2) == 0,
			})
		}
		places = append(places, place{Extent: layout.Extent{Length: size}, Place: Place{What: Outside}})
		var differs []layout.Extent
		want := map[Place]int64{}
		for at := random.Int64N(20); at < size; at += 1 + random.Int64N(40) {
			e := layout.Extent{Offset: at, Length: 1 + random.Int64N(min(30, size-at))}
			differs = append(differs, e)
			for b := e.Offset; b < e.End(); b++ {
				for _, p := range places {
					if b >= p.Offset && b < p.End() {
						want[p.Place]++
						break
					}
				}
			}
			at = e.End()
		}
		got := map[Place]int64{}
		last := int64(-1)
		for _, a := range sum(places, differs, false) {
			got[a.Place] = a.Bytes
			require.GreaterOrEqual(t, a.First, last, "in order")
			last = a.First
		}
		require.Equal(t, want, got)
		// Coarsely, a stretch with something that a start changes is that, and what else is in it can't be told.
		for _, d := range differs {
			all := pieces(places, d)
			expected := false
			for _, p := range all {
				expected = expected || p.started
			}
			for _, a := range sum(places, []layout.Extent{d}, true) {
				assert.Equal(t, expected, a.Started || a.Unsure)
			}
		}
	}
}

func TestReportTellsAStartFromDamage(t *testing.T) {
	r := &Report{}
	assert.True(t, r.Same())
	assert.False(t, r.Started())
	r.Differs = []layout.Extent{{Length: 512}}
	r.Areas = []Area{{Started: true}}
	assert.True(t, r.Started())
	r.Areas = append(r.Areas, Area{})
	assert.False(t, r.Started())
	r.Areas, r.Failed = r.Areas[:1], []layout.Extent{{Offset: 512, Length: 512}}
	assert.False(t, r.Started(), "what can't be read is no start")
	assert.Equal(t, int64(1024), r.Bytes())
}
