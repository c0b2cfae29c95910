package cli

import (
	"context"
	"errors"
	"os"
	"slices"
	"sync"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/check"
	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/image"
	"zipstamp/internal/meter"
	"zipstamp/internal/receipt"
	"zipstamp/internal/stamp"
	"zipstamp/internal/view"
)

// stampOptions are the flags of stamp.
type stampOptions struct {
	published
	handling
	unchecked bool
	noSpots   bool
	receipt   string
	discard   bool // what is beyond the image
	powerOff  bool
	saveFirst string // the file into which the card is copied before it is overwritten
	arrive    int
	plain     bool // the image may come by http

	incomplete bool // the image may be a copy of a card in which something is missing
}

// maxArrive bounds the cards that are waited for; more would be more memory than a small computer has.
const maxArrive = 16

func (a *app) stamp() *cobra.Command {
	var o stampOptions
	cmd := a.command("stamp", 1, 1+maxArrive, func(cmd *cobra.Command, args []string) error {
		s := &stamping{record: record{app: a}, o: o, load: a.loadOf(args[0], o.plain)}
		if err := s.begin(cmd.Flags()); err != nil {
			return err
		}
		if len(args) == 2 {
			if err := s.swapped(args[0], args[1], view.ImageFirst); err != nil {
				return err
			}
		}
		return s.run(cmd.Context(), args[1:])
	})
	f := cmd.Flags()
	o.published.flags(f)
	o.handling.flags(f, a.streams.Here)
	f.BoolVar(&o.unchecked, "unchecked", false, "")
	f.BoolVar(&o.incomplete, "incomplete", false, "")
	f.BoolVar(&o.noSpots, "no-spots", false, "")
	f.Bool("no-read-back", false, "")
	f.Bool("write-all", false, "")
	f.BoolVar(&o.discard, "discard-rest", false, "")
	f.Int("repairs", stamp.DefaultRepairs, "")
	receiptFlag(f, &o.receipt)
	f.IntVar(&o.arrive, "arrive", 0, "")
	noEjectFlag(f)
	f.BoolVar(&o.plain, "plain-http", false, "")
	f.BoolVar(&o.powerOff, "power-off", false, "")
	f.StringVar(&o.saveFirst, "save-first", "", "")
	return cmd
}

// stamping is a run of stamp.
type stamping struct {
	record // what the cards' own records begin with
	o      stampOptions

	load     load
	image    *image.File // nil where no file was downloaded
	found    check.Published
	copy     *copying      // of the card, before it is overwritten; nil: none is made
	checking time.Duration // how long the check took

	statesMu sync.Mutex
	states   map[*target]view.CardState

	stopCheck func() // ends a check that is under way; nil: none was begun
	targets   []*target
	release   func() // of what the load holds; nil: nothing
}

// target is a card of the run.
type target struct {
	record
	card  *card.Card
	typed bool       // its name must be typed, whatever else was said
	hold  *card.Hold // nil before it is claimed, and after it was let go
	past  *stamp.Past
	meter meter.Meter

	spots       *receipt.Spots   // what was found before the first write
	outcome     *stamp.Outcome   // what became of it; nil before that is known
	refused     *stamp.Outcome   // of a card that is not stamped because of what was found
	stale       *journal.Journal // of places that were tried and not put back, before it is overwritten; nil: none
	deleteSaved func()           // deletes what an interrupted test has saved of the card, when it is overwritten
}

// run is the story of the command: everything that can be found wrong is found before a card is
// touched.
func (s *stamping) run(ctx context.Context, cards []string) error {
	defer s.close()
	if err := s.prepare(ctx, cards); err != nil {
		return err
	}
	if s.o.dryRun {
		return s.dryRun(ctx)
	}
	for _, t := range s.left() {
		deleteSaved, err := s.offerPending(ctx, s.who, t.card, s.o.handling)
		if err != nil {
			return s.untouched(err)
		}
		t.deleteSaved = deleteSaved
	}
	m := new(meter.Meter)
	if len(s.targets) == 1 {
		m = &s.targets[0].meter // one card's progress goes on where that of the check ends
	}
	checked := s.beginCheck(ctx, m)
	if err := s.confirm(ctx); err != nil {
		return s.untouched(err)
	}
	if err := s.claim(ctx); err != nil {
		return s.untouched(err)
	}
	left := s.left()
	for _, t := range left {
		t.past = s.pastOf(t.card, s.image)
	}
	m.Foresee(func(meter.Reading) (meter.Foreseen, bool) { return s.foresee(left) })
	progress := s.screen.Follow(view.Followed{Meter: m, Title: s.title(left)})
	if s.arrives() {
		progress.Stop()
		progress = s.screen.Follow(s.followed()...)
	}
	report, err := checked()
	if err == nil {
		err = s.refit(report)
	}
	if err != nil || s.refuses(report) {
		m.End()
		progress.Stop()
		if err != nil {
			return s.untouched(err)
		}
		return s.refuseImage(report)
	}
	if len(s.targets) > 1 && !s.arrives() {
		m.End()
		progress.Stop()
		progress = s.screen.Follow(s.followed()...)
	}
	if s.copy != nil {
		if err := s.saveFirst(ctx, progress); err != nil {
			s.targets[0].meter.End()
			progress.Stop()
			return s.untouched(err)
		}
	}
	out := s.stamp(ctx, &report, progress)
	for _, t := range s.targets {
		t.meter.End()
	}
	progress.Stop()
	return s.finish(ctx, report, out)
}

// saveFirst copies the card before it is overwritten. A copy that is not whole is none.
func (s *stamping) saveFirst(ctx context.Context, progress *view.Progress) error {
	t := s.targets[0]
	s.app.left.is(view.TryLeft(s.names()))
	r, err := s.copy.run(ctx, s.who, t.hold, t.card, &t.meter)
	switch {
	case errors.Is(err, view.ErrInterrupted):
		return err
	case err != nil:
		return view.NotSavedFirst(view.SaveSentence(t.card.Name, s.copy.path, r, err), err)
	case len(r.Unread)+len(r.Unsteady) > 0:
		return view.NotSavedFirst(view.SaveSentence(t.card.Name, s.copy.path, r, nil), &card.IOError{
			Op: "read", Card: t.card.Name, Offset: append(r.Unread, r.Unsteady...)[0].Offset, Err: fault.BadPlace,
		})
	}
	progress.Say(view.SaveSentence(t.card.Name, s.copy.path, r, nil))
	return nil
}

// atOnce is how many streams of different cards are made side by side: each has memory of its own.
const atOnce = 4

// stamp does the work. Cards that are to be the same are written from one stream, and others side by side.
func (s *stamping) stamp(ctx context.Context, report *check.Report, progress *view.Progress) []stamp.Outcome {
	for _, t := range s.left() {
		name := t.card.Name
		t.hold.Tell(func(m card.Mishap) { progress.Say(view.MishapSentence(name, m)) })
	}
	s.app.left.is(view.NothingWritten(s.names()))
	var groups errgroup.Group
	groups.SetLimit(atOnce)
	for left := s.left(); len(left) > 0; {
		source := s.load.source(left[0])
		var same []*target
		left = slices.DeleteFunc(left, func(t *target) bool {
			if s.load.source(t) != source {
				return false
			}
			same = append(same, t)
			return true
		})
		groups.Go(func() error {
			s.stampSame(ctx, source, same, report, progress)
			return nil
		})
	}
	_ = groups.Wait() // each card has its own outcome
	var out []stamp.Outcome
	for _, t := range s.targets {
		out = append(out, *t.outcome)
	}
	return out
}

// stampSame writes a source to cards.
func (s *stamping) stampSame(
	ctx context.Context, source stamp.Source, same []*target, report *check.Report, progress *view.Progress,
) {
	job := stamp.Job{
		Source: source, ReadBack: s.set.readBack, Repairs: s.set.repairs, WriteAll: s.set.writeAll,
		DiscardRest: s.o.discard,
		Known:       stamp.Known{Seal: report.Seal, Download: report.Download, Image: report.Image},
	}
	s.load.complete(&job, report)
	for _, t := range same {
		job.Cards = append(job.Cards, stamp.Target{
			Device: s.load.device(t), Meter: &t.meter, Past: t.past, Begun: t.overwritten,
			Before: func(ctx context.Context) error { return t.beforeWriting(ctx, s, progress) },
			Judged: func() bool { return t.spots != nil && t.spots.Real > 0 },
			Probe:  !s.o.noSpots, Need: s.load.need(t),
		})
	}
	for i, o := range job.Run(ctx) {
		if l, ok := s.load.(*remoteLoad); ok && is[*image.DamageError](o.Err) {
			o.Err = l.orWhy(o.Err) // what didn't come isn't damaged
			l.damaged = l.damaged || is[*image.DamageError](o.Err)
		}
		if refused := same[i].refused; refused != nil {
			o = *refused
		}
		if t := same[i]; o.Err == nil && t.spots != nil && t.spots.Real > 0 && !s.load.knownFake(t) {
			o.Err = &stamp.CounterfeitError{Holds: t.spots.Real, Claimed: t.card.Size}
		}
		same[i].outcome = &o
	}
}

// untouched says what a person who stopped the run wants to know.
func (s *stamping) untouched(err error) error {
	if errors.Is(err, view.ErrInterrupted) {
		s.screen.Say(view.NothingWritten(s.names()))
	}
	return err
}

func (s *stamping) close() {
	if s.stopCheck != nil {
		s.stopCheck()
	}
	for _, t := range s.targets {
		t.discard()
		if t.stale != nil {
			_ = t.stale.Close() // for gauge restore
		}
		if t.hold != nil { // nothing was written: what the kernel has forgotten of it, it may know again
			t.hold.LetGo(context.Background(), card.Leaving{})
		}
	}
	if s.image != nil {
		s.image.Close()
	}
	if s.release != nil {
		s.release()
	}
}

// prepare finds image and cards, checks that they fit together, and makes room for the receipts.
func (s *stamping) prepare(ctx context.Context, cards []string) (err error) {
	switch {
	case s.o.arrive < 0 || s.o.arrive > maxArrive:
		return &usageError{view.OutOfRange("--arrive", s.o.arrive, 1, maxArrive)}
	case (s.o.yes || s.o.dryRun) && len(cards)+s.o.arrive == 0:
		return &usageError{view.ErrNoCardNamed}
	case s.o.receipt != "" && !isFolder(s.o.receipt) && len(cards)+s.o.arrive > 1:
		return &usageError{view.ErrOneReceipt}
	}
	if err := s.load.open(ctx, s); err != nil {
		return err
	}
	if len(s.found.Garbled) > 0 { // nothing can be compared with it
		return notADigest(s.found.Garbled[0])
	}
	s.unattended = s.o.yes
	picked, err := s.pickAll(ctx, cards, s.o.arrive)
	if err != nil {
		return err
	}
	for _, c := range picked {
		t := &target{record: s.record, card: c}
		s.targets = append(s.targets, t)
		if err := s.admit(t); err != nil {
			return err
		}
	}
	if s.o.saveFirst != "" {
		if len(s.targets) > 1 {
			return &usageError{view.ErrOneCopy}
		}
		s.copy = &copying{path: s.o.saveFirst}
		if err := s.copy.prepare(s.targets[0].card); err != nil {
			return err
		}
	}
	room := int64(0)
	for _, t := range s.targets {
		room = max(room, t.card.Size)
	}
	if err := s.load.look(ctx, s, room); err != nil {
		return err
	}
	if err := s.leaveOut(); err != nil {
		return err
	}
	if err := s.consent(); err != nil {
		return err
	}
	if s.o.dryRun {
		return nil
	}
	for _, t := range s.targets {
		if named := s.o.receipt; named != "" && s.image != nil && s.image.Same(named) {
			return view.NoRoomForReceipt(view.IsTheImage(named))
		}
		if err := t.reserve(s.o.receipt, s.load.job(), t.card); err != nil {
			return err
		}
	}
	return nil
}

// admit refuses a card that may not be written.
func (s *stamping) admit(t *target) (err error) {
	if s.image != nil && t.card.Is(s.image.Path) {
		return view.SameFile(t.card.Given)
	}
	if t.typed, err = s.app.admit(t.card, s.o.handling); err != nil {
		return err
	}
	return s.apart(t.card)
}

// apart refuses a card that is, keeps or carries something that the run reads.
func (s *stamping) apart(c *card.Card) error {
	if s.image != nil && s.image.Path != image.Input {
		if err := c.Apart(view.TheImage, s.image.Path); err != nil {
			return err
		}
	}
	files := slices.Concat(s.o.sums, s.o.keys)
	for _, d := range s.found.Digests {
		if d.Sums != nil {
			files = append(files, d.From)
		}
	}
	for _, file := range files {
		if err := c.Apart(view.TheSumsOrAKeys, file); err != nil {
			return err
		}
	}
	return nil
}

// consent refuses what needs a person's word where there is no person, and no flag in place of it.
func (s *stamping) consent() error {
	for _, t := range s.left() {
		if err := s.mayAsk(t.card, s.o.handling, t.typed); err != nil {
			return err
		}
	}
	if c := s.found.Copy; c != nil && !c.Whole() && !s.o.incomplete {
		return &imageError{view.IncompleteCopy(s.image.Path, c)}
	}
	if s.o.yes && s.image != nil && s.found.Nothing() && !s.o.unchecked {
		return &imageError{view.NothingPublished(s.image.Path, s.found.NotHere)}
	}
	if l := s.found.Lapse(); l != nil {
		if s.refusesLapse(l) {
			return &imageError{view.LapseRefused(l)}
		}
		s.screen.Say(view.Lapsed(l))
	}
	return nil
}

func isFolder(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir()
}

// confirm shows what will happen, and asks.
func (s *stamping) confirm(ctx context.Context) error {
	if s.o.yes && !slices.ContainsFunc(s.left(), func(t *target) bool { return t.typed }) {
		return nil
	}
	plan, cards := s.plan()
	s.screen.ShowPlan(plan)
	yes, err := s.screen.Confirm(ctx, cards...)
	if err == nil && !yes {
		err = view.NotTyped(s.names(), len(cards) > 1)
	}
	return err
}

// claim frees the cards and takes them. If one can't be had, none is written.
func (s *stamping) claim(ctx context.Context) (err error) {
	for _, t := range s.left() {
		if t.hold, err = s.take(ctx, t.card, s.o.handling, t.typed); err != nil {
			return err
		}
	}
	return nil
}
