package gaugetest

import (
	"math/rand/v2"
	"testing"

	"zipstamp/internal/testbed"
)

// reader keeps its cards in memory, where there is a folder for that.
func reader(t *testing.T) Reader { return Reader{testbed.Memory(t)} }

// TestVerdictsAreNeverWrong is a trial of cards of every kind: no bad card is called good, no good one bad, the real
// size is exact, and spots leave all as it was. bench has a longer one.
func TestVerdictsAreNeverWrong(t *testing.T) {
	cards := testbed.Trials(5, 60)
	tries := map[string]func(Reader, Suspect, *rand.Rand) error{"whole": Reader.Whole, "spots": Reader.Spots}
	for name, try := range tries {
		t.Run(name, func(t *testing.T) {
			r, seed := reader(t), testbed.Seed(t)
			wrong := 0
			for i := range cards {
				random := rand.New(rand.NewPCG(seed, uint64(i)))
				s := Draw(random, 64<<20<<(i%4))
				if err := try(r, s, random); err != nil {
					wrong++
					t.Errorf("card %d: %v: %v", i, err, s)
				}
			}
			t.Logf("%d cards, %d wrong", cards, wrong)
		})
	}
}
