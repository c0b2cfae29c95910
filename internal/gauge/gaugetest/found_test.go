package gaugetest

import (
	"context"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/practice"
	"zipstamp/internal/gauge/spots"
	"zipstamp/internal/gauge/whole"
	"zipstamp/internal/testbed"
)

// TestCardsThatWereJudgedWrongOnce are cards that longer trials have found.
func TestCardsThatWereJudgedWrongOnce(t *testing.T) {
	if !testbed.Long() {
		t.Skip("it tests many cards: ZIPSTAMP_LONG=1")
	}
	r := reader(t)
	for i, s := range []practice.Spec{
		// its start is overwritten twice before it is looked at
		{Claimed: 52609024, Real: 7512576, Beyond: practice.Wrap, Cache: 1230255},
		{Claimed: 11881472, Real: 5220352, Beyond: practice.Wrap},
		// its last block is the one that it answers with
		{Claimed: 10020864, Real: 8388608, Beyond: practice.Lazy, Reads: practice.Last},
		// likewise, and its last block starts where it is said to end
		{Claimed: 268436480, Real: 268435456, Beyond: practice.Oldest, Reads: practice.Last, Cache: 32 << 20},
		// to be found out within 64 MiB
		{Claimed: 3892727808, Real: 64 << 20, Beyond: practice.Wrap, Cache: 32 << 20, WriteBack: true},
		// what was seen at two times adds up to everything
		{Claimed: 10188800, Real: 4365824, Beyond: practice.Oldest, Reads: practice.FF},
		// stores what shows it only later
		{Claimed: 16519680, Real: 8050176, Beyond: practice.Wrap, Cache: 4032 << 10, WriteBack: true},
		{
			Claimed: 65706496, Real: 65702400, Beyond: practice.Lazy, Reads: practice.Last, Cache: 16424960,
			WriteBack: true,
		},
		{Claimed: 663042560, Real: 20070912, Beyond: practice.Ends, Cache: 7724185},
	} {
		s.Version, s.Sector = practice.Version, 512
		suspect := Suspect{Spec: s, Bad: true}
		require.NoError(t, r.Whole(suspect, rand.New(rand.NewPCG(1, uint64(i)))), fmt.Sprint(suspect))
	}
	// Memories that store late, and have just about as much room as is written before it is looked once more what a
	// lost place reads as.
	for sectors := -24; sectors <= 24; sectors += 4 {
		s := Suspect{Bad: true, Spec: practice.Spec{
			Version: practice.Version, Sector: 512, Claimed: 8392192, Real: 8388608, Beyond: practice.Drop,
			Reads: practice.Last, Cache: practice.Size(2<<20 + 512*sectors), WriteBack: true,
		}}
		require.NoError(t, r.Whole(s, rand.New(rand.NewPCG(3, 1))), fmt.Sprint(s))
	}
	// Real sizes of a few MiB, which are passed several times before the first look.
	for i := range uint64(60) {
		random := rand.New(rand.NewPCG(2, i))
		real := (1<<20 + random.Int64N(16<<20)) / 512 * 512
		s := Suspect{
			Bad: true,
			Spec: practice.Spec{
				Version: practice.Version, Sector: 512, Claimed: practice.Size(real + 512*(1+random.Int64N(100000))),
				Real: practice.Size(real), Beyond: practice.Wrap,
			},
		}
		require.NoError(t, r.Whole(s, random), fmt.Sprint(s))
	}
}

// TestWholeAfterSpots tests a card that gives out its room as it is asked for it, and of which a test of places has got
// some before.
func TestWholeAfterSpots(t *testing.T) {
	r := reader(t)
	d, err := r.Insert(practice.Spec{Version: practice.Version, Claimed: 256e6, Real: 60e6, Beyond: practice.Lazy})
	require.NoError(t, err)
	defer d.Close()
	random := rand.New(rand.NewPCG(4, 4))
	_, _, err = spots.Test{
		Device: d, Nonce: Nonce(random), Seed: 4, Places: spots.DefaultPlaces,
	}.Run(context.Background())
	require.NoError(t, err)
	rep, err := whole.Test{Device: d, Nonce: Nonce(random)}.Run(context.Background())
	require.NoError(t, err)
	require.NotNil(t, rep.Loss)
	assert.True(t, rep.Loss.Anywhere)
	assert.False(t, rep.Loss.Exact)
	assert.LessOrEqual(t, rep.Loss.Real, int64(60e6))
	assert.GreaterOrEqual(t, rep.Loss.Most, int64(60e6))
}
