package e2e

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/practice"
	"zipstamp/internal/testbed"
)

// TestAnyOrderOfCommands does a random row of jobs with a random card: some are killed, of some the card's power is
// cut, and in between somebody else writes to the card. Whatever the order: what is called good is good, an honest card
// is never accused, a counterfeit is never called good by a test of every block, and what was on the card is lost by no
// job that promises to put it back.
func TestAnyOrderOfCommands(t *testing.T) {
	t.Parallel()
	seed := testbed.Seed(t)
	for i := range testbed.Trials(1, 4) {
		s := newStory(t, rand.New(rand.NewPCG(seed, uint64(i))))
		s.say("trial %d, seed %d: %+v", i, seed, s.whole)
		for range 7 {
			s.next()
		}
		require.NoError(t, os.Remove(s.d.path("a.card.data")))
	}
}

// story is a card, and what must be on it.
type story struct {
	t     *testing.T
	r     *rand.Rand
	d     *desk
	spec  practice.Spec
	whole practice.Spec // the card itself, without what goes wrong with it
	real  bool          // it holds what it claims, and nothing fails
	holds []byte        // what is on the card or saved of it; nil: not known
	last  []byte        // what it held before that was no more known
	told  []string
}

func (s *story) say(format string, args ...any) {
	s.told = append(s.told, fmt.Sprintf(format, args...))
}

func (s *story) require(right bool, why string) {
	require.True(s.t, right, "%s\n%s", why, strings.Join(s.told, "\n"))
}

func newStory(t *testing.T, r *rand.Rand) *story {
	s := &story{t: t, r: r, d: newDesk(t), real: r.IntN(2) == 0}
	for file, path := range faultFiles() {
		require.NoError(t, os.Link(path, s.d.path(file)))
	}
	s.spec, s.whole = insertFault(t, s.d, fault{change: func(spec *practice.Spec) {
		spec.WriteRate, spec.ReadRate, spec.Sector = 500e6, 800e6, []int{512, 512, 4096}[r.IntN(3)]
		spec.Cache, spec.WriteBack = practice.Size(r.IntN(33))<<20, r.IntN(2) == 0
		if spec.Cache == 0 {
			spec.WriteBack = false
		}
		if !s.real {
			spec.Real = practice.Size(44<<20 + r.Int64N(80<<20)/4096*4096)
			spec.Beyond = []practice.Beyond{practice.Wrap, practice.Drop}[r.IntN(2)]
			spec.Reads = []practice.Reads{"", practice.FF, practice.Changing}[r.IntN(3)]
			if spec.Beyond == practice.Wrap {
				spec.Reads = ""
			}
		}
	}})
	s.holds = onCard(t, s.whole)
	return s
}

// next does one more thing with the card.
func (s *story) next() {
	jobs := [][]string{
		{"stamp", "--yes", "os.img", "a.card"},
		{"gauge", "spots", "--yes", "a.card"},
		{"gauge", "whole", "--yes", "a.card"},
		{"gauge", "whole", "--yes", "--first", "40MB", "a.card"},
		{"blank", "--yes", "a.card"},
		{"pace", "--yes", "a.card"},
		{"recheck", "a.card", "os.img"},
		{"gauge", "restore", "--yes"},
		{"gauge", "spots", "--yes", "a.card"},
		nil,
	}
	job := jobs[s.r.IntN(len(jobs))]
	if job == nil {
		s.overwrite()
		return
	}
	overwrites := slices.Contains([]string{"stamp", "whole", "blank"}, job[0]) || job[1] == "whole"
	status := 0
	switch s.r.IntN(5) {
	case 0:
		after := time.Duration(s.r.Int64N(int64(time.Second)))
		status = -1
		if !kill(s.t, s.d.command(job...), after) {
			status = -2 // it had ended by then
		}
		s.say("%v, killed after %v: %d", job, after, status)
	case 1:
		cut := s.spec
		if at := practice.Size(s.r.Int64N(48<<20) / 512 * 512); s.r.IntN(2) == 0 && !s.spec.WriteBack {
			cut.PowerCutAfter = at
		} else {
			cut.TearAfter = at
		}
		s.d.write("a.card", specText(s.t, cut))
		status = s.do(job)
		s.d.write("a.card", specText(s.t, s.spec))
		s.say("  with its power cut after %d, torn after %d", cut.PowerCutAfter, cut.TearAfter)
	default:
		status = s.do(job)
	}
	now := onCard(s.t, s.whole)
	saved := len(s.d.left("state/zipstamp/journals")) > 0
	if s.holds == nil && bytes.Equal(s.last, now) { // the job that would have overwritten it had not begun
		s.holds = now
	}
	state := "not known before"
	switch found := left(make([]byte, len(now)), now); {
	case s.holds != nil && saved && !overwrites:
		state = butForPlaces // what is saved is compared once it is back
	case s.holds != nil:
		state = left(s.holds, now)
	case found != looksWhole || !saved:
		state = found
	}
	s.say("  leaves: %s; saved: %v", state, saved)
	s.require(state != looksWhole, "it looks as if it could start")
	switch {
	case job[0] == "stamp" && status == 0, job[0] == "recheck" && status == 0:
		s.require(bytes.Equal(faultOS(), now[:faultImage]), "it is not the image")
	case job[0] == "blank" && status == 0:
		s.require(now[510] == 0x55 && now[511] == 0xAA, "it has no table")
	}
	switch {
	case overwrites && saved:
		s.forget() // it may be what was saved, or not any more
	case overwrites:
		s.holds = now
	case saved && status == 0 && job[0] != "recheck" && s.real:
		s.require(false, "something stays saved of an honest card")
	case saved:
	case s.holds == nil:
		s.holds = now
	default:
		s.require(bytes.Equal(s.holds, now), "what was on the card is lost")
	}
}

// forget says that what is on the card is no more known.
func (s *story) forget() {
	if s.holds != nil {
		s.last, s.holds = s.holds, nil
	}
}

// do runs a job to its end, and judges its verdict.
func (s *story) do(job []string) int {
	r := s.d.zipstamp(job...)
	s.say("%v: %d\n%s%s", job, r.status, plain(r.out), plain(r.err))
	s.require(!strings.Contains(r.err, "panic"), "it panics")
	s.require(!s.real || r.status != 6, "an honest card is accused")
	every := job[0] == "gauge" && job[1] == "whole" && !slices.Contains(job, "--first")
	s.require(s.real || !every || r.status != 0, "a counterfeit is called good")
	return r.status
}

// overwrite is somebody else who writes to the card: another system, or a file. What is saved is not put back there.
func (s *story) overwrite() {
	c, err := practice.Open(s.whole)
	require.NoError(s.t, err)
	defer c.Close()
	at, what := int64(0), noiseOS(9, faultImage)
	if s.r.IntN(2) == 0 {
		at, what = int64(1<<20)+s.r.Int64N(20<<20)/4096*4096, bytes.Repeat([]byte("tide"), 32<<10)
	}
	s.say("somebody else writes %d bytes at %d", len(what), at)
	for from := 0; from < len(what); from += 4 << 20 {
		_, err = c.WriteAt(what[from:min(from+4<<20, len(what))], at+int64(from))
		require.NoError(s.t, err)
	}
	for _, known := range []*[]byte{&s.holds, &s.last} {
		if *known != nil {
			*known = bytes.Clone(*known)
			copy((*known)[at:], what)
		}
	}
}
