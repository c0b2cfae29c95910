package e2e

import (
	"bytes"
	"math/rand/v2"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/practice"
	"zipstamp/internal/testbed"
)

// TestKilledAtAnyMoment kills the program at random moments of each job, or cuts the card's power, and compares what is
// on the card: no card looks as if it could start a board and can't, nothing that was to be put back is lost, and the
// same command, or the one that it names, comes to its end afterwards.
func TestKilledAtAnyMoment(t *testing.T) {
	seed := testbed.Seed(t)
	jobs := map[string]struct {
		args   []string
		again  []string      // what puts it right
		writes int64         // bytes that it writes to its end, or somewhat fewer
		lasts  time.Duration // to its end, or somewhat longer
		good   func(t *testing.T, d *desk, whole practice.Spec, before []byte)
	}{
		"stamp": {
			[]string{"stamp", "--yes", "os.img", "a.card"},
			[]string{"stamp", "--yes", "os.img", "a.card"},
			80 << 20, 1500 * time.Millisecond, func(t *testing.T, d *desk, whole practice.Spec, before []byte) {
				assert.Equal(t, "the image", left(before, onCard(t, whole)))
			},
		},
		"whole": {
			[]string{"gauge", "whole", "--yes", "a.card"},
			[]string{"gauge", "whole", "--yes", "a.card"},
			128 << 20,
			1500 * time.Millisecond, func(*testing.T, *desk, practice.Spec, []byte) {},
		},
		"blank": {
			[]string{"blank", "--yes", "a.card"},
			[]string{"blank", "--yes", "a.card"},
			4 << 20,
			300 * time.Millisecond, func(t *testing.T, d *desk, whole practice.Spec, before []byte) {
				assert.Equal(t, "an empty file system", left(before, onCard(t, whole)))
			},
		},
		"files": {
			[]string{"blank", "--yes", "--with", "files.tar", "a.card"},
			[]string{"blank", "--yes", "--with", "files.tar", "a.card"},
			80 << 20,
			1500 * time.Millisecond, func(t *testing.T, d *desk, whole practice.Spec, before []byte) {
				assert.Equal(t, "the files", left(before, onCard(t, whole)))
			},
		},
		"spots": {
			[]string{"gauge", "spots", "--yes", "a.card"},
			[]string{"gauge", "restore", "--yes"},
			64 << 20,
			1500 * time.Millisecond, asItWas,
		},
		"pace": {
			[]string{"pace", "--yes", "a.card"},
			[]string{"gauge", "restore", "--yes"},
			40 << 20,
			1500 * time.Millisecond, asItWas,
		},
		"restore": {
			[]string{"gauge", "restore", "--yes", "a.card"},
			[]string{"gauge", "restore", "--yes"},
			32 << 20,
			1500 * time.Millisecond, asItWas,
		},
	}
	for name, job := range jobs {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			killed, cuts := 0, 0
			for i := range testbed.Trials(2, 4) {
				r := rand.New(rand.NewPCG(seed, uint64(i)))
				d := newDesk(t)
				for file, path := range faultFiles() {
					require.NoError(t, os.Link(path, d.path(file)))
				}
				f := fault{change: func(s *practice.Spec) { s.WriteRate, s.ReadRate = 300e6, 600e6 }}
				if r.IntN(3) == 0 {
					f.change = func(s *practice.Spec) {
						s.WriteRate, s.ReadRate, s.Real, s.Beyond = 300e6, 600e6, 70<<20, []practice.Beyond{
							practice.Wrap, practice.Drop,
						}[r.IntN(2)]
					}
				}
				spec, whole := insertFault(t, d, f)
				before := onCard(t, whole)
				if name == "restore" {
					pulled := bare(spec)
					pulled.GoneAfter, pulled.Serial = practice.Size(8<<20+r.Int64N(60<<20)), spec.Serial
					d.write("a.card", specText(t, pulled))
					d.zipstamp("gauge", "spots", "--yes", "a.card")
					d.write("a.card", specText(t, spec))
				}
				if i%2 == 0 {
					if kill(t, d.command(job.args...), time.Duration(r.Int64N(int64(job.lasts)))) {
						killed++
					}
				} else {
					cut := spec
					after := practice.Size(r.Int64N(job.writes/512) * 512)
					if r.IntN(2) == 0 {
						cut.PowerCutAfter = after
					} else {
						cut.TearAfter = after
					}
					d.write("a.card", specText(t, cut))
					if d.zipstamp(job.args...).status == 4 {
						cuts++
					}
					d.write("a.card", specText(t, spec))
				}
				state := left(before, onCard(t, whole))
				require.NotEqual(t, looksWhole, state, "trial %d, seed %d", i, seed)
				again := d.zipstamp(job.again...)
				require.Contains(t, []int{0, 6}, again.status, "trial %d, seed %d: %s%s", i, seed, again.out, again.err)
				if spec.Real == 0 {
					require.Equal(t, 0, again.status, "trial %d, seed %d: %s%s", i, seed, again.out, again.err)
				}
				job.good(t, d, whole, before)
				if t.Failed() {
					t.Fatalf("trial %d, seed %d: %s", i, seed, again.out+again.err)
				}
				for _, e := range d.left("state/zipstamp/journals") {
					assert.NotContains(t, e, ".journal", "nothing is kept any more")
				}
				require.NoError(t, os.Remove(d.path("a.card.data")))
			}
			t.Logf("%d killed before their end, %d whose card's power was cut", killed, cuts)
		})
	}
}

// asItWas requires that the card has what it had before.
func asItWas(t *testing.T, _ *desk, whole practice.Spec, before []byte) {
	assert.True(t, bytes.Equal(before, onCard(t, whole)), "the card is as it was")
}

// kill starts a command, and kills it after a while; false if it had ended by then.
func kill(t *testing.T, cmd *exec.Cmd, after time.Duration) bool {
	require.NoError(t, cmd.Start())
	timer := time.AfterFunc(after, func() { _ = cmd.Process.Signal(syscall.SIGKILL) })
	defer timer.Stop()
	err := cmd.Wait()
	return err != nil && strings.Contains(err.Error(), "killed")
}

// left lists the names in a folder.
func (d *desk) left(folder string) (names []string) {
	entries, _ := os.ReadDir(d.path(folder)) // none where there is no folder
	for _, e := range entries {
		names = append(names, e.Name())
	}
	return names
}

// TestPaceUndoesNoRestore measures a card whose addresses repeat and that stores late: what is read at one address may
// still be what stood there before something was put back under another.
func TestPaceUndoesNoRestore(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	spec, whole := insertFault(t, d, fault{change: func(s *practice.Spec) {
		s.Real, s.Beyond, s.Cache, s.WriteBack = 89932<<10, practice.Wrap, 24<<20, true
	}})
	before := onCard(t, whole)
	cut := spec
	cut.TearAfter = 29135872
	d.write("a.card", specText(t, cut))
	d.want(4, "", "gauge", "spots", "--yes", "a.card")
	d.write("a.card", specText(t, spec))
	d.want(0, "put back", "pace", "--yes", "a.card")
	asItWas(t, d, whole, before)
	assert.Empty(t, d.left("state/zipstamp/journals"))
}
