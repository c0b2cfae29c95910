package stamp_test

import (
	"bytes"
	"context"
	"math/rand/v2"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/layout"
	"zipstamp/internal/stamp"
	"zipstamp/internal/testbed"
)

// looksBootable tells whether a card has what a board or a computer looks for at its start.
func looksBootable(t *testing.T, s *cardtest.State, size int64) bool {
	start := make([]byte, 8192)
	_, err := s.ReadAt(start, 0)
	require.NoError(t, err)
	table, err := layout.ReadTable(s, size, 512)
	require.NoError(t, err)
	return table.Scheme != layout.NoTable || start[510] == 0x55 && start[511] == 0xAA ||
		bytes.HasPrefix(start[512:], []byte("EFI PART")) || bytes.HasPrefix(start[4096:], []byte("EFI PART"))
}

// isBut tells whether two contents are the same, but for the sectors by which a table is found: these are taken away
// before anything else is written, and written when all else is on the card.
func isBut(a, b []byte) bool {
	return bytes.Equal(a[1024:4096], b[1024:4096]) && bytes.Equal(a[4608:], b[4608:])
}

// TestEveryPowerCut builds the states that a power cut could leave of stamps: none looks bootable and isn't whole, and
// from any the same stamp ends right.
func TestEveryPowerCut(t *testing.T) {
	t.Parallel()
	const size, claimed = 9*mib + 512, 16 * mib
	img := noise(size, 61, [2]int{5 * mib, 7 * mib})
	copy(img[512:], "EFI PART")
	random := rand.New(rand.NewPCG(testbed.Seed(t), 61))
	other := noise(claimed, 62)
	changed := append(bytes.Clone(img), other[size:]...)
	changed[4*mib+5]++
	half := append(bytes.Clone(img[:6*mib]), other[6*mib:]...)
	total := 0
	for what, c := range map[string]struct {
		holds []byte
		job   func(*stamp.Job)
	}{
		"another system":        {other, func(*stamp.Job) {}},
		"the image, but a byte": {changed, func(*stamp.Job) {}},
		"half of it":            {half, func(*stamp.Job) {}},
		"all is written":        {changed, func(j *stamp.Job) { j.WriteAll = true }},
		"nothing is read back":  {other, func(j *stamp.Job) { j.ReadBack = false }},
	} {
		dir := t.TempDir()
		r := newRig(t, dir, img, false, practice.Spec{Claimed: claimed})
		again := func(holds []byte, wrap func(card.Device) card.Device) {
			require.NoError(t, os.WriteFile(r.backing, holds, 0o600))
			result, err := r.run(t, context.Background(), func(j *stamp.Job) {
				j.FixSlower(0.2)
				j.Cards[0].Probe = true
				c.job(j)
				j.Cards[0].Device = wrap(j.Cards[0].Device)
			})
			require.NoError(t, err, what)
			require.Contains(t, []stamp.State{stamp.Verified, stamp.Complete}, result.State)
			require.True(t, bytes.Equal(img, r.held(t, size)), what)
		}
		var rec *cardtest.Recorder
		again(c.holds, func(d card.Device) card.Device {
			rec = &cardtest.Recorder{Device: d, Before: c.holds}
			return rec
		})
		bootable := 0
		var some [][]byte
		count := rec.States(random, testbed.Trials(8, 60), func(s *cardtest.State) {
			if looksBootable(t, s, claimed) {
				bootable++
				all := s.All()
				require.True(t, isBut(img, all[:size]) || isBut(c.holds, all),
					"%s: after %d of %d", what, s.At, rec.Len())
			}
			if random.IntN(400) == 0 && len(some) < 4 {
				some = append(some, s.All())
			}
		})
		assert.Greater(t, bootable, 1, "the first state and the last are whole")
		for _, holds := range some {
			again(holds, func(d card.Device) card.Device { return d })
		}
		total += count
	}
	t.Logf("%d states", total)
}
