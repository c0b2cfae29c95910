package blank

import (
	"context"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/layout"
	"zipstamp/internal/testbed"
)

// TestEveryPowerCut builds the states that a power cut could leave of making a card empty: one that has a partition
// table has the old one with all that it stands for, or the new one with a file system that is whole.
func TestEveryPowerCut(t *testing.T) {
	random := rand.New(rand.NewPCG(testbed.Seed(t), 5))
	const size = 64 << 20
	holds := make([]byte, size)
	for i := range holds {
		holds[i] = byte(random.Uint32())
	}
	table := layout.MBR(7, layout.Partition{Type: 0x83, Start: 2048, Sectors: 20000})
	copy(holds, table[:])
	d, _ := cardtest.Insert(t, t.TempDir(), practice.Spec{Claimed: size}, holds)
	plan, err := Wanted{Label: "TIDES"}.For(size, 512)
	require.NoError(t, err)
	rec := &cardtest.Recorder{Device: d, Before: holds}
	_, err = Job{Device: rec, Plan: plan}.Run(context.Background())
	require.NoError(t, err)
	old, made := 0, 0
	count := rec.States(random, testbed.Trials(12, 200), func(s *cardtest.State) {
		found, err := layout.ReadTable(s, size, 512)
		require.NoError(t, err)
		switch {
		case found.Scheme == layout.NoTable:
		case found.ID == "00000007":
			old++
			s.Differs(func(off int64, _, _ []byte) {
				require.Fail(t, "the old table, but not all of it", "at %d, after %d of %d", off, s.At, rec.Len())
			})
		default:
			made++
			v, err := layout.OpenFAT(io.NewSectionReader(s, plan.Start, plan.Size))
			require.NoError(t, err)
			check, err := v.Check()
			require.NoError(t, err)
			require.Empty(t, check.Faults, "after %d of %d", s.At, rec.Len())
		}
	})
	require.Positive(t, old)
	require.Positive(t, made)
	t.Logf("%d states", count)
}
