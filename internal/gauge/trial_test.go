package gauge

import (
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zeebo/blake3"

	"zipstamp/internal/card"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/gauge/mark"
)

// shelf is where the cards of trials are kept: in memory, where there is such a folder.
func shelf(t testing.TB) string {
	dir, err := os.MkdirTemp("/dev/shm", "zipstamp-trial-")
	if err != nil {
		return t.TempDir()
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return dir
}

// insert puts a practice card in.
func insert(t testing.TB, dir string, s practice.Spec) card.Device {
	t.Helper()
	path := filepath.Join(dir, "a.card")
	require.NoError(t, os.RemoveAll(path))
	s.Version, s.Backing = practice.Version, "a.card.data"
	require.NoError(t, practice.Create(path, s))
	c, err := card.Find(path)
	require.NoError(t, err)
	d, err := c.Open()
	require.NoError(t, err)
	return d
}

// remove takes it out, and throws it away.
func remove(t testing.TB, dir string, d card.Device) {
	t.Helper()
	require.NoError(t, d.Close())
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "a.card")))
	require.NoError(t, os.RemoveAll(filepath.Join(dir, "a.card.data")))
}

func newNonce(random *rand.Rand) (n mark.Nonce) {
	for i := range n {
		n[i] = byte(random.Uint32())
	}
	return n
}

// suspect is a practice card of a trial, and what is true of it.
type suspect struct {
	spec   practice.Spec
	bad    bool  // holds less than it claims
	faults int64 // sectors that never work
	shaky  bool  // something works only sometimes
}

const sector = 512

// draw makes up a card with so much that is real at most.
func draw(random *rand.Rand, mostReal int64) suspect {
	reads := []practice.Reads{practice.Zeros, practice.FF, practice.Noise, practice.Changing, practice.Last}[random.IntN(5)]
	real := (1<<20 + random.Int64N(mostReal-1<<20)) / sector
	if random.IntN(3) == 0 {
		real = mostReal >> random.IntN(5) / sector // powers of two too
	}
	real *= sector
	claimed := real + sector*(1+random.Int64N(64<<20/sector))
	if random.IntN(2) == 0 {
		claimed = min(int64(2e12), real*(2+random.Int64N(60))+sector*random.Int64N(2048))
	}
	s := suspect{spec: practice.Spec{Claimed: practice.Size(claimed), Real: practice.Size(real), Reads: reads, Seed: random.Uint64() >> 1, Sector: sector}, bad: true}
	if random.IntN(6) == 0 && real%4096 == 0 {
		s.spec.Claimed = s.spec.Claimed / 4096 * 4096
		s.spec.Sector = 4096
		s.bad = s.spec.Claimed > s.spec.Real
	}
	switch random.IntN(7) {
	case 0:
		s.spec.Beyond, s.spec.Reads = practice.Wrap, ""
	case 1:
		s.spec.Beyond = practice.Drop
	case 2:
		s.spec.Beyond, s.spec.Claimed = practice.Lazy, min(s.spec.Claimed, 1<<30)
	case 3:
		s.spec.Beyond = practice.Ends
	case 4, 5:
		s.spec.Claimed, s.spec.Reads, s.bad = s.spec.Real, "", false
	case 6: // its size is right, and it is bad
		s.spec.Claimed, s.spec.Reads, s.bad = s.spec.Real, "", false
		at := random.Int64N(real/int64(s.spec.Sector) - 64)
		f := practice.Fault{Sector: at, Count: 1 + random.Int64N(40)}
		f.Kind = []practice.FaultKind{practice.FailRead, practice.FailWrite, practice.Flip, practice.Misread}[random.IntN(4)]
		s.faults = f.Count * int64(s.spec.Sector) / sector
		if f.Kind == practice.Flip || f.Kind == practice.Misread {
			s.faults = f.Count // one bit in each of the card's sectors
		}
		s.spec.Faults = []practice.Fault{f}
	}
	if random.IntN(3) == 0 && s.spec.Beyond != "" {
		s.spec.Cache = practice.Size(random.Int64N(max(min(reach(claimed), real/2), 1)))
	}
	return s
}

// TestWholeIsNeverWrong is a trial of cards of every kind: no bad card is called good, no good one bad, and the real size is exact.
func TestWholeIsNeverWrong(t *testing.T) {
	cards := 150
	if testing.Short() {
		cards = 15
	}
	dir := shelf(t)
	for i := range cards {
		random := rand.New(rand.NewPCG(2026, uint64(i)))
		s := draw(random, 64<<20)
		what := fmt.Sprintf("card %d: claims %d, holds %d, %s %s, cache %d, sector %d, faults %v", i, s.spec.Claimed, s.spec.Real, s.spec.Beyond, s.spec.Reads, s.spec.Cache, s.spec.Sector, s.spec.Faults)
		d := insert(t, dir, s.spec)
		r, err := Whole{Device: d, Nonce: newNonce(random)}.Run(context.Background())
		require.NoError(t, err, what)
		checkWhole(t, s, r, what)
		remove(t, dir, d)
		if t.Failed() {
			return
		}
	}
}

func checkWhole(t *testing.T, s suspect, r *Report, what string) {
	t.Helper()
	at := int64(0)
	for _, e := range r.Extents {
		require.Equal(t, at, e.Offset, "the extents have no gap: %s", what)
		at = e.End()
	}
	require.Equal(t, int64(s.spec.Claimed), at, what)
	switch {
	case s.bad:
		require.Equal(t, Counterfeit, r.Verdict, what)
		require.NotNil(t, r.Loss, what)
		assert.Equal(t, int64(s.spec.Real), r.Loss.Holds(), what)
		assert.Equal(t, s.spec.Beyond == practice.Wrap, r.Loss.Repeats, what)
		assert.Equal(t, Counts{}, r.Bad, what)
		assert.True(t, r.Loss.Exact)
		holds := int64(0)
		for _, e := range r.Extents {
			if e.State == Good {
				holds += e.Length
			}
		}
		assert.Equal(t, int64(s.spec.Real), holds, what)
	case s.faults > 0:
		assert.Equal(t, Faulty, r.Verdict, what)
		assert.Equal(t, s.faults, r.Bad.Faults(), what)
	default:
		assert.Equal(t, Holds, r.Verdict, what)
		assert.Equal(t, []Extent{{0, r.Claimed, Good}}, r.Extents, what)
	}
}

// TestSpotsAreNeverWrong is the same for spots, but for what they can't see: cards that are lazy, or hold their size and are bad in a few places.
func TestSpotsAreNeverWrong(t *testing.T) {
	cards := 200
	if testing.Short() {
		cards = 20
	}
	dir := shelf(t)
	for i := range cards {
		random := rand.New(rand.NewPCG(2027, uint64(i)))
		s := draw(random, 64<<20)
		s.spec.Cache = min(s.spec.Cache, 4<<20)
		what := fmt.Sprintf("card %d: claims %d, holds %d, %s %s, cache %d, sector %d, faults %v", i, s.spec.Claimed, s.spec.Real, s.spec.Beyond, s.spec.Reads, s.spec.Cache, s.spec.Sector, s.spec.Faults)
		d := insert(t, dir, s.spec)
		before := fillBacking(t, dir, int64(s.spec.Real), random)
		r, restored, err := Spots{Device: d, Nonce: newNonce(random), Seed: random.Uint64()}.Run(context.Background())
		require.NoError(t, err, what)
		assert.True(t, restored, what)
		checkSpots(t, s, r, what)
		if s.spec.Beyond != practice.Lazy && s.faults == 0 {
			assert.Equal(t, before, sumBacking(t, dir), "all is as it was: %s", what)
		}
		remove(t, dir, d)
		if t.Failed() {
			return
		}
	}
}

func fillBacking(t *testing.T, dir string, n int64, random *rand.Rand) [32]byte {
	t.Helper()
	f, err := os.OpenFile(filepath.Join(dir, "a.card.data"), os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	piece := make([]byte, 1<<20)
	for at := int64(0); at < n; at += int64(len(piece)) {
		for i := 0; i < len(piece); i += 512 {
			piece[i] = byte(random.Uint32())
		}
		_, err := f.WriteAt(piece[:min(int64(len(piece)), n-at)], at)
		require.NoError(t, err)
	}
	return sumBacking(t, dir)
}

func sumBacking(t *testing.T, dir string) (sum [32]byte) {
	t.Helper()
	f, err := os.Open(filepath.Join(dir, "a.card.data"))
	require.NoError(t, err)
	defer f.Close()
	h := blake3.New()
	_, err = io.CopyBuffer(struct{ io.Writer }{h}, io.LimitReader(f, 128<<20), make([]byte, 1<<20))
	require.NoError(t, err)
	return [32]byte(h.Sum(nil))
}

func checkSpots(t *testing.T, s suspect, r *Report, what string) {
	t.Helper()
	switch {
	case s.bad && s.spec.Beyond == practice.Lazy:
		if r.Verdict == Holds { // it had room for all spots
			assert.Greater(t, int64(s.spec.Real), r.Written/4, what)
			return
		}
		require.Contains(t, []Verdict{Counterfeit, Faulty}, r.Verdict, what) // the latter if it was used up by the last place or two
	case s.bad && s.spec.Beyond == practice.Ends && s.spec.Claimed-s.spec.Real < s.spec.Claimed/8:
		assert.NotEqual(t, Inconclusive, r.Verdict, what)
	case s.bad:
		require.Equal(t, Counterfeit, r.Verdict, what)
		require.NotNil(t, r.Loss, what)
		assert.True(t, r.Loss.Exact, what)
		assert.Equal(t, int64(s.spec.Real), r.Loss.Holds(), what)
		assert.Equal(t, s.spec.Beyond == practice.Wrap, r.Loss.Repeats, what)
		assert.Equal(t, Counts{}, r.Bad, what)
	case s.faults > 0:
		assert.Contains(t, []Verdict{Faulty, Holds}, r.Verdict, what)
		assert.LessOrEqual(t, r.Bad.Faults(), s.faults+7, what)
	default:
		assert.Equal(t, Holds, r.Verdict, what)
		assert.Positive(t, r.Places, what)
	}
}
