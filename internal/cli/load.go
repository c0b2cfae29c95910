package cli

import (
	"cmp"
	"context"
	"errors"

	"zipstamp/internal/blank"
	"zipstamp/internal/card"
	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/job"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
	"zipstamp/internal/receipt"
	"zipstamp/internal/stamp"
	"zipstamp/internal/view"
)

// load is what a run of stamping puts onto cards: an image, or a file system with loose files.
type load interface {
	kind() job.Kind
	named() string // what is written, for people
	// open opens what was downloaded and finds what was published for it.
	open(ctx context.Context, s *stamping) error
	// look finds out what it is; room is the size of the largest card, bytes.
	look(ctx context.Context, s *stamping, room int64) error
	// fit sees whether it goes onto a card. The error says why it doesn't.
	fit(t *target) error
	need(t *target) int64     // how many bytes of a card must be real
	knownFake(t *target) bool // the card is known to hold less than it claims, and used as far as it is real
	show(p *view.Plan)
	check(ctx context.Context, s *stamping, m *meter.Meter) (check.Report, error)
	// source is what is written to a card; cards with the same source are written from one stream.
	source(t *target) stamp.Source
	// complete adds to the job of a source what else is to be done with it.
	complete(job *stamp.Job, report *check.Report)
	device(t *target) card.Device // the card, or the part of it that is used
	// record is the receipt of a card.
	record(t *target, report check.Report, o stamp.Outcome, now *card.Card, dev card.Device) receipt.Document
	sentence(t *target, name string, o stamp.Outcome) string
}

// imageLoad is an image that is stamped.
type imageLoad struct {
	s        *stamping
	path     string
	contents image.Contents
	from     stamp.Source
	atLeast  int64 // bytes that were unpacked, where there are more; 0: not known
}

func (l *imageLoad) kind() job.Kind { return job.Stamp }

func (l *imageLoad) named() string { return view.FileName(l.s.image.Path) }

func (l *imageLoad) open(_ context.Context, s *stamping) (err error) {
	if err := s.notSums(l.path); err != nil {
		return err
	}
	l.s = s
	s.image, s.found, err = s.o.find(l.path, s.who)
	return err
}

func (l *imageLoad) look(_ context.Context, s *stamping, room int64) (err error) {
	if l.contents, err = s.image.Look(s.o.member); err != nil {
		return err
	}
	if s.o.limit == (limit{}) {
		s.image.Limit = room + stamp.BlockSize // so that it is the card which is found too small
	}
	l.from = stamp.OfImage(s.image, l.contents)
	return nil
}

func (l *imageLoad) fit(t *target) error {
	if need := max(l.contents.Size.Known(), l.atLeast); need > t.Card.Size {
		return &stamp.TooSmallError{Image: need, Card: t.Card.Size, AtLeast: l.atLeast > 0}
	}
	return nil
}

func (l *imageLoad) need(*target) int64 { return l.contents.Size.Likely(l.s.image.Length()) }

func (l *imageLoad) knownFake(*target) bool { return false }

func (l *imageLoad) show(p *view.Plan) {
	p.Image, p.Contents, p.Unsure = l.s.image, l.contents, !l.contents.Recognised
}

// check compares the image with what was published; with nothing published there is nothing to read yet.
func (l *imageLoad) check(ctx context.Context, s *stamping, m *meter.Meter) (check.Report, error) {
	if s.image.Once() { // nothing of it was read, so nothing is written if that shows already
		if r, refused := check.Beforehand(s.image, l.contents, s.found); refused {
			return r, nil
		}
	}
	s.found.NeedSize = l.contents.Size.Certainty != image.Exact
	if s.found.Nothing() && !s.found.NeedSize || s.image.Once() {
		return check.Report{
			Path: s.image.Path, Size: s.image.Size, Packing: l.contents.Packing, Member: l.contents.Member,
		}, nil
	}
	if !s.handling.dryRun {
		s.image.Keep = image.KeepMost // what is unpacked for its digest isn't unpacked again
	}
	defer func() { s.image.Keep = 0 }()
	return check.Run(ctx, s.image, s.o.member, s.found, m)
}

// sized takes over what the check has found out of the image's size.
func (l *imageLoad) sized(r check.Report) {
	var much *image.UnusableError
	switch {
	case errors.As(r.Damage, &much) && much.Why == image.UnpacksToMuch && !l.s.image.Once() && l.s.o.limit == (limit{}):
		l.atLeast = l.s.image.Limit
	case r.Unpacked.Certainty == image.Exact && l.contents.Size.Certainty != image.Exact && !l.s.image.Once():
		l.contents.Size = r.Unpacked
		l.from = stamp.OfImage(l.s.image, l.contents)
	}
}

func (l *imageLoad) source(*target) stamp.Source { return l.from }

// complete has an image that comes through a pipe, which nobody could check before, compared as it is written.
func (l *imageLoad) complete(job *stamp.Job, report *check.Report) {
	if l.s.image.Once() {
		job.Repairs, job.Algorithms, job.Compare = 0, l.s.found.Algorithms(), l.compare(report)
	}
}

// compare gives what compares such an image with what was published, and keeps the report of it.
func (l *imageLoad) compare(
	report *check.Report,
) func(ctx context.Context, download, image []digest.Digest) error {
	return func(_ context.Context, download, image []digest.Digest) error {
		*report = check.Compare(l.s.image, l.contents, l.s.found, download, image)
		if report.Outcome() == check.Mismatched {
			return &imageError{view.Refused(*report)}
		}
		return nil
	}
}

func (l *imageLoad) device(t *target) card.Device { return t.Hold }

func (l *imageLoad) record(
	t *target, report check.Report, o stamp.Outcome, now *card.Card, dev card.Device,
) receipt.Document {
	doc := receipt.New(receipt.FromFile(l.s.image), report, now, dev, l.s.set.repairs, o.Result)
	if isOn(o) {
		describe(t, &doc)
	}
	return doc
}

func (l *imageLoad) sentence(_ *target, name string, o stamp.Outcome) string {
	return view.StampSentence(view.FileName(l.s.image.Path), name, o.Result, o.Err)
}

// leaveOut leaves the cards out on which the load doesn't fit: they don't stop the others. It is an error if none is
// left.
func (s *stamping) leaveOut() error {
	var first error
	for _, t := range s.targets {
		err := s.load.fit(t)
		if err == nil {
			continue
		}
		var small *stamp.TooSmallError
		if errors.As(err, &small) && len(s.targets) > 1 {
			small.Name = t.Card.Name
		}
		t.Out, t.outcome = true, &stamp.Outcome{Result: stamp.Result{State: stamp.Untouched}, Err: err}
		first = cmp.Or(first, err)
	}
	if len(s.left()) == 0 {
		if isTooSmall(first) {
			first = view.LargerCard(first)
		}
		return first
	}
	for _, t := range s.targets {
		if t.outcome != nil {
			s.screen.Say(view.LeftOut(t.Card.Name, t.outcome.Err))
		}
	}
	return nil
}

// isTooSmall tells errors of cards on which something doesn't fit.
func isTooSmall(err error) bool {
	return is[*stamp.TooSmallError](err) || is[*blank.TooSmallError](err) || is[*layout.NoRoomError](err)
}
