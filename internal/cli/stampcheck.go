package cli

import (
	"cmp"
	"context"
	"errors"
	"time"

	"zipstamp/internal/check"
	"zipstamp/internal/document"
	"zipstamp/internal/job"
	"zipstamp/internal/meter"
	"zipstamp/internal/stamp"
	"zipstamp/internal/view"
)

// beginCheck begins the check of an image that lies on this computer, while a person reads the question and the card is
// freed. Other checks begin when their end is waited for.
func (s *stamping) beginCheck(ctx context.Context, _ []*job.Target) {
	s.meter = new(meter.Meter)
	if len(s.targets) == 1 {
		s.meter = &s.targets[0].meter // one card's progress goes on where that of the check ends
	}
	s.checked = func() (check.Report, error) { return s.check(ctx, s.meter) }
	if _, onDisk := s.load.(*imageLoad); !onDisk || s.handling.dryRun {
		return
	}
	ctx, stop := context.WithCancelCause(ctx)
	ended := make(chan struct{})
	var report check.Report
	var err error
	go func() {
		defer close(ended)
		report, err = s.check(ctx, s.meter)
	}()
	s.stopCheck = func() {
		stop(errStopped)
		<-ended
	}
	s.checked = func() (check.Report, error) {
		<-ended
		return report, err
	}
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

// refit leaves out cards on which the image doesn't fit, now that the check has unpacked it and its size is known. No
// card has been written.
func (s *stamping) refit(r check.Report) error {
	l, sized := s.load.(interface{ sized(check.Report) })
	if !sized || len(r.Download) == 0 && r.Damage == nil {
		return nil
	}
	l.sized(r)
	var first error
	for _, t := range s.left() {
		err := s.load.fit(t)
		if err == nil {
			continue
		}
		if small := (*stamp.TooSmallError)(nil); errors.As(err, &small) && len(s.targets) > 1 {
			small.Name = t.Card.Name
		}
		t.outcome = &stamp.Outcome{Result: stamp.Result{State: stamp.Untouched}, Err: err}
		first = cmp.Or(first, err)
		if len(s.targets) > 1 {
			s.screen.Say(view.LeftOut(t.Card.Name, err))
		}
	}
	if first != nil && len(s.left()) == 0 {
		return view.LargerCard(first)
	}
	return nil
}

// refuses tells whether the image is not to be stamped: it is not what was published, or what lies beside it to compare
// with is not certainly meant for it.
func (s *stamping) refuses(r check.Report) bool {
	return r.Outcome() == check.Mismatched || s.refusesLapse(r.Lapse()) ||
		r.Outcome() == check.NothingPublished && !s.found.Nothing() && !s.o.unchecked
}

// refusesLapse tells whether signatures that fall behind earlier ones keep the image from being stamped: nobody is
// asked.
func (s *stamping) refusesLapse(l *check.Lapse) bool { return l != nil && s.yes && !s.o.unchecked }

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
	if r.Outcome() != check.Mismatched {
		s.screen.Say(view.GoWithout)
	}
	return shown{errNotPublished}
}

// Plan checks the image, and shows what would be done.
func (s *stamping) Plan(_ context.Context, k job.Kind, _ []*job.Target, _ string) error {
	progress := s.screen.Follow(view.Followed{Meter: s.meter})
	report, err := s.checked()
	s.meter.End()
	progress.Stop()
	if err != nil {
		return err
	}
	if err := s.refit(report); err != nil {
		return err
	}
	if s.refuses(report) {
		return s.refuseImage(report)
	}
	return s.planned(k.Name, s.plan(), &report)
}
