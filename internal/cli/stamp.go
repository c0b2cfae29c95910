package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zipstamp/internal/card"
	"zipstamp/internal/check"
	"zipstamp/internal/digest"
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
	powerOff  bool
	arrive    int
}

// maxArrive bounds the cards that are waited for; more would be more memory than a small computer has.
const maxArrive = 16

func (a *app) stamp() *cobra.Command {
	var o stampOptions
	cmd := &cobra.Command{
		Use:   "stamp IMAGE [CARD...]",
		Short: "Check an image, write it to cards, and read them back",
		Long: `Stamp checks IMAGE as check does, unpacks it as a stream onto CARD, and reads
every block back from the card. IMAGE may be raw, packed or in an archive.
` + cardNames + `
Without CARD the cards are listed, and one is chosen. With several, all are
written from one unpacking, and each has its own fate and its own receipt.

All that was on the card is lost; stamp shows what it is, and asks. What is
mounted of the card is unmounted first. The first block is written last, so a
card whose stamp failed or was interrupted never looks as if it could start a
board. At the end the card is ejected. Before anything else is written, a few
places of the card are tried and put back, so that a counterfeit which holds too
little is found at once.

The settings read_back, repairs, receipts and eject may stand in the
configuration file zipstamp/config.toml, or in ZIPSTAMP_READ_BACK,
ZIPSTAMP_REPAIRS, ZIPSTAMP_RECEIPTS and ZIPSTAMP_EJECT.`,
		Example: `  zipstamp stamp saltmarsh-os.img.xz /dev/sdb
  zipstamp stamp saltmarsh-os.img.xz next
  zipstamp stamp saltmarsh-os.img.xz --arrive 4
  zipstamp stamp --yes saltmarsh-os.img.xz good.card`,
		Args: takes("an image and cards", 1, 1+maxArrive),
		RunE: func(cmd *cobra.Command, args []string) error {
			who, err := whoRuns()
			if err != nil {
				return err
			}
			set, err := loadSettings(who, cmd.Flags())
			if err != nil {
				return err
			}
			s := &stamping{app: a, o: o, set: set, who: who}
			return s.run(cmd.Context(), args[0], args[1:])
		},
	}
	f := cmd.Flags()
	o.published.flags(f)
	o.handling.flags(f)
	f.BoolVar(&o.unchecked, "unchecked", false, "with --yes: go on where there is nothing published to compare")
	f.BoolVar(&o.noSpots, "no-spots", false, "don't try places of the card first, to find one that holds too little")
	f.Bool("no-read-back", false, "don't read the card back; the result says so")
	f.Int("repairs", stamp.DefaultRepairs, "`N`: how often blocks that read back wrong are written again")
	f.StringVar(&o.receipt, "receipt", "", "the `FILE` for the receipt, or a folder for those of several cards")
	f.IntVar(&o.arrive, "arrive", 0, "stamp the next `N` cards that are put in")
	f.Bool("no-eject", false, "leave the card in the reader ready for use")
	f.BoolVar(&o.powerOff, "power-off", false, "turn off the USB stick or reader at the end")
	return cmd
}

// stamping is a run of stamp.
type stamping struct {
	*app
	o   stampOptions
	set settings
	who person

	image    *image.File
	contents image.Contents
	found    check.Published
	checking time.Duration // how long the check took
	targets  []*target
}

// target is a card of the run.
type target struct {
	card  *card.Card
	typed bool           // its name must be typed, whatever else was said
	hold  *card.Hold     // nil before it is claimed, and after it was let go
	draft *receipt.Draft // nil when it has been kept
	meter meter.Meter

	spots   *receipt.Spots // what was found before
	outcome *stamp.Outcome // of a card that is not stamped because of that
	warning string
	giveUp  func() // what an interrupted test has saved of the card, when it is overwritten
}

// run is the story of the command: everything that can be found wrong is found before a card is
// touched.
func (s *stamping) run(ctx context.Context, imagePath string, cards []string) error {
	defer s.close()
	started := time.Now()
	if err := s.prepare(ctx, imagePath, cards); err != nil {
		return err
	}
	for _, t := range s.targets {
		giveUp, err := s.offerPending(ctx, s.who, t.card, s.o.handling)
		if err != nil {
			return s.untouched(err)
		}
		t.giveUp = giveUp
	}
	if err := s.confirm(ctx); err != nil {
		return s.untouched(err)
	}
	if err := s.claim(ctx); err != nil {
		return s.untouched(err)
	}
	var m *meter.Meter
	if len(s.targets) == 1 {
		m = &s.targets[0].meter // one card's progress goes on where that of the check ends
	} else {
		m = new(meter.Meter)
	}
	progress := s.screen.Follow(view.Followed{Meter: m})
	report, err := s.check(ctx, m)
	if err != nil || report.Outcome() == check.Mismatched {
		m.End()
		progress.Stop()
		if err != nil {
			return s.untouched(err)
		}
		return s.refuseImage(report)
	}
	if len(s.targets) > 1 {
		m.End()
		progress.Stop()
		progress = s.screen.Follow(s.followed()...)
	}
	s.preflight(ctx, progress)
	out := s.stamp(ctx, &report, progress)
	for _, t := range s.targets {
		t.meter.End()
	}
	progress.Stop()
	return s.finish(ctx, report, out, started)
}

// stamp does the work.
func (s *stamping) stamp(ctx context.Context, report *check.Report, progress *view.Progress) []stamp.Outcome {
	job := stamp.Job{
		Image: s.image, Contents: s.contents, ReadBack: s.set.readBack, Repairs: s.set.repairs,
		Known: stamp.Known{Seal: report.Seal, Download: report.Download, Image: report.Image},
	}
	if s.image.Once() {
		job.Repairs, job.Algorithms, job.Hold = 0, s.found.Algorithms(), s.hold(report)
	}
	for _, t := range s.left() {
		name := t.card.Name
		t.hold.Tell(func(m card.Mishap) { progress.Say(view.MishapSentence(name, m)) })
		job.Cards = append(job.Cards, stamp.Target{Device: t.hold, Meter: &t.meter, Begun: t.giveUp})
	}
	var done, out []stamp.Outcome
	s.app.left.is("No card that was being stamped (%s) has a partition table that a board could start from. Stamp again before use.", s.names())
	if len(job.Cards) > 0 {
		done = job.Run(ctx)
	}
	for _, t := range s.targets {
		if t.outcome != nil {
			out = append(out, *t.outcome)
			continue
		}
		out = append(out, done[0])
		done = done[1:]
	}
	return out
}

func (s *stamping) followed() (all []view.Followed) {
	for _, t := range s.targets {
		all = append(all, view.Followed{Name: t.card.Name, Meter: &t.meter})
	}
	return all
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
		s.screen.Say("Nothing was written to %s.", s.names())
	}
	return err
}

func (s *stamping) close() {
	for _, t := range s.targets {
		if t.draft != nil {
			_ = s.who.as(func() error { t.draft.Discard(); return nil })
		}
		if t.hold != nil { // nothing was written: what the kernel has forgotten of it, it may know again
			t.hold.LetGo(context.Background(), card.Leaving{})
		}
	}
	if s.image != nil {
		s.image.Close()
	}
}

// prepare finds image and cards, holds them against each other, and makes room for the receipts.
func (s *stamping) prepare(ctx context.Context, imagePath string, cards []string) (err error) {
	switch {
	case s.o.arrive < 0 || s.o.arrive > maxArrive:
		return &usageError{fmt.Errorf("--arrive is %d; it is from 1 to %d", s.o.arrive, maxArrive)}
	case s.o.yes && len(cards)+s.o.arrive == 0:
		return &usageError{&view.Hint{Err: errors.New("--yes asks nothing, so the card must be named"), Next: "name it; zipstamp cards lists them"}}
	case s.o.receipt != "" && !isFolder(s.o.receipt) && len(cards)+s.o.arrive > 1:
		return &usageError{&view.Hint{Err: errors.New("--receipt names one file, and there are several cards"), Next: "name a folder that is there, or leave it out: then they are kept in the state folder"}}
	}
	if s.image, s.found, err = s.o.find(imagePath, s.who); err != nil {
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
		t := &target{card: c}
		s.targets = append(s.targets, t)
		if err := s.admit(t, imagePath); err != nil {
			return err
		}
	}
	if s.contents, err = s.image.Look(s.o.member); err != nil {
		return err
	}
	room := int64(0)
	for _, t := range s.targets {
		if need := s.contents.Size.Known(); need > t.card.Size {
			tooSmall := &stamp.TooSmallError{Image: need, Card: t.card.Size}
			if len(s.targets) > 1 {
				tooSmall.Name = t.card.Name
			}
			return &view.Hint{Err: tooSmall, Next: "use a larger card"}
		}
		room = max(room, t.card.Size)
	}
	if s.o.limit == "" {
		s.image.Limit = room + stamp.BlockSize // so that it is the card which is found too small
	}
	if err := s.consent(); err != nil {
		return err
	}
	for _, t := range s.targets {
		if t.draft, err = s.reserve(t); err != nil {
			return err
		}
	}
	return nil
}

// admit refuses a card that may not be written.
func (s *stamping) admit(t *target, imagePath string) (err error) {
	if t.card.Is(imagePath) {
		return &view.Refusal{Card: t.card.Given, Why: "image and card are the same file"}
	}
	if t.typed, err = s.app.admit(t.card, s.o.handling); err != nil {
		return err
	}
	return s.apart(t.card, imagePath)
}

// apart refuses a card that is, keeps or carries something that the run reads.
func (s *stamping) apart(c *card.Card, imagePath string) error {
	if imagePath != image.Input {
		if err := c.Apart("the image", imagePath); err != nil {
			return err
		}
	}
	files := slices.Concat(s.o.sums, s.o.keys)
	for _, d := range s.found.Digests {
		if d.From != "" {
			files = append(files, d.From)
		}
	}
	for _, file := range files {
		if err := c.Apart("a file to check the image by", file); err != nil {
			return err
		}
	}
	return nil
}

// consent refuses what needs a person's word where there is no person, and no flag in place of it.
func (s *stamping) consent() error {
	for _, t := range s.targets {
		if err := s.mayAsk(t.card, s.o.handling, t.typed); err != nil {
			return err
		}
	}
	if s.o.yes && s.found.Nothing() && !s.o.unchecked {
		return &imageError{&view.Hint{
			Err:  fmt.Errorf("nothing was published to hold %s against, so it was not stamped", s.image.Path),
			Next: "give the published digest (--digest TEXT or --sums FILE), or go without (--unchecked)",
		}}
	}
	return nil
}

func (s *stamping) reserve(t *target) (*receipt.Draft, error) {
	if named := s.o.receipt; named != "" && s.image.Same(named) {
		return nil, noReceipt(fmt.Errorf("%s is the image", named))
	}
	return s.reserveFor(s.who, s.set, s.o.receipt, receipt.JobStamp, t.card)
}

func isFolder(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.IsDir()
}

// confirm shows what will happen, and asks.
func (s *stamping) confirm(ctx context.Context) error {
	if s.o.yes && !slices.ContainsFunc(s.targets, func(t *target) bool { return t.typed }) {
		return nil
	}
	plan := view.Plan{Image: s.image, Contents: s.contents, Published: s.found, Unsure: !s.contents.Recognised}
	for _, t := range s.targets {
		l := view.Listed{Card: t.card}
		if t.card.Disk != nil {
			l = s.inspect(t.card, nil)
		}
		plan.Cards = append(plan.Cards, l)
	}
	s.screen.ShowPlan(plan)
	yes, err := s.screen.Confirm(ctx, s.names())
	if err == nil && !yes {
		what := "its name was not typed, so nothing was written"
		if len(s.targets) > 1 {
			what = "their names were not typed, so nothing was written"
		}
		err = &view.Refusal{Card: s.names(), Why: what}
	}
	return err
}

// claim frees the cards and takes them. If one can't be had, none is written.
func (s *stamping) claim(ctx context.Context) (err error) {
	for _, t := range s.targets {
		if t.hold, err = s.take(ctx, t.card, s.o.handling, t.typed); err != nil {
			return err
		}
	}
	return nil
}

// check holds the image against what was published; with nothing published there is nothing to read yet.
func (s *stamping) check(ctx context.Context, m *meter.Meter) (check.Report, error) {
	if s.found.Nothing() || s.image.Once() {
		return check.Report{Path: s.image.Path, Size: s.image.Size, Packing: s.contents.Packing, Member: s.contents.Member}, nil
	}
	start := time.Now()
	defer func() { s.checking = time.Since(start) }()
	return check.Run(ctx, s.image, s.o.member, s.found, m)
}

// hold gives what holds an image that came through a pipe against what was published, and keeps the report of it.
func (s *stamping) hold(report *check.Report) func(download, image []digest.Digest) error {
	return func(download, image []digest.Digest) error {
		*report = check.Hold(s.image, s.contents, s.found, download, image)
		if report.Outcome() == check.Mismatched {
			return &imageError{errors.New(strings.TrimRight(view.CheckSentence(*report), "."))}
		}
		return nil
	}
}

// refuseImage shows why the image is not stamped.
func (s *stamping) refuseImage(r check.Report) error {
	if s.json {
		s.printJSON(checkDocument{Check: 1, Images: []checkedImage{checkedAs(r)}, Exit: statusImage})
	} else {
		s.screen.Check(r)
	}
	s.screen.Say("Nothing was written to %s.", s.names())
	return shown{errNotPublished}
}

// finish lets the cards go, keeps the receipts and shows the result.
func (s *stamping) finish(ctx context.Context, report check.Report, out []stamp.Outcome, started time.Time) error {
	var all []view.Stamped
	var worst, unkept error
	for i, t := range s.targets {
		one, kept := s.finishOne(ctx, t, report, out[i], started)
		if kept != nil {
			unkept = kept
		}
		all = append(all, one)
		worst = worse(worst, one.Err)
	}
	switch {
	case !s.json && len(all) == 1:
		s.screen.Stamp(all[0])
	case !s.json:
		s.screen.Stamps(all)
	case len(all) == 1:
		s.printJSON(all[0].Doc)
	default:
		s.printJSON(stampsDocument(all, statusOf(worst)))
	}
	if unkept != nil {
		s.screen.Problem(unkept, s.words)
	}
	if worst != nil {
		return shown{worst}
	}
	return nil
}

// finishOne lets a card go and keeps its receipt. The second error says why that could not be kept.
func (s *stamping) finishOne(ctx context.Context, t *target, report check.Report, o stamp.Outcome, started time.Time) (view.Stamped, error) {
	now := t.hold.Card()
	one := view.Stamped{Report: report, Result: o.Result, Err: o.Err, ReadBack: s.set.readBack}
	doc := receipt.New(s.image, report, now, t.hold, s.set.repairs, o.Result)
	doc.Spots = t.spots
	if o.Err == nil {
		s.describe(t, &doc, &one)
	}
	want := card.Leaving{Eject: s.set.eject && o.Err == nil, PowerOff: s.o.powerOff && o.Err == nil}
	one.Left = t.hold.LetGo(context.WithoutCancel(ctx), want)
	t.hold = nil
	noteLeft(&doc, one.Left)
	doc.AddCheck(s.image.Size, s.checking)
	doc.Verdict = verdict(o.Result, o.Err)
	doc.End(s.tool(), started, time.Now(), view.StampSentence(view.FileName(s.image.Path), now.Name, o.Result, o.Err), statusOf(o.Err), o.Err)
	one.Receipt = s.who.short(t.draft.Path())
	kept := s.who.as(func() error { return t.draft.Keep(doc) })
	t.draft = nil
	if kept != nil {
		one.Receipt = ""
		if one.Err == nil {
			one.Err = kept
		}
	}
	one.Doc = doc
	return one, kept
}

// describe looks at what is on the card now, for what is to be done next. That it can't be read is no reason to complain: it has just been
// read back.
func (s *stamping) describe(t *target, doc *receipt.Document, one *view.Stamped) {
	doc.Card.Beyond = t.hold.Size() - doc.Image.Unpacked
	r, err := card.NewReader(t.hold, nil)
	if err != nil {
		return
	}
	defer r.Close()
	if d, err := layout.Describe(r, doc.Image.Unpacked); err == nil {
		doc.Card.DiskID = d.Table.ID
		one.Contents = &d
		start := make([]byte, digest.HeadPiece)
		if _, err := r.ReadAt(start, 0); err == nil {
			doc.Image.Table = receipt.TableOf(d.Table, start)
		}
	}
}

// stampsDocument is the JSON document of a run with several cards.
func stampsDocument(all []view.Stamped, exit int) any {
	doc := struct {
		Stamps   int                `json:"stamps"` // version of the document
		Sentence string             `json:"sentence"`
		Cards    []receipt.Document `json:"cards"`
		Exit     int                `json:"exit"`
	}{Stamps: 1, Sentence: view.StampsSentence(all), Exit: exit}
	for _, one := range all {
		doc.Cards = append(doc.Cards, one.Doc)
	}
	return doc
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
