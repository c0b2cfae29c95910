package cli

import (
	"context"
	"errors"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/sync/errgroup"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/document"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
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

	spots       *receipt.Spots // what was found before the first write
	outcome     *stamp.Outcome // what became of it; nil before that is known
	refused     *stamp.Outcome // of a card that is not stamped because of what was found
	deleteSaved func()         // deletes what an interrupted test has saved of the card, when it is overwritten
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
		t.past = s.pastOf(t.card)
	}
	m.Foresee(func(meter.Reading) (meter.Foreseen, bool) { return s.foresee(left) })
	progress := s.screen.Follow(view.Followed{Meter: m, Title: s.title(left)})
	if s.arrives() {
		progress.Stop()
		progress = s.screen.Follow(s.followed()...)
	}
	report, err := checked()
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

// beginCheck begins the check of an image that lies on this computer, while a person reads the question and the card is
// freed. Other checks begin when their end is waited for.
func (s *stamping) beginCheck(ctx context.Context, m *meter.Meter) (wait func() (check.Report, error)) {
	if _, onDisk := s.load.(*imageLoad); !onDisk {
		return func() (check.Report, error) { return s.check(ctx, m) }
	}
	ctx, stop := context.WithCancelCause(ctx)
	ended := make(chan struct{})
	var report check.Report
	var err error
	go func() {
		defer close(ended)
		report, err = s.check(ctx, m)
	}()
	s.stopCheck = func() {
		stop(errStopped)
		<-ended
	}
	return func() (check.Report, error) {
		<-ended
		return report, err
	}
}

// dryRun checks the image, and shows what would be done.
func (s *stamping) dryRun(ctx context.Context) error {
	var m meter.Meter
	progress := s.screen.Follow(view.Followed{Meter: &m})
	report, err := s.check(ctx, &m)
	m.End()
	progress.Stop()
	switch {
	case err != nil:
		return err
	case s.refuses(report):
		return s.refuseImage(report)
	}
	plan, _ := s.plan()
	return s.planned(s.load.job(), plan, &report)
}

// plan is what will be done, with which cards.
func (s *stamping) plan() (plan view.Plan, cards []*card.Card) {
	plan.Published = s.found
	s.load.show(&plan)
	for _, t := range s.left() {
		l := s.examine(t.card)
		l.Unfinished = s.unfinishedStamp(t.card)
		plan.Cards = append(plan.Cards, l)
		cards = append(cards, t.card)
	}
	return plan, cards
}

// title says what is stamped onto what.
func (s *stamping) title(targets []*target) string {
	var cards []*card.Card
	for _, t := range targets {
		cards = append(cards, t.card)
	}
	return view.StampTitle(s.load.named(), cards)
}

// foresee is how long the stamp will take, while the image is checked.
func (s *stamping) foresee(cards []*target) (f meter.Foreseen, ok bool) {
	for _, t := range cards {
		if one := stamp.Foresee(s.load.need(t), t.past, s.set.readBack); one.Next > f.Next {
			f, ok = one, true
		}
	}
	return f, ok
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
	case len(r.Unread) > 0:
		return view.NotSavedFirst(view.SaveSentence(t.card.Name, s.copy.path, r, nil), &card.IOError{
			Op: "read", Card: t.card.Name, Offset: r.Unread[0].Offset, Err: fault.BadPlace,
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
			Device: s.load.device(t), Meter: &t.meter, Past: t.past, Begun: t.deleteSaved,
			Before: func(ctx context.Context) error { return t.beforeWriting(ctx, s, progress) },
		})
	}
	for i, o := range job.Run(ctx) {
		if l, ok := s.load.(*remoteLoad); ok && is[*image.DamageError](o.Err) {
			o.Err = l.orWhy(o.Err) // what didn't come isn't damaged
		}
		if refused := same[i].refused; refused != nil {
			o = *refused
		}
		same[i].outcome = &o
	}
}

// arrives tells whether the image is downloaded while it is stamped.
func (s *stamping) arrives() bool {
	l, ok := s.load.(*remoteLoad)
	return ok && l.arriving()
}

// followed are the cards; where the image arrives, also its download, and all of the work.
func (s *stamping) followed() (all []view.Followed) {
	cards := s.left()
	for _, t := range cards {
		all = append(all, view.Followed{Name: t.card.Name, Meter: &t.meter})
	}
	if l, ok := s.load.(*remoteLoad); ok && l.arriving() {
		all = append([]view.Followed{{Name: view.TheDownload, Meter: &l.meter}}, all...)
		if l.contents.Size.Certainty != image.Unknown {
			all = append(all, view.Followed{
				Name: view.AllOfIt, Whole: func() meter.Reading { return s.whole(cards) },
			})
		}
	}
	return all
}

// whole is how much of the writing and reading back is done, on all of the cards.
func (s *stamping) whole(cards []*target) meter.Reading {
	r := meter.Reading{Phase: view.AllPhase, Serial: 1, Started: s.started}
	for _, t := range cards {
		need := s.load.need(t)
		r.Total += need
		phases := append(t.meter.Past(), t.meter.Read())
		if s.set.readBack {
			r.Total += need
		}
		for _, p := range phases {
			switch p.Phase {
			case meter.Compare, meter.Write, meter.ReadBack:
				r.Done += min(p.Done-p.Before, need)
			}
		}
	}
	r.Done = min(r.Done, r.Total)
	return r
}

// names are the short names of all cards, as they are typed in.
func (s *stamping) names() string {
	var names []string
	for _, t := range s.targets {
		names = append(names, t.card.Name)
	}
	return strings.Join(names, " ")
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
	if s.o.yes && s.image != nil && s.found.Nothing() && !s.o.unchecked {
		return &imageError{view.NothingPublished(s.image.Path, s.found.NotHere)}
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

// check compares what was downloaded with what was published.
func (s *stamping) check(ctx context.Context, m *meter.Meter) (check.Report, error) {
	start := time.Now()
	report, err := s.load.check(ctx, s, m)
	if len(report.Download) > 0 {
		s.checking = time.Since(start)
	}
	return report, err
}

// refuses tells whether the image is not to be stamped: it is not what was published, or what lies beside it to compare
// with is not certainly meant for it.
func (s *stamping) refuses(r check.Report) bool {
	return r.Outcome() == check.Mismatched ||
		r.Outcome() == check.NothingPublished && !s.found.Nothing() && !s.o.unchecked
}

// refuseImage shows why the image is not stamped.
func (s *stamping) refuseImage(r check.Report) error {
	if s.json {
		s.printJSON(checkDocument{
			document.New(document.Check, statusImage, view.CheckSentence(r)), []checkedImage{checkedAs(r)},
		})
	} else {
		s.screen.Check(r)
	}
	s.screen.Say(view.NothingWritten(s.names()))
	if r.Outcome() == check.NothingPublished {
		s.screen.Say(view.GoWithout)
	}
	return shown{errNotPublished}
}

// finish lets the cards go, keeps the receipts and shows the result.
func (s *stamping) finish(ctx context.Context, report check.Report, out []stamp.Outcome) error {
	var all []concluded
	for i, t := range s.targets {
		all = append(all, s.finishOne(ctx, t, report, out[i]))
	}
	return s.show(all...)
}

// finishOne lets a card go and keeps its receipt.
func (s *stamping) finishOne(ctx context.Context, t *target, report check.Report, o stamp.Outcome) concluded {
	now, dev := t.card, card.Device(nil)
	if t.hold != nil {
		now, dev = t.hold.Card(), t.hold
	}
	doc := s.load.record(t, report, o, now, dev)
	doc.Spots = t.spots
	if t.hold != nil {
		noteLeft(&doc, t.hold.LetGo(context.WithoutCancel(ctx), card.Leaving{
			Eject: s.set.eject && o.Err == nil, PowerOff: s.o.powerOff && o.Err == nil,
		}))
	}
	t.hold = nil
	doc.AddCheck(report.Size, s.checking)
	doc.Verdict = verdict(o.Result, o.Err)
	return t.keep(doc, s.load.sentence(t, now.Name, o), o.Err, o.Err)
}

// describe looks at what is on the card now, for what is to be done next. That it can't be read is no reason to
// complain: it has just been read back.
func describe(t *target, doc *receipt.Document) {
	doc.Card.Beyond = t.hold.Size() - doc.Image.Unpacked
	r, err := card.NewReader(t.hold, nil)
	if err != nil {
		return
	}
	defer r.Close()
	d, err := layout.Describe(r, doc.Image.Unpacked)
	if err != nil {
		return
	}
	doc.Card.DiskID, doc.Card.FileSystems = d.Table.ID, d.FileSystems()
	start := make([]byte, digest.HeadPiece)
	if _, err := r.ReadAt(start, 0); err == nil {
		doc.Image.Table = receipt.TableOf(d.Table, start)
	}
}

func verdict(r stamp.Result, err error) receipt.Verdict {
	if err == nil && r.State != stamp.Verified {
		return receipt.NotReadBack
	}
	return verdictOf(err)
}

// verdictOf is the verdict on a job that can only be done, or not.
func verdictOf(err error) receipt.Verdict {
	switch {
	case errors.Is(err, view.ErrInterrupted):
		return receipt.Interrupted
	case err != nil:
		return receipt.Failed
	}
	return receipt.Good
}
