package cli

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"zipstamp/internal/card"
	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/meter"
	"zipstamp/internal/receipt"
	"zipstamp/internal/stamp"
	"zipstamp/internal/view"
)

// stampOptions are the flags of stamp.
type stampOptions struct {
	published
	yes, unchecked bool
	receipt        string
}

func (a *app) stamp() *cobra.Command {
	var o stampOptions
	cmd := &cobra.Command{
		Use:   "stamp IMAGE CARD",
		Short: "Check an image, write it to a card, and read it back",
		Long: `Stamp checks IMAGE as check does, unpacks it as a stream onto CARD, and reads
every block back from the card. IMAGE may be raw or packed as xz, gzip, zstd,
bzip2 or zip. CARD is a whole block device, a practice card's file, or a plain
file that stands for a card. All that was on the card is lost; stamp shows what
it is, and asks. The first block is written last, so a card whose stamp failed
or was interrupted never looks as if it could start a board.

The settings read_back, repairs and receipts may stand in the configuration file
zipstamp/config.toml, or in ZIPSTAMP_READ_BACK, ZIPSTAMP_REPAIRS and
ZIPSTAMP_RECEIPTS.`,
		Example: `  zipstamp stamp saltmarsh-os.img.xz /dev/sdb
  zipstamp stamp --yes saltmarsh-os.img.xz good.card`,
		Args: takes("an image and a card", 2, 2),
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
			return s.run(cmd.Context(), args[0], args[1])
		},
	}
	f := cmd.Flags()
	o.flags(f)
	f.BoolVar(&o.yes, "yes", false, "don't ask; for scripts")
	f.BoolVar(&o.unchecked, "unchecked", false, "with --yes: go on where there is nothing published to compare")
	f.Bool("no-read-back", false, "don't read the card back; the result says so")
	f.Int("repairs", stamp.DefaultRepairs, "`N`: how often blocks that read back wrong are written again")
	f.StringVar(&o.receipt, "receipt", "", "the `FILE` for the receipt, in place of one in the state folder")
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
	card     *card.Card
	device   card.Device
	draft    *receipt.Draft // nil when it has been kept
}

// run is the story of the command: everything that can be found wrong is found before the card is
// touched.
func (s *stamping) run(ctx context.Context, imagePath, cardPath string) error {
	defer s.close()
	started := time.Now()
	if err := s.prepare(imagePath, cardPath); err != nil {
		return err
	}
	if err := s.confirm(ctx); err != nil {
		return s.untouched(err)
	}
	var m meter.Meter
	stop := s.screen.Follow(&m)
	report, err := s.check(ctx, &m)
	if err == nil && report.Outcome() != check.Mismatched {
		job := stamp.Job{
			Image: s.image, Contents: s.contents, Device: s.device, Meter: &m,
			ReadBack: s.set.readBack, Repairs: s.set.repairs,
			Known: stamp.Known{Seal: report.Seal, Download: report.Download, Image: report.Image},
		}
		if s.image.Once() {
			job.Repairs, job.Algorithms, job.Hold = 0, s.found.Algorithms(), s.hold(&report)
		}
		result, err := job.Run(ctx)
		m.End()
		stop()
		return s.finish(report, result, err, started)
	}
	m.End()
	stop()
	if err != nil {
		return s.untouched(err)
	}
	return s.refuseImage(report)
}

// untouched says what a person who stopped the run wants to know.
func (s *stamping) untouched(err error) error {
	if errors.Is(err, view.ErrInterrupted) {
		s.screen.Say("Nothing was written to %s.", s.card.Name)
	}
	return err
}

func (s *stamping) close() {
	if s.draft != nil {
		s.draft.Discard()
	}
	if s.device != nil {
		s.device.Close()
	}
	if s.image != nil {
		s.image.Close()
	}
}

// prepare finds image and card, holds them against each other, and opens the card and the receipt.
func (s *stamping) prepare(imagePath, cardPath string) (err error) {
	if s.image, s.found, err = s.o.find(imagePath, s.who); err != nil {
		return err
	}
	if s.card, err = card.Find(cardPath); err != nil {
		return err
	}
	if s.card.Is(imagePath) {
		return &card.RefusedError{Card: cardPath, Reasons: []string{"image and card are the same file"}}
	}
	if err := s.refuseOtherFile(); err != nil {
		return err
	}
	if err := s.card.Refusal(); err != nil {
		return err
	}
	if s.contents, err = s.image.Look(s.o.member); err != nil {
		return err
	}
	if need := s.contents.Size.Known(); need > s.card.Size {
		return &view.Hint{Err: &stamp.TooSmallError{Image: need, Card: s.card.Size}, Next: "use a larger card"}
	}
	if s.o.limit == "" {
		s.image.Limit = s.card.Size + stamp.BlockSize // so that it is the card which is found too small
	}
	if err := s.consent(); err != nil {
		return err
	}
	if s.draft, err = s.reserve(); err != nil {
		return &view.Hint{
			Err:  fmt.Errorf("the receipt can't be written, so nothing was started: %w", err),
			Next: "name a place where there is room and that may be written: --receipt FILE",
		}
	}
	s.device, err = s.card.Open()
	return err
}

// refuseOtherFile refuses a plain file that holds something else than a disk: a slip of the keyboard must not
// overwrite a download or a document.
func (s *stamping) refuseOtherFile() error {
	if s.card.Kind != card.Plain {
		return nil
	}
	f, err := image.Open(s.card.Path)
	if err != nil {
		return &card.RefusedError{Card: s.card.Given, Reasons: []string{"it can't be read"}, Err: err}
	}
	defer f.Close()
	what := f.What()
	if f.Packing() != image.RawPacking {
		what = "packed as " + f.Packing()
	}
	if what == "" {
		return nil
	}
	return &card.RefusedError{
		Card:    s.card.Given,
		Reasons: []string{"it is " + what + ", and not a file that stands for a card"},
		Next:    "see that image and card are in the right order; a practice card is made by: zipstamp practice new FILE --claimed 64MB",
	}
}

// consent refuses what needs a person's word where there is no person, and no flag in place of it.
func (s *stamping) consent() error {
	switch {
	case !s.o.yes && !s.screen.Asks():
		return &card.RefusedError{
			Card:    s.card.Given,
			Reasons: []string{"there is no terminal to ask on whether it may be overwritten"},
			Next:    "in a script, say so with --yes",
		}
	case s.o.yes && s.found.Nothing() && !s.o.unchecked:
		return &imageError{&view.Hint{
			Err:  fmt.Errorf("nothing was published to hold %s against, so it was not stamped", s.image.Path),
			Next: "give the published digest (--digest TEXT or --sums FILE), or go without (--unchecked)",
		}}
	}
	return nil
}

func (s *stamping) reserve() (*receipt.Draft, error) {
	if s.o.receipt != "" {
		if s.image.Same(s.o.receipt) || s.card.Is(s.o.receipt) {
			return nil, fmt.Errorf("%s is the image or the card", s.o.receipt)
		}
		return receipt.AtFile(s.o.receipt, s.who.owner)
	}
	base, below := s.who.stateFolder()
	if s.set.receipts != "" {
		base, below = splitExisting(s.set.receipts)
	}
	return receipt.InFolder(base, below, s.who.owner, s.card.Name, time.Now())
}

// confirm shows what will happen, and asks.
func (s *stamping) confirm(ctx context.Context) error {
	if s.o.yes {
		return nil
	}
	s.screen.ShowPlan(view.Plan{Card: s.card, Image: s.image, Contents: s.contents, Published: s.found, Unsure: !s.contents.Recognised})
	yes, err := s.screen.Confirm(ctx, s.card.Name)
	if err == nil && !yes {
		err = &card.RefusedError{Card: s.card.Given, Reasons: []string{"its name was not typed, so nothing was written"}}
	}
	return err
}

// check holds the image against what was published; with nothing published there is nothing to read yet.
func (s *stamping) check(ctx context.Context, m *meter.Meter) (check.Report, error) {
	if s.found.Nothing() || s.image.Once() {
		return check.Report{Path: s.image.Path, Size: s.image.Size, Packing: s.contents.Packing, Member: s.contents.Member}, nil
	}
	start := time.Now()
	defer func() { s.checking = time.Since(start) }()
	r, err := check.Run(ctx, s.image, s.o.member, s.found, m)
	if garbled := s.found.Unexplained(r); err == nil && garbled != nil {
		err = notADigest(garbled)
	}
	return r, err
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
	s.screen.Say("Nothing was written to %s.", s.card.Name)
	return shown{errNotPublished}
}

// finish keeps the receipt and shows the result.
func (s *stamping) finish(report check.Report, result stamp.Result, err error, started time.Time) error {
	doc := receipt.New(s.image, report, s.card, s.device, s.set.repairs, result)
	doc.AddCheck(s.image.Size, s.checking)
	doc.Tool = receipt.Tool{Name: "zipstamp", Version: s.version}
	doc.Started, doc.Ended = started.UTC(), time.Now().UTC()
	doc.Verdict = verdict(result, err)
	doc.Sentence = view.StampSentence(view.FileName(s.image.Path), s.card.Name, result, err)
	doc.Exit = statusOf(err)
	if err != nil {
		doc.Error = err.Error()
	}
	path := s.who.short(s.draft.Path())
	kept := s.draft.Keep(doc)
	s.draft = nil
	if kept != nil {
		path = ""
		if err == nil {
			err = kept
		}
	}
	if s.json {
		s.printJSON(doc)
	} else {
		s.screen.Stamp(view.Stamped{Doc: doc, Report: report, Result: result, Err: err, Receipt: path, ReadBack: s.set.readBack})
	}
	if kept != nil {
		s.screen.Problem(kept, s.words)
	}
	if err != nil {
		return shown{err}
	}
	return nil
}

func verdict(r stamp.Result, err error) receipt.Verdict {
	switch {
	case errors.Is(err, view.ErrInterrupted):
		return receipt.Interrupted
	case err != nil:
		return receipt.Failed
	case r.State == stamp.Verified:
		return receipt.Good
	}
	return receipt.NotReadBack
}
