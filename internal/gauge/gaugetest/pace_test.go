package gaugetest

import (
	"context"
	"math/rand/v2"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/gauge/pace"
)

// TestPaceIsTheCards measures cards whose pace is known, in simulated time, and leaves them as they were.
func TestPaceIsTheCards(t *testing.T) {
	for name, c := range map[string]struct {
		spec          practice.Spec
		read, write   float64
		reads, writes float64
		meets         []string
	}{
		"a good card": {
			practice.Spec{
				Claimed: 600e6, ReadRate: 95e6, WriteRate: 45e6, Latency: practice.Duration(250 * time.Microsecond),
			},
			94.5e6, 44.9e6, 3412, 2929,
			[]string{"Class 10", "U3", "V30", "A1"},
		},
		"a slow one": {
			practice.Spec{
				Claimed: 300e6, ReadRate: 18e6, WriteRate: 5e6, Latency: practice.Duration(3 * time.Millisecond),
			},
			17.8e6, 4.98e6, 309, 262,
			[]string{"Class 4"},
		},
		"one that fades": {
			practice.Spec{
				Claimed: 600e6, ReadRate: 95e6, WriteRate: 40e6, FadeAfter: 40e6, FadeRate: 7e6,
				Latency: practice.Duration(time.Millisecond),
			},
			92.9e6, 11.8e6, 959, 629,
			[]string{"Class 6", "V6"},
		},
	} {
		t.Run(name, func(t *testing.T) {
			r := reader(t)
			random := rand.New(rand.NewPCG(1, 1))
			var before, after [32]byte
			synctest.Test(t, func(t *testing.T) {
				c.spec.Version = practice.Version
				d, err := r.Insert(c.spec)
				require.NoError(t, err)
				defer d.Close()
				require.NoError(t, r.Fill(100e6, random))
				before, err = r.Sum()
				require.NoError(t, err)
				rep, err := pace.Test{Device: d, Seed: 5}.Run(context.Background())
				require.NoError(t, err)
				assert.InEpsilon(t, c.read, rep.ReadRate, 0.03)
				assert.InEpsilon(t, c.write, rep.WriteRate, 0.1)
				assert.InEpsilon(t, c.reads, rep.ReadsPerSecond, 0.05)
				assert.InEpsilon(t, c.writes, rep.WritesPerSecond, 0.1)
				assert.Equal(t, c.meets, rep.Meets())
				assert.LessOrEqual(t, rep.SlowestWrite, rep.WriteRate*1.001)
				assert.Positive(t, rep.Smallest)
				assert.Zero(t, rep.Unsteady)
				after, err = r.Sum()
				require.NoError(t, err)
			})
			assert.Equal(t, before, after)
		})
	}
}

// TestPaceWritesOnlyWhatItIsSureOf leaves alone what doesn't read the same twice.
func TestPaceWritesOnlyWhatItIsSureOf(t *testing.T) {
	r := reader(t)
	random := rand.New(rand.NewPCG(1, 1))
	spec := practice.Spec{
		Version: practice.Version, Claimed: 64e6,
		Faults: []practice.Fault{{Kind: practice.Misread, Sector: 40000, Count: 30, Chance: 0.5}},
	}
	d, err := r.Insert(spec)
	require.NoError(t, err)
	require.NoError(t, r.Fill(64e6, random))
	before, err := r.Sum()
	require.NoError(t, err)
	unsteady := 0
	for range 6 {
		rep, err := pace.Test{Device: d}.Run(context.Background())
		require.NoError(t, err)
		unsteady += rep.Unsteady
	}
	assert.Positive(t, unsteady)
	require.NoError(t, d.Close())
	after, err := r.Sum()
	require.NoError(t, err)
	if before != after { // both readings of a place may have been wrong in the same way
		t.Skip("the same wrong bit was read twice, which nobody could tell")
	}
	d, err = r.Insert(practice.Spec{Version: practice.Version, Claimed: 8e6})
	require.NoError(t, err)
	_, err = pace.Test{Device: d}.Run(context.Background())
	require.ErrorIs(t, err, pace.ErrTooSmall)
	require.NoError(t, d.Close())
	d, err = r.Insert(practice.Spec{Version: practice.Version, Claimed: 64e6, GoneAfter: 100e6})
	require.NoError(t, err)
	defer d.Close()
	_, err = pace.Test{Device: d}.Run(context.Background())
	require.ErrorAs(t, err, new(*card.GoneError))
	ctx, stop := context.WithCancelCause(context.Background())
	stop(errStop)
	_, err = pace.Test{Device: d}.Run(ctx)
	require.ErrorIs(t, err, errStop)
}
