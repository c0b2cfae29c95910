package job_test

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/job"
	"zipstamp/internal/receipt"
)

// scripted is a session with practice cards, which notes what it is asked, and fails at a step.
type scripted struct {
	t     *testing.T
	cards []*card.Card
	out   *card.Card // on which the job doesn't fit; nil: none is
	typed bool
	fails string // the step
	spare int    // how many times it doesn't fail

	steps   []string
	claimed int
	deleted bool // what a test had saved
	kept    []job.Ended
}

var errScripted = errors.New("so it was written")

func (s *scripted) step(name string) error {
	s.steps = append(s.steps, name)
	if name == s.fails {
		if s.spare--; s.spare < 0 {
			return errScripted
		}
	}
	return nil
}

func (s *scripted) Find(context.Context) ([]*card.Card, error) { return s.cards, s.step("find") }

func (s *scripted) Admit(*card.Card) (bool, error) { return s.typed, s.step("admit") }

func (s *scripted) MayAsk(*job.Target) error { return s.step("may ask") }

func (s *scripted) Reserve(job.Kind, *job.Target) error { return s.step("reserve") }

func (s *scripted) Discard() { s.steps = append(s.steps, "discard") }

func (s *scripted) Plan(context.Context, job.Kind, []*job.Target, string) error {
	return s.step("plan")
}

func (s *scripted) Offer(context.Context, *card.Card) (func(), error) {
	return func() { s.deleted = true }, s.step("offer")
}

func (s *scripted) Ask(context.Context, job.Kind, []*job.Target, string) error { return s.step("ask") }

func (s *scripted) Claim(ctx context.Context, t *job.Target) (*card.Hold, error) {
	if err := s.step("claim"); err != nil {
		return nil, err
	}
	h, err := t.Card.Claim(ctx, card.Freeing{})
	require.NoError(s.t, err)
	s.claimed++
	return h, nil
}

func (s *scripted) PutBack(*card.Hold) error { return s.step("put back") }

func (s *scripted) Keep(_ *job.Target, e job.Ended) {
	s.kept, s.steps = append(s.kept, e), append(s.steps, "keep")
}

func (s *scripted) Show() error { return s.step("show") }

// do does a job of a kind, and tells the steps that it took.
func (s *scripted) do(j job.Job) (steps string, err error) {
	s.steps, s.kept, s.claimed = nil, nil, 0
	j.Fits = func(_ context.Context, all []*job.Target) (string, error) {
		for _, t := range all {
			t.Out = t.Card == s.out
		}
		return "then", s.step("fits")
	}
	j.Foretell = func(context.Context, []*job.Target) { s.steps = append(s.steps, "foretell") }
	j.Unasked = func(*card.Card) { s.steps = append(s.steps, "unasked") }
	j.Run = func(_ context.Context, all []*job.Target) (ended []job.Ended, err error) {
		for _, t := range all {
			assert.Equal(s.t, j.Takes && !t.Out, t.Hold != nil)
			t.DeleteSaved()
			ended = append(ended, job.Ended{Sentence: t.Card.Name})
		}
		return ended, s.step("run")
	}
	err = job.Do(s.t.Context(), s, j)
	for _, c := range s.cards { // each can be had again
		h, err := c.Claim(context.Background(), card.Freeing{})
		require.NoError(s.t, err, "the card was let go")
		require.NoError(s.t, h.Close())
	}
	return strings.Join(s.steps, ", "), err
}

func session(t *testing.T, cards int) *scripted {
	s := &scripted{t: t}
	for range cards {
		c, _ := cardtest.Make(t, t.TempDir(), practice.Spec{Claimed: 1 << 20}, nil)
		s.cards = append(s.cards, c)
	}
	return s
}

func TestOrderOfAJob(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		job   job.Job
		typed bool
		steps string
	}{
		"what overwrites asks": {
			job.Job{Kind: job.Blank},
			false,
			"find, admit, fits, may ask, reserve, offer, foretell, ask, claim, run, keep, show, discard",
		},
		"agreed": {
			job.Job{Kind: job.Whole, Agreed: true},
			false,
			"find, admit, fits, may ask, reserve, offer, foretell, claim, run, keep, show, discard",
		},
		"agreed, but to be typed": {
			job.Job{Kind: job.Stamp, Agreed: true},
			true,
			"find, admit, fits, may ask, reserve, offer, foretell, ask, claim, run, keep, show, discard",
		},
		"what keeps all doesn't ask": {
			job.Job{Kind: job.Spots},
			false,
			"find, admit, fits, reserve, foretell, unasked, claim, put back, run, keep, show, discard",
		},
		"unless the name must be typed": {
			job.Job{Kind: job.Save},
			true,
			"find, admit, fits, may ask, reserve, foretell, ask, claim, put back, run, keep, show, discard",
		},
		"a dry run": {
			job.Job{Kind: job.Blank, DryRun: true, Agreed: true},
			true,
			"find, admit, fits, may ask, foretell, plan",
		},
		"restoring keeps no receipt": {
			job.Job{Kind: job.Restore},
			false,
			"find, admit, fits, foretell, unasked, claim, run",
		},
		"what only reads takes nothing": {
			job.Job{Kind: job.Recheck},
			false,
			"find, fits, reserve, foretell, unasked, run, keep, show, discard",
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := session(t, 1)
			s.typed = c.typed
			steps, err := s.do(c.job)
			require.NoError(t, err)
			assert.Equal(t, c.steps, steps)
			assert.Equal(t, c.job.Saved == job.Offered && !c.job.DryRun, s.deleted)

			// after an error at a step nothing more is done, but what was taken is given back
			all := strings.Split(steps, ", ")
			for i, step := range all {
				if slices.Contains([]string{"discard", "foretell", "keep", "unasked"}, step) {
					continue
				}
				s.fails, s.spare = step, 0
				steps, err := s.do(c.job)
				assert.ErrorIs(t, err, errScripted, step)
				want := slices.Clone(all[:i+1])
				if at := slices.Index(all, "reserve"); at >= 0 && i >= at {
					want = append(want, "discard")
				}
				assert.Equal(t, strings.Join(want, ", "), steps)
				assert.Equal(t, step == "show", s.kept != nil)
			}
		})
	}
}

// TestSeveralCards are all had or none, and one that is left out is not touched, and has a receipt.
func TestSeveralCards(t *testing.T) {
	t.Parallel()
	s := session(t, 3)
	s.out = s.cards[1]
	steps, err := s.do(job.Job{Kind: job.Stamp, Agreed: true})
	require.NoError(t, err)
	assert.Equal(t, "find, admit, admit, admit, fits, may ask, may ask, reserve, reserve, reserve, offer, offer, "+
		"foretell, claim, claim, run, keep, keep, keep, show, discard", steps)
	require.Len(t, s.kept, 3)
	assert.Equal(t, s.cards[2].Name, s.kept[2].Sentence)

	s.fails, s.spare = "claim", 1
	steps, err = s.do(job.Job{Kind: job.Stamp, Agreed: true})
	require.ErrorIs(t, err, errScripted)
	assert.Equal(t, 1, s.claimed)
	assert.NotContains(t, steps, "run")
}

func TestWhatOverwrites(t *testing.T) {
	t.Parallel()
	for name, overwrites := range map[string]bool{
		receipt.JobStamp: true, receipt.JobBlank: true, receipt.JobWhole: true, receipt.JobSpots: false,
		receipt.JobPace: false, receipt.JobSave: false, receipt.JobRecheck: false, receipt.JobSpace: false, "x": false,
	} {
		assert.Equal(t, overwrites, job.Overwrites(receipt.Document{Job: name}), name)
	}
}
