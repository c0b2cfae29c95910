package gaugetest

import (
	"bytes"
	"context"
	"math/rand/v2"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/gauge/pace"
	"zipstamp/internal/gauge/spots"
	"zipstamp/internal/state"
	"zipstamp/internal/testbed"
)

// TestEveryPowerCutKeepsTheOriginals builds the states that a power cut could leave of tests that put back what was
// there: each sector is as it was, or the journal of that moment has it.
func TestEveryPowerCutKeepsTheOriginals(t *testing.T) {
	random := rand.New(rand.NewPCG(testbed.Seed(t), 9))
	for name, test := range map[string]func(d card.Device, j *journal.Journal) error{
		"spots": func(d card.Device, j *journal.Journal) error {
			_, _, err := spots.Test{
				Device: d, Nonce: Nonce(random), Seed: 3, Places: 60, Journal: j,
			}.Run(context.Background())
			return err
		},
		"pace": func(d card.Device, _ *journal.Journal) error { // it writes what is there
			_, err := pace.Test{Device: d, Seed: 3}.Run(context.Background())
			return err
		},
	} {
		holds := make([]byte, 48<<20)
		for i := 0; i < len(holds); i += 64 {
			holds[i] = byte(random.Uint32())
		}
		d, _ := cardtest.Insert(t, t.TempDir(), practice.Spec{Claimed: practice.Size(len(holds))}, holds)
		j, err := journal.Create(state.Place{Home: t.TempDir(), Folder: "j"}, journal.Head{
			Job: name, Card: card.Record{Name: "x", Size: int64(len(holds))}, Started: time.Unix(1, 0),
		})
		require.NoError(t, err)
		rec := &cardtest.Recorder{Device: d, Before: holds, Note: func() int {
			info, err := os.Stat(j.Path())
			require.NoError(t, err)
			return int(info.Size())
		}}
		require.NoError(t, test(rec, j))
		text, err := os.ReadFile(j.Path())
		require.NoError(t, err)
		saved := map[int]map[int64][]byte{} // by the length of the journal: sectors
		at := func(length int) map[int64][]byte {
			if saved[length] == nil {
				all := map[int64][]byte{}
				p, err := journal.Read(bytes.NewReader(text[:length]))
				require.NoError(t, err)
				for _, batch := range p.Batches {
					for _, place := range batch {
						for i := 0; i < len(place.Data); i += 512 {
							all[place.Offset+int64(i)] = place.Data[i : i+512]
						}
					}
				}
				saved[length] = all
			}
			return saved[length]
		}
		changed := false
		count := rec.States(random, testbed.Trials(1, 12), func(s *cardtest.State) {
			changed = false
			s.Differs(func(off int64, now, was []byte) {
				changed = true
				if kept := at(s.Note)[off]; !bytes.Equal(kept, was) {
					require.Equal(t, was, kept, "%s: after %d: at %d", name, s.At, off)
				}
			})
		})
		require.False(t, changed, "in the end all is as it was")
		require.NoError(t, j.Remove())
		t.Logf("%s: %d states", name, count)
	}
}
