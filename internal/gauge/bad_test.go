package gauge

import (
	"math/rand/v2"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/meter"
)

// TestBadListIsWhatAMapWouldSay compares the list with a table of all sectors.
func TestBadListIsWhatAMapWouldSay(t *testing.T) {
	states := []State{Shaky, Worn, Failing, Unwritable, Missing}
	for seed := range uint64(300) {
		random := rand.New(rand.NewPCG(5, seed))
		const sectors = 200
		table := [sectors]State{}
		var b Bad
		for range random.IntN(60) {
			from := random.IntN(sectors)
			n := 1 + random.IntN(min(sectors-from, 1+random.IntN(40)))
			state := states[random.IntN(len(states))]
			b.Add(StretchOf(int64(from)*512, int64(n)*512, state))
			for i := from; i < from+n; i++ {
				if table[i] == "" || Rank(state) > Rank(table[i]) {
					table[i] = state
				}
			}
		}
		counts := map[State]int64{}
		for _, s := range table {
			counts[s]++
		}
		for _, s := range states {
			assert.Equal(t, counts[s]*512, b.Bytes[s], s)
		}
		at := int64(0)
		last := State("")
		for _, e := range b.Cover(sectors * 512) {
			require.Equal(t, at, e.Offset)
			require.NotEqual(t, last, e.State, "joined")
			for i := e.Offset / 512; i < e.End()/512; i++ {
				want := table[i]
				if want == "" {
					want = Good
				}
				require.Equal(t, want, e.State, "sector %d", i)
			}
			at, last = e.End(), e.State
		}
		require.Equal(t, int64(sectors*512), at)
		from := random.Int64N(sectors)
		to := from + random.Int64N(sectors-from)
		out := b.Outside(from*512, to*512)
		left := int64(0)
		for _, e := range out.List {
			left += e.Length
			for i := e.Offset / 512; i < e.End()/512; i++ {
				require.False(t, i >= from && i < to, "sector %d is within %d and %d", i, from, to)
			}
		}
		want := int64(0)
		for i, s := range table {
			if s != "" && (int64(i) < from || int64(i) >= to) {
				want += 512
			}
		}
		require.Equal(t, want, left)
	}
}

func TestBadListDoesNotGrow(t *testing.T) {
	var b Bad
	for i := range int64(200000) {
		b.Add(StretchOf(i*2*512, 512, Worn))
	}
	assert.LessOrEqual(t, len(b.List), MaxStretches)
	assert.Equal(t, int64(200000), b.Sectors().Worn, "the count is exact")
	assert.Zero(t, b.List[0].Offset)
}

func TestTimesTellPercentiles(t *testing.T) {
	var times Times
	assert.Zero(t, times.Percentile(0.5))
	for i := 1; i <= 1000; i++ {
		times.Add(time.Duration(i)*time.Millisecond, int64(i)*512)
	}
	for share, want := range map[float64]float64{0.5: 0.5, 0.95: 0.95, 0.99: 0.99} {
		assert.InEpsilon(t, want, times.Percentile(share).Seconds(), 0.05)
	}
	worst, at := times.Worst()
	assert.Equal(t, time.Second, worst)
	assert.Equal(t, int64(512000), at)
	total := int64(0)
	for i, bar := range times.Histogram() {
		total += bar.Count
		if i > 0 {
			assert.Greater(t, bar.Below, times.Histogram()[i-1].Below)
		}
	}
	assert.Equal(t, int64(1000), total)
}

func TestMarksAreWhatIsPromised(t *testing.T) {
	assert.Empty(t, Meets(1.9e6, 0, 0))
	assert.Equal(t, []string{"Class 4"}, Meets(5.9e6, 0, 0))
	assert.Equal(t, []string{"Class 10", "U1", "V10"}, Meets(10e6, 0, 0))
	assert.Equal(t, []string{"Class 10", "U3", "V30", "A1"}, Meets(31e6, 1500, 500))
	assert.Equal(t, []string{"Class 10", "U3", "V90", "A2"}, Meets(95e6, 4000, 2000))
	rate, at := Slowest([]meter.Point{
		{Offset: 0, Bytes: 32 << 20, Took: time.Second},
		{Offset: 32 << 20, Bytes: 32 << 20, Took: 4 * time.Second},
		{Offset: 64 << 20, Bytes: 1 << 20, Took: time.Second},
	})
	assert.Equal(t, float64(8<<20), rate, "a short rest counts for nothing")
	assert.Equal(t, int64(32<<20), at)
}

// TestWornAllOver has a card with more single bad places than are listed, in several states and in any order: what is
// joined is alike, and the counts are those of what was added, not of what was joined.
func TestWornAllOver(t *testing.T) {
	random := rand.New(rand.NewPCG(5, 1))
	var b Bad
	counts := map[State]int64{}
	states := []State{Worn, Failing, Missing}
	for _, i := range random.Perm(60000) {
		state := states[i%len(states)]
		if i > 40000 {
			state = Worn
		}
		b.Add(StretchOf(int64(i)*256<<10, 512, state))
		counts[state] += 512
	}
	assert.LessOrEqual(t, len(b.List), MaxStretches)
	lost := int64(0)
	for _, e := range b.List {
		if e.State == Missing {
			lost += e.Bytes()
		}
	}
	assert.Equal(t, counts[Missing], lost, "what is lost isn't joined with what is worn")
	for _, s := range states {
		assert.Equal(t, counts[s], b.Bytes[s], s)
	}
}
