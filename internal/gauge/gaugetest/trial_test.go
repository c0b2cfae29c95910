package gaugetest

import (
	"math/rand/v2"
	"os"
	"testing"

	"github.com/stretchr/testify/require"
)

// reader keeps its cards in memory, where there is a folder for that.
func reader(t *testing.T) Reader {
	dir, err := os.MkdirTemp("/dev/shm", "zipstamp-trial-")
	if err != nil {
		return Reader{t.TempDir()}
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	return Reader{dir}
}

// TestVerdictsAreNeverWrong is a trial of cards of every kind: no bad card is called good, no good one bad, the real size is exact, and spots leave all as
// it was. bench has a longer one.
func TestVerdictsAreNeverWrong(t *testing.T) {
	cards := 140
	if testing.Short() {
		cards = 12
	}
	tries := map[string]func(Reader, Suspect, *rand.Rand) error{"whole": Reader.Whole, "spots": Reader.Spots}
	for name, try := range tries {
		t.Run(name, func(t *testing.T) {
			r := reader(t)
			for i := range cards {
				random := rand.New(rand.NewPCG(2026, uint64(i)))
				s := Draw(random, 64<<20)
				require.NoError(t, try(r, s, random), "card %d: %v", i, s)
			}
		})
	}
}
