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

// scripted is a session with a practice card, which notes what it is asked, and fails at a step.
type scripted struct {
	t     *testing.T
	card  *card.Card
	typed bool
	fails string // the step

	steps   []string
	hold    *card.Hold
	deleted bool // what a test had saved
	left    card.Left
	kept    *job.Ended
}

var errScripted = errors.New("so it was written")

func (s *scripted) step(name string) error {
	s.steps = append(s.steps, name)
	if name == s.fails {
		return errScripted
	}
	return nil
}

func (s *scripted) Find(context.Context) (*card.Card, error) { return s.card, s.step("find") }

func (s *scripted) Admit(*card.Card) (bool, error) { return s.typed, s.step("admit") }

func (s *scripted) MayAsk(*card.Card, bool) error { return s.step("may ask") }

func (s *scripted) Reserve(job.Kind, *card.Card) error { return s.step("reserve") }

func (s *scripted) Discard() { _ = s.step("discard") }

func (s *scripted) Plan(job.Kind, *card.Card, string) error { return s.step("plan") }

func (s *scripted) Offer(context.Context, *card.Card) (func(), error) {
	return func() { s.deleted = true }, s.step("offer")
}

func (s *scripted) Ask(context.Context, job.Kind, *card.Card, string) error { return s.step("ask") }

func (s *scripted) Claim(ctx context.Context, c *card.Card, _ bool) (*card.Hold, error) {
	if err := s.step("claim"); err != nil {
		return nil, err
	}
	var err error
	s.hold, err = c.Claim(ctx, card.Freeing{})
	require.NoError(s.t, err)
	return s.hold, nil
}

func (s *scripted) PutBack(*card.Hold) error { return s.step("put back") }

func (s *scripted) Conclude(e job.Ended, left card.Left) error {
	s.kept, s.left = &e, left
	return s.step("conclude")
}

// do does a job of a kind, and tells the steps that it took.
func (s *scripted) do(j job.Job) (steps string, err error) {
	s.steps, s.hold, s.kept = nil, nil, nil
	j.Fits = func(context.Context, *card.Card) (string, error) { return "then", s.step("fits") }
	j.Foretell = func(*card.Card) { _ = s.step("foretell") }
	j.Unasked = func(*card.Card) { _ = s.step("unasked") }
	j.Run = func(_ context.Context, t job.Taken) (job.Ended, error) {
		t.DeleteSaved()
		return job.Ended{Sentence: "done"}, s.step("run")
	}
	err = job.Do(s.t.Context(), s, j)
	if s.hold != nil { // it can be had again
		h, err := s.card.Claim(context.Background(), card.Freeing{})
		require.NoError(s.t, err, "the card was let go")
		require.NoError(s.t, h.Close())
	}
	return strings.Join(s.steps, ", "), err
}

func session(t *testing.T) *scripted {
	c, _ := cardtest.Make(t, t.TempDir(), practice.Spec{Claimed: 1 << 20}, nil)
	return &scripted{t: t, card: c}
}

func TestOrderOfAJob(t *testing.T) {
	t.Parallel()
	for name, c := range map[string]struct {
		job   job.Job
		typed bool
		steps string
	}{
		"what overwrites asks": {job.Job{Kind: job.Blank}, false,
			"find, admit, fits, may ask, reserve, offer, foretell, ask, claim, run, conclude, discard"},
		"agreed": {job.Job{Kind: job.Whole, Agreed: true}, false,
			"find, admit, fits, may ask, reserve, offer, foretell, claim, run, conclude, discard"},
		"agreed, but to be typed": {job.Job{Kind: job.Stamp, Agreed: true}, true,
			"find, admit, fits, may ask, reserve, offer, foretell, ask, claim, run, conclude, discard"},
		"what keeps all doesn't ask": {job.Job{Kind: job.Spots}, false,
			"find, admit, fits, reserve, foretell, unasked, claim, put back, run, conclude, discard"},
		"unless the name must be typed": {job.Job{Kind: job.Save}, true,
			"find, admit, fits, may ask, reserve, foretell, ask, claim, put back, run, conclude, discard"},
		"a dry run": {job.Job{Kind: job.Blank, DryRun: true, Agreed: true}, true,
			"find, admit, fits, may ask, foretell, plan"},
		"restoring keeps no receipt": {job.Job{Kind: job.Restore}, false,
			"find, admit, fits, foretell, unasked, claim, run"},
		"what only reads takes nothing": {job.Job{Kind: job.Recheck}, false,
			"find, fits, reserve, foretell, unasked, run, conclude, discard"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			s := session(t)
			s.typed = c.typed
			steps, err := s.do(c.job)
			require.NoError(t, err)
			assert.Equal(t, c.steps, steps)
			assert.Equal(t, c.job.Saved == job.Offered && !c.job.DryRun, s.deleted)

			// after an error at a step nothing more is done, but what was taken is given back
			all := strings.Split(steps, ", ")
			for i, step := range all {
				if slices.Contains([]string{"discard", "foretell", "unasked"}, step) {
					continue
				}
				s.fails = step
				steps, err := s.do(c.job)
				assert.ErrorIs(t, err, errScripted, step)
				want := slices.Clone(all[:i+1])
				if at := slices.Index(all, "reserve"); at >= 0 && i > at {
					want = append(want, "discard")
				}
				assert.Equal(t, strings.Join(want, ", "), steps)
				assert.Equal(t, step == "conclude", s.kept != nil)
			}
		})
	}
}

// TestResultsOfAJob come to the session as the work gave them.
func TestResultsOfAJob(t *testing.T) {
	t.Parallel()
	s := session(t)
	_, err := s.do(job.Job{Kind: job.Pace})
	require.NoError(t, err)
	assert.Equal(t, "done", s.kept.Sentence)
	assert.Equal(t, card.Left{}, s.left)
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
