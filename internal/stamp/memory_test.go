package stamp_test

import (
	"context"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/image"
	"zipstamp/internal/stamp"
	"zipstamp/internal/testbed"
)

var (
	beyonds  = []practice.Beyond{practice.Wrap, practice.Drop, practice.Lazy, practice.Oldest, practice.Ends}
	readings = []practice.Reads{practice.Zeros, practice.FF, practice.Noise, practice.Changing, practice.Last}
)

// forgetful draws a card that lies, with a memory that hides it, or an honest one with such a memory.
func forgetful(random *rand.Rand, size int64) practice.Spec {
	short := 512 * (1 + random.Int64N(90*mib/512)) // how much of the image the card has no room for
	switch random.IntN(4) {
	case 0:
		short = 512 * (1 + random.Int64N(16))
	case 1:
		short = -512 * random.Int64N(70*mib/512) // it has room; what is beyond it must not harm
	}
	s := practice.Spec{
		Claimed: practice.Size(max(size, 8<<20) + 512*random.Int64N(200*mib/512)),
		Real:    practice.Size(max(size-short, mib)),
		Beyond:  beyonds[random.IntN(len(beyonds))],
		Reads:   readings[random.IntN(len(readings))],
		Cache:   practice.Size(1+random.Int64N(stamp.Displaced/512)) * 512, WriteBack: random.IntN(2) == 0,
		Seed: random.Uint64() >> 1,
	}
	if random.IntN(4) == 0 && s.Beyond != practice.Lazy && s.Beyond != practice.Oldest {
		s.Claimed = 8e9
	}
	if random.IntN(6) == 0 {
		s.Cache = stamp.Displaced
	}
	if s.Claimed -= s.Claimed % 4096; s.Real >= s.Claimed || random.IntN(8) == 0 {
		s.Claimed = practice.Size(size + 72*mib)
		s.Real, s.Reads = s.Claimed, ""
	}
	s.Volatile = s.WriteBack && random.IntN(2) == 0
	return s
}

// TestStampSeesThroughMemories stamps cards that answer for up to 32 MiB from a memory of their own, and compares what
// is called good with what is on the card when its power has been cut.
func TestStampSeesThroughMemories(t *testing.T) {
	t.Parallel()
	seed := testbed.Seed(t)
	good, bad, trials := 0, 0, testbed.Trials(2, 8)
	for i := range trials {
		random := rand.New(rand.NewPCG(seed, uint64(i)))
		size := []int64{128 * mib, 96 * mib, 40 * mib}[random.IntN(3)] + 512*random.Int64N(8*mib/512)
		if random.IntN(4) == 0 {
			size = 512 * (1 + random.Int64N(96*mib/512))
		}
		img := noise(int(size), random.Uint64())
		if random.IntN(2) == 0 {
			from := random.IntN(int(size) / 512)
			clear(img[max(from*512, 512):])
		}
		spec := forgetful(random, size)
		path := filepath.Join(t.TempDir(), "disk.img")
		require.NoError(t, os.WriteFile(path, img, 0o600))
		f, err := image.Open(path)
		require.NoError(t, err)
		contents, err := f.Look("")
		require.NoError(t, err)
		d, data := cardtest.Insert(t, t.TempDir(), spec, nil)
		job := stamp.Job{
			Source: stamp.OfImage(f, contents), Cards: []stamp.Target{{Device: d, Probe: true}}, ReadBack: true,
			Repairs: 1,
		}
		out := job.Run(context.Background())[0]
		require.NoError(t, d.Close())
		require.NoError(t, f.Close())
		memory := int64(spec.Cache)
		spec.Version, spec.Backing, spec.Cache, spec.WriteBack, spec.Volatile = practice.Version, data, 0, false, false
		called := out.Err == nil || errors.As(out.Err, new(*stamp.CounterfeitError))
		same := holds(t, spec, img)
		seesThrough := out.Displaced >= memory // where there was not enough room, the result says so
		require.True(t, !called || same || !seesThrough, "trial %d, seed %d: called good: an image of %d on %+v",
			i, seed, size, spec)
		if spec.Beyond == practice.Wrap || spec.Beyond == practice.Drop {
			require.False(t, seesThrough && out.Err == nil && out.Capacity.Proven() && spec.Real < spec.Claimed,
				"trial %d, seed %d: a counterfeit was not seen: an image of %d on %+v", i, seed, size, spec)
		}
		if spec.Real == spec.Claimed {
			require.NoError(t, out.Err, "trial %d, seed %d: an honest card, %+v", i, seed, spec)
			require.EqualValues(t, stamp.Displaced, out.Displaced)
		}
		if good++; out.Err != nil {
			good--
			bad++
		}
		require.NoError(t, os.Remove(path))
		require.NoError(t, os.Remove(data))
	}
	t.Logf("%d called good, %d called bad", good, bad)
}

// holds tells whether a card has an image on it.
func holds(t *testing.T, s practice.Spec, img []byte) bool {
	c, err := practice.OpenToRead(s)
	require.NoError(t, err)
	defer c.Close()
	p := make([]byte, mib)
	for at := 0; at < len(img); at += len(p) {
		p = p[:min(len(p), len(img)-at)]
		_, err := c.ReadAt(p, int64(at))
		require.NoError(t, err)
		if string(p) != string(img[at:at+len(p)]) {
			return false
		}
	}
	return true
}
