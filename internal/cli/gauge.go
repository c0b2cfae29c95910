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
	"zipstamp/internal/meter"
	"zipstamp/internal/receipt"
	"zipstamp/internal/state"
	"zipstamp/internal/view"
)

func (a *app) gauge() *cobra.Command {
	return a.group("gauge", a.gaugeSpots(), a.gaugeWhole(), a.gaugeSpace(), a.gaugeRestore())
}

// gaugeOptions are the flags that the tests of cards share.
type gaugeOptions struct {
	handling
	first   first
	receipt string
}

func (o *gaugeOptions) flags(f *pflag.FlagSet, here card.Local) {
	o.handling.flags(f, here)
	o.first.flag(f)
	receiptFlag(f, &o.receipt)
}

func (a *app) gaugeSpots() *cobra.Command {
	var o gaugeOptions
	var places int
	var seed uint64
	cmd := a.command("gauge spots", 0, 1, func(cmd *cobra.Command, args []string) error {
		if places < 1 || places > maxPlaces {
			return &usageError{view.OutOfRange("--places", places, 1, maxPlaces)}
		}
		if !cmd.Flags().Changed("seed") {
			seed = randomSeed()
		}
		g := &gauging{record: record{app: a}, o: o, job: receipt.JobSpots, keeps: true}
		return g.run(cmd.Context(), args, func(ctx context.Context) (*gauge.Report, error) {
			return g.spots(ctx, places, seed)
		})
	})
	o.flags(cmd.Flags(), a.streams.Here)
	cmd.Flags().IntVar(&places, "places", spots.DefaultPlaces, "")
	cmd.Flags().Uint64Var(&seed, "seed", 0, "")
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
	var o gaugeOptions
	var toTheEnd, afresh bool
	cmd := a.command("gauge whole", 0, 1, func(cmd *cobra.Command, args []string) error {
		g := &gauging{record: record{app: a}, o: o, job: receipt.JobWhole}
		g.foretell = func() { g.foretellCarry(afresh) }
		return g.run(cmd.Context(), args, func(ctx context.Context) (*gauge.Report, error) {
			return g.whole(ctx, toTheEnd, afresh)
		})
	})
	o.flags(cmd.Flags(), a.streams.Here)
	cmd.Flags().BoolVar(&toTheEnd, "to-the-end", false, "")
	cmd.Flags().BoolVar(&afresh, "afresh", false, "")
	return cmd
}

// gauging is a run of a test of a card.
type gauging struct {
	record
	o     gaugeOptions
	job   string
	keeps bool // what is on the card

	card  *card.Card
	typed bool
	first int64 // bytes; 0: all
	hold  *card.Hold
	meter meter.Meter
	shown *view.Progress

	foretell    func() // says before the question what of an earlier test there is; may be nil
	deleteSaved func() // deletes what an interrupted test has saved of the card, when it is overwritten
}

// run is the story of the command.
func (g *gauging) run(
	ctx context.Context, args []string, test func(context.Context) (*gauge.Report, error),
) (err error) {
	defer g.close()
	if err := g.prepare(ctx, args); err != nil {
		return err
	}
	if g.o.dryRun {
		if g.foretell != nil {
			g.foretell()
		}
		return g.planned(g.then())
	}
	deleteSaved := func() {}
	if !g.keeps {
		if deleteSaved, err = g.offerPending(ctx, g.who, g.card, g.o.handling); err != nil {
			return err
		}
	}
	if g.foretell != nil {
		g.foretell()
	}
	if err := g.confirm(ctx); err != nil {
		return err
	}
	if g.hold, err = g.take(ctx, g.card, g.o.handling, g.typed); err != nil {
		return err
	}
	g.deleteSaved = deleteSaved
	if g.keeps {
		if err := g.settlePending(); err != nil {
			return err
		}
	}
	rep, err := test(ctx)
	return g.finish(ctx, rep, err)
}

func (g *gauging) close() {
	g.discard()
	if g.hold != nil {
		g.hold.LetGo(context.Background(), card.Leaving{})
	}
}

// prepare finds the card, and all that can be wrong before it is touched.
func (g *gauging) prepare(ctx context.Context, args []string) (err error) {
	if err := g.begin(nil); err != nil {
		return err
	}
	if len(args) == 0 && g.o.yes {
		return &usageError{view.ErrNoCardNamed}
	}
	g.unattended = g.o.yes
	if g.card, err = g.pickOrChoose(ctx, args); err != nil {
		return err
	}
	if g.typed, err = g.admit(g.card, g.o.handling); err != nil {
		return err
	}
	if g.first, err = firstOf(g.o.first, g.card); err != nil {
		return err
	}
	if g.asks() {
		if err := g.mayAsk(g.card, g.o.handling, g.typed); err != nil {
			return err
		}
	}
	if g.o.dryRun {
		return nil
	}
	return g.reserve(g.o.receipt, g.job, g.card)
}

// planned ends a dry run.
func (g *gauging) planned(then string) error {
	return g.app.planned(g.job, view.Plan{Cards: []view.Listed{g.examine(g.card)}, Then: then, Keeps: g.keeps}, nil)
}

// then is what will be done with the card, in words.
func (g *gauging) then() string {
	return map[string]string{
		receipt.JobSpots: view.ThenSpots, receipt.JobWhole: view.ThenWhole, receipt.JobPace: view.ThenPace,
	}[g.job]
}

// asks tells whether a person has to be asked: when what is on the card will be lost, or something of it is in use.
func (g *gauging) asks() bool {
	return !g.keeps || g.typed || inUse(g.card)
}

// firstOf is how much of a card is to be tested, in whole sectors; 0 for all of it.
func firstOf(f first, c *card.Card) (int64, error) {
	n, err := f.bytes()
	if n > c.Size {
		err = &usageError{view.FirstTooLarge(f.text, c.Name, c.Size)}
	}
	sector := int64(max(c.SectorSize, 512))
	return n / sector * sector, err
}

// confirm shows what will happen and asks, where that is needed.
func (g *gauging) confirm(ctx context.Context) error {
	if !g.asks() {
		g.screen.Gauging(g.card)
		return nil
	}
	if g.o.yes && !g.typed {
		return nil
	}
	return g.confirmCard(ctx, g.card, g.keeps, g.then())
}

// confirmCard shows the card and what will be done to it, and asks for its name.
func (a *app) confirmCard(ctx context.Context, c *card.Card, keeps bool, then string) error {
	a.screen.ShowPlan(view.Plan{Cards: []view.Listed{a.examine(c)}, Then: then, Keeps: keeps})
	yes, err := a.screen.Confirm(ctx, c)
	if err == nil && !yes {
		err = view.NotTyped(c.Name, false)
	}
	return err
}

// follow shows the progress from now on.
func (g *gauging) follow() {
	title := ""
	if g.job == receipt.JobWhole {
		title = view.WholeTitle(g.card, g.first)
	}
	g.shown = g.screen.Follow(view.Followed{Meter: &g.meter, Title: title})
	name := g.card.Name
	g.left.is(map[string]string{
		receipt.JobSpots: view.SpotsLeft(name), receipt.JobWhole: view.WholeLeft(name),
		receipt.JobBlank: view.BlankLeft(name), receipt.JobPace: view.PaceLeft(name),
		receipt.JobSave: view.SaveLeft(name),
	}[g.job])
	g.hold.Tell(func(m card.Mishap) { g.shown.Say(view.MishapSentence(name, m)) })
}

func (g *gauging) unfollow() {
	g.meter.End()
	g.shown.Stop()
	g.hold.Tell(nil)
}

// spots does the test of spots.
func (g *gauging) spots(ctx context.Context, places int, seed uint64) (*gauge.Report, error) {
	nonce := randomNonce()
	j, err := createJournal(g.who, journal.Head{Job: g.job, Card: g.card.Record(), Nonce: nonce, Started: time.Now()})
	if err != nil {
		return nil, view.CantSave(g.who.journals().Path(), false, err)
	}
	g.follow()
	rep, restored, err := spots.Test{
		Device: g.hold, Meter: &g.meter, Nonce: nonce, Seed: seed, Places: places, First: g.first, Journal: j,
	}.Run(ctx)
	g.unfollow()
	if restored {
		return rep, errors.Join(err, g.who.as(j.Remove))
	}
	if err == nil {
		g.screen.Say(view.NotAllBack(g.who.short(j.Path())))
	} else {
		g.screen.Say(view.NotPutBack(g.who.short(j.Path())))
	}
	return rep, errors.Join(err, j.Close())
}

// whole does the test of every block.
func (g *gauging) whole(ctx context.Context, toTheEnd, afresh bool) (*gauge.Report, error) {
	who := g.card.Record()
	w := whole.Test{
		Device: g.hold, Meter: &g.meter, Nonce: randomNonce(), First: g.first, ToTheEnd: toTheEnd, Begun: g.deleteSaved,
	}
	_, w.ReadRate = g.ratesOf(g.card)
	if err := g.carryOn(&w, who, afresh); err != nil {
		return nil, err
	}
	g.follow()
	nonce := w.Nonce
	if w.Carry != nil {
		nonce = w.Carry.Nonce
	}
	w.Keep = func(p whole.Progress) error {
		return g.who.as(func() error { return whole.Keep(g.who.tests(), who, p) })
	}
	w.Expect = func(e whole.Expectation) { g.shown.Announce(view.Expectation(e)) }
	rep, err := w.Run(ctx)
	g.unfollow()
	if err == nil {
		if dropped := g.dropProgress(nonce); dropped != nil {
			g.screen.Problem(dropped, g.words)
		}
	}
	return rep, err
}

// forgetAfter is how long the progress of a test is kept that may be of this card, but is not of what is on it now.
const forgetAfter = 60 * 24 * time.Hour

// carryOn looks for a test of this card that was interrupted.
func (g *gauging) carryOn(w *whole.Test, who card.Record, afresh bool) error {
	var found []whole.Kept
	var unusable []error
	_ = g.who.as(func() error { // what can't be read is unusable
		found, unusable = whole.Find(g.who.tests().Path(), who)
		return nil
	})
	for _, err := range unusable {
		g.screen.Say(view.ProgressUnusable(err))
	}
	for _, p := range found {
		still, err := p.Still(g.hold)
		if err != nil {
			return err
		}
		first := w.First
		if first == 0 {
			first = g.card.Size
		}
		switch {
		case !still && !p.Same && time.Since(p.When) < forgetAfter:
			continue // of another card that says the same of itself
		case !still:
			g.screen.Say(view.Overwritten(g.card.Name))
		case afresh || p.First != first:
			g.screen.Say(view.StartsOver(g.card.Name, max(p.Head, p.Back)))
		default:
			at, reading := p.Head, p.Head == p.First
			if reading {
				at = p.Back
			}
			g.screen.Say(view.CarriesOn(g.card.Name, at, reading))
			w.Carry = &p.Progress
			return nil
		}
		if err := g.dropProgress(p.Nonce); err != nil {
			return err
		}
	}
	return nil
}

// foretellCarry says that a test of this card was interrupted, and what will become of it.
func (g *gauging) foretellCarry(afresh bool) {
	var found []whole.Kept
	_ = g.who.as(func() error { // what can't be read, carryOn tells
		found, _ = whole.Find(g.who.tests().Path(), g.card.Record())
		return nil
	})
	first := cmp.Or(g.first, g.card.Size)
	for _, p := range found {
		if p.Same {
			at, reading := p.Head, p.Head == p.First
			if reading {
				at = p.Back
			}
			g.screen.Say(view.WillCarryOn(g.card.Name, p.When, at, p.First, reading, afresh || p.First != first))
			return
		}
	}
}

func (g *gauging) dropProgress(n mark.Nonce) error {
	return g.who.as(func() error { return whole.Drop(g.who.tests(), n) })
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

// finish lets the card go, keeps the receipt and shows the result.
func (g *gauging) finish(ctx context.Context, rep *gauge.Report, failed error) error {
	if rep == nil {
		return failed
	}
	now := g.hold.Card()
	doc := receipt.NewGauge(g.job, now, rep)
	g.letGo(ctx, &doc, card.Leaving{})
	sentence := view.GaugeSentence(now.Name, rep, failed)
	return g.conclude(doc, sentence, failed, gaugeResult(&doc, rep, sentence, failed))
}

// letGo lets the card go, and notes in its receipt how.
func (g *gauging) letGo(ctx context.Context, doc *receipt.Document, how card.Leaving) {
	noteLeft(doc, g.hold.LetGo(context.WithoutCancel(ctx), how))
	g.hold = nil
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
