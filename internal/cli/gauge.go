package cli

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/gauge/spots"
	"zipstamp/internal/gauge/whole"
	"zipstamp/internal/job"
	"zipstamp/internal/receipt"
	"zipstamp/internal/state"
	"zipstamp/internal/view"
)

func (a *app) gauge() *cobra.Command {
	return a.group("gauge", a.gaugeSpots(), a.gaugeWhole(), a.gaugeSpace(), a.gaugeRestore())
}

func (a *app) gaugeSpots() *cobra.Command {
	t := spotsTest{cardTest: cardTest{onCard: a.onCard()}}
	cmd := a.command("gauge spots", 0, 1, func(cmd *cobra.Command, args []string) error {
		if t.places < 1 || t.places > maxPlaces {
			return &usageError{view.OutOfRange("--places", t.places, 1, maxPlaces)}
		}
		if !cmd.Flags().Changed("seed") {
			t.seed = randomSeed()
		}
		return t.do(cmd.Context(), args, job.One{
			Kind: job.Spots, Fits: t.fits(view.ThenSpots), Unasked: t.screen.Gauging, Run: t.run,
		})
	})
	t.flags(cmd.Flags(), a.streams.Here)
	cmd.Flags().IntVar(&t.places, "places", spots.DefaultPlaces, "")
	cmd.Flags().Uint64Var(&t.seed, "seed", 0, "")
	return cmd
}

// maxPlaces bounds the places; with more, whole takes no longer.
const maxPlaces = 100000

func randomSeed() uint64 {
	var b [8]byte
	_, _ = rand.Read(b[:]) // never fails
	return binary.LittleEndian.Uint64(b[:]) >> 1
}

func randomNonce() (n mark.Nonce) {
	_, _ = rand.Read(n[:]) // never fails
	return n
}

func (a *app) gaugeWhole() *cobra.Command {
	t := wholeTest{cardTest: cardTest{onCard: a.onCard()}}
	cmd := a.command("gauge whole", 0, 1, func(cmd *cobra.Command, args []string) error {
		return t.do(cmd.Context(), args, job.One{
			Kind: job.Whole, Fits: t.fits(view.ThenWhole), Foretell: t.foretell, Run: t.run,
		})
	})
	t.flags(cmd.Flags(), a.streams.Here)
	cmd.Flags().BoolVar(&t.toTheEnd, "to-the-end", false, "")
	cmd.Flags().BoolVar(&t.afresh, "afresh", false, "")
	return cmd
}

// cardTest is a run of a test of which a part of the card may be enough.
type cardTest struct {
	onCard
	part  first
	first int64 // bytes of the card that are tested; 0: all
}

func (t *cardTest) flags(f *pflag.FlagSet, here card.Local) {
	t.onCard.flags(f, here)
	t.part.flag(f)
}

// fits finds out how much of a card is to be tested, in whole sectors.
func (t *cardTest) fits(then string) func(*card.Card) (string, error) {
	return func(c *card.Card) (string, error) {
		n, err := t.part.bytes()
		if n > c.Size {
			err = &usageError{view.FirstTooLarge(t.part.text, c.Name, c.Size)}
		}
		sector := int64(max(c.SectorSize, 512))
		t.first = n / sector * sector
		return then, err
	}
}

// spotsTest is a run of the test of places.
type spotsTest struct {
	cardTest
	places int
	seed   uint64
}

func (s *spotsTest) run(ctx context.Context, t *job.Target) (job.Ended, error) {
	nonce := randomNonce()
	j, err := createJournal(s.who, journal.Head{
		Job: job.Spots.Name, Card: t.Card.Record(), Nonce: nonce, Started: time.Now(),
	})
	if err != nil {
		return job.Ended{}, view.CantSave(s.who.journals().Path(), false, err)
	}
	unfollow := s.follow(t, "", view.SpotsLeft(t.Card.Name))
	rep, restored, err := spots.Test{
		Device: t.Hold, Meter: &s.meter, Nonce: nonce, Seed: s.seed, Places: s.places, First: s.first, Journal: j,
	}.Run(ctx)
	unfollow()
	switch {
	case restored:
		err = errors.Join(err, s.who.as(j.Remove))
	case err == nil:
		s.screen.Say(view.NotAllBack(s.who.short(j.Path())))
		err = j.Close()
	default:
		s.screen.Say(view.NotPutBack(s.who.short(j.Path())))
		err = errors.Join(err, j.Close())
	}
	return tested(job.Spots, t, rep, err)
}

// wholeTest is a run of the test of every block.
type wholeTest struct {
	cardTest
	toTheEnd, afresh bool
}

func (w *wholeTest) run(ctx context.Context, t *job.Target) (job.Ended, error) {
	who := t.Card.Record()
	test := whole.Test{
		Device: t.Hold, Meter: &w.meter, Nonce: randomNonce(), First: w.first, ToTheEnd: w.toTheEnd,
		Begun: t.DeleteSaved,
	}
	_, test.ReadRate = w.history().Rates(t.Card)
	if err := w.carryOn(t, &test); err != nil {
		return job.Ended{}, err
	}
	unfollow := w.follow(t, view.WholeTitle(t.Card, w.first), view.WholeLeft(t.Card.Name))
	nonce := test.Nonce
	if test.Carry != nil {
		nonce = test.Carry.Nonce
	}
	test.Keep = func(p whole.Progress) error {
		return w.who.as(func() error { return whole.Keep(w.who.tests(), who, p) })
	}
	test.Expect = func(e whole.Expectation) { w.shown.Announce(view.Expectation(e)) }
	rep, err := test.Run(ctx)
	unfollow()
	if err == nil {
		if dropped := w.dropProgress(nonce); dropped != nil {
			w.screen.Problem(dropped, w.words)
		}
	}
	return tested(job.Whole, t, rep, err)
}

// forgetAfter is how long the progress of a test is kept that may be of this card, but is not of what is on it now.
const forgetAfter = 60 * 24 * time.Hour

// carryOn looks for a test of this card that was interrupted.
func (w *wholeTest) carryOn(t *job.Target, test *whole.Test) error {
	var found []whole.Kept
	var unusable []error
	_ = w.who.as(func() error { // what can't be read is unusable
		found, unusable = whole.Find(w.who.tests().Path(), t.Card.Record())
		return nil
	})
	for _, err := range unusable {
		w.screen.Say(view.ProgressUnusable(err))
	}
	for _, p := range found {
		still, err := p.Still(t.Hold)
		if err != nil {
			return err
		}
		first := cmp.Or(w.first, t.Card.Size)
		switch {
		case !still && !p.Same && time.Since(p.When) < forgetAfter:
			continue // of another card that says the same of itself
		case !still:
			w.screen.Say(view.Overwritten(t.Card.Name))
		case w.afresh || p.First != first:
			w.screen.Say(view.StartsOver(t.Card.Name, max(p.Head, p.Back)))
		default:
			at, reading := reached(p)
			w.screen.Say(view.CarriesOn(t.Card.Name, at, reading))
			test.Carry = &p.Progress
			return nil
		}
		if err := w.dropProgress(p.Nonce); err != nil {
			return err
		}
	}
	return nil
}

// reached is how far a test came, in bytes, and whether it was reading by then.
func reached(p whole.Kept) (at int64, reading bool) {
	if p.Head == p.First {
		return p.Back, true
	}
	return p.Head, false
}

// foretell says that a test of this card was interrupted, and what will become of it.
func (w *wholeTest) foretell(c *card.Card) {
	var found []whole.Kept
	_ = w.who.as(func() error { // what can't be read, carryOn tells
		found, _ = whole.Find(w.who.tests().Path(), c.Record())
		return nil
	})
	first := cmp.Or(w.first, c.Size)
	for _, p := range found {
		if p.Same {
			at, reading := reached(p)
			w.screen.Say(view.WillCarryOn(c.Name, p.When, at, p.First, reading, w.afresh || p.First != first))
			return
		}
	}
}

func (w *wholeTest) dropProgress(n mark.Nonce) error {
	return w.who.as(func() error { return whole.Drop(w.who.tests(), n) })
}

// createJournal starts a journal with the person's own rights.
func createJournal(who person, head journal.Head) (j *journal.Journal, err error) {
	err = who.as(func() (err error) {
		j, err = journal.Create(who.journals(), head)
		return err
	})
	return j, err
}

// allJournals reads those that are kept.
func allJournals(who person) (all []journal.Pending, err error) {
	err = who.as(func() (err error) {
		all, err = journal.All(who.journals().Path())
		return err
	})
	return all, err
}

// tested is the result of a test; failed is why it did not come to its end.
func tested(k job.Kind, t *job.Target, rep *gauge.Report, failed error) (job.Ended, error) {
	if rep == nil {
		return job.Ended{}, failed
	}
	now := t.Hold.Card()
	e := job.Ended{Receipt: receipt.NewGauge(k.Name, now, rep), Failed: failed}
	e.Sentence = view.GaugeSentence(now.Name, rep, failed)
	e.Result = gaugeResult(&e.Receipt, rep, e.Sentence, failed)
	return e, nil
}

// gaugeResult is the error that the result of a test stands for; nil if the card holds what it should. failed is why
// the test did not come to its end.
func gaugeResult(doc *receipt.Document, rep *gauge.Report, sentence string, failed error) error {
	var stuck *card.StuckError
	if errors.As(failed, &stuck) {
		doc.Gauge.Stuck = &stuck.Offset
	}
	switch {
	case errors.Is(failed, view.ErrInterrupted):
		doc.Verdict = receipt.Interrupted
		return failed
	case rep.Verdict == gauge.Counterfeit, rep.Verdict == gauge.Faulty, rep.Verdict == gauge.Unsteady:
		return &gaugeError{sentence}
	case failed == nil && rep.Verdict == gauge.Inconclusive:
		return &card.IOError{
			Op: "write", Card: doc.Card.Name, Offset: rep.Limit, Err: errors.New("everything from there on fails"),
		}
	}
	return failed
}

// journals is where what is to be put back is kept, tests where the progress of tests is.
func (p person) journals() state.Place { return p.stateFolder("journals") }
func (p person) tests() state.Place    { return p.stateFolder("tests") }
