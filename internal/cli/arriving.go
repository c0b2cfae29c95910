package cli

import (
	"cmp"
	"context"
	"errors"
	"os"
	"slices"
	"strings"

	"zipstamp/internal/card"
	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/fetch"
	"zipstamp/internal/image"
	"zipstamp/internal/meter"
	"zipstamp/internal/receipt"
	"zipstamp/internal/stamp"
	"zipstamp/internal/systems"
	"zipstamp/internal/view"
)

// remoteLoad is an image that is fetched: it is stamped while it arrives, and kept on the shelf. One that is there
// already is stamped as any file is.
type remoteLoad struct {
	imageLoad
	plain  bool // it may come by http
	remote *remote
	meter  meter.Meter // of the download

	stop    context.CancelCauseFunc
	arrived chan struct{} // closed when the download has ended; nil: there is none
	got     fetch.Got
	failed  error // why it ended before its end
	whole   bool  // it is in its place on the shelf
	damaged bool  // what has come of it can't be unpacked
}

// loadOf is the load that a word stands for: a URL, a Metalink document or a system, or else a file.
func (a *app) loadOf(word string, plain bool) load {
	l := imageLoad{path: word}
	if word == image.Input || !fetch.IsURL(word) && exists(word) && !isMetalink(word) || !fetch.IsURL(word) &&
		!isMetalink(word) && !a.isSystem(word) {
		return &l
	}
	return &remoteLoad{imageLoad: l, plain: plain}
}

// isSystem tells whether a list has a system of a name.
func (a *app) isSystem(name string) bool {
	found := false
	a.eachOffered(func(o systems.Offered) { found = found || o.Called(name) })
	return found
}

// isOfList tells whether a word begins with the name of a list.
func (a *app) isOfList(word string) bool {
	list, _, _ := strings.Cut(word, "/")
	return slices.ContainsFunc(a.listWords(""), func(name string) bool {
		return systems.NameOfFile(name) == systems.NameOfFile(list)
	})
}

func (l *remoteLoad) open(ctx context.Context, s *stamping) error {
	r, err := s.app.remoteOf(ctx, s.who, s.set, l.path, l.plain)
	if err != nil {
		return err
	}
	l.s, l.remote, s.o.remote = s, r, r
	s.release = l.close
	keys, err := s.o.ring(s.who)
	if err != nil {
		return err
	}
	r.keyed = len(keys.Ring) > 0
	if err := r.open(ctx, &l.meter); err != nil {
		return err
	}
	l.path = r.path
	if r.down == nil {
		return l.openFile()
	}
	ctx, l.stop = context.WithCancelCause(ctx)
	l.arrived = make(chan struct{})
	go func() {
		defer close(l.arrived)
		l.got, l.failed = r.run(ctx, &l.meter)
	}()
	r.arrives = func() (*image.File, error) { return image.Arriving(r.path, r.part.Reader(ctx), r.offer.Length) }
	s.image, s.found, err = s.o.find(r.path, s.who)
	if errors.Is(err, view.ErrInterrupted) {
		s.screen.Say(view.PartKept(r.part.Size()))
	}
	return l.orWhy(err)
}

// openFile opens the file that is on the shelf.
func (l *remoteLoad) openFile() (err error) {
	l.remote.arrives = nil
	l.s.image, l.s.found, err = l.s.o.find(l.remote.path, l.s.who)
	return err
}

// orWhy is the error by which the download ended, if it is why something went wrong.
func (l *remoteLoad) orWhy(err error) error {
	if err == nil || l.arrived == nil {
		return err
	}
	select {
	case <-l.arrived:
		return cmp.Or(l.failed, err)
	default:
		return err
	}
}

// look waits for the whole file where it can't be stamped before.
func (l *remoteLoad) look(ctx context.Context, s *stamping, room int64) error {
	err := l.imageLoad.look(ctx, s, room)
	var unusable *image.UnusableError
	if errors.As(err, &unusable) && unusable.Why == image.NeedsFile && l.arrived != nil {
		s.screen.Say(view.WholeFirst(unusable.Packing))
		progress := s.screen.Follow(view.Followed{Meter: &l.meter})
		err = l.wait(ctx)
		progress.Stop()
		if err == nil {
			err = l.shelve()
		}
		if err == nil {
			err = l.openFile()
		}
		if err == nil {
			err = l.imageLoad.look(ctx, s, room)
		}
		return err
	}
	if err != nil {
		return l.orWhy(err)
	}
	if n := l.remote.unpacked; n > 0 && l.contents.Size.Certainty == image.Unknown {
		l.contents.Size = image.Size{Bytes: n, Certainty: image.AtLeast} // as a list says
	}
	if s.image.Once() {
		l.from = stamp.Arriving(l.from, l.again)
	}
	return nil
}

// wait waits for the end of the download.
func (l *remoteLoad) wait(ctx context.Context) error {
	select {
	case <-l.arrived:
		return l.failed
	case <-ctx.Done():
		return context.Cause(ctx)
	}
}

// shelve puts the file that has arrived into its place.
func (l *remoteLoad) shelve() error {
	if l.whole {
		return nil
	}
	l.whole = true
	return l.remote.finish(l.got)
}

// again is the image on the shelf, for what is written again.
func (l *remoteLoad) again() (stamp.Source, error) {
	f, err := image.Open(l.remote.path)
	if err != nil {
		return nil, err
	}
	f.Limit = l.s.image.Limit
	contents, err := f.Look(l.s.o.member)
	if err != nil {
		f.Close()
		return nil, err
	}
	return stamp.OfImage(f, contents), nil
}

// complete has an image that arrives compared before the first block is written, as one that comes through a pipe is.
// It can be had again, so that bad blocks can be written once more.
func (l *remoteLoad) complete(job *stamp.Job, report *check.Report) {
	if l.s.image.Once() {
		job.Algorithms = l.s.found.Algorithms()
		job.Compare = func(ctx context.Context, download, unpacked []digest.Digest) error {
			return l.compare(ctx, report, download, unpacked)
		}
	}
}

func (l *remoteLoad) compare(
	ctx context.Context, report *check.Report, download, unpacked []digest.Digest,
) error {
	if err := l.wait(ctx); err != nil {
		return err
	}
	if err := l.shelve(); err != nil {
		return err
	}
	*report = check.Compare(l.s.image, l.contents, l.s.found, download, unpacked)
	f, err := image.Open(l.remote.path)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := report.CompareSigned(ctx, f, l.s.found, &l.meter); err != nil {
		return err
	}
	l.meter.End()
	if err := l.remote.judged(*report); err != nil {
		return err
	}
	if err := l.remote.perhapsCut(*report); err != nil {
		return err
	}
	return refusedImage(l.s, *report)
}

// refusedImage is the error of an image that was found to be wrong while it was stamped.
func refusedImage(s *stamping, report check.Report) error {
	if l := report.Lapse(); s.refusesLapse(l) && report.Outcome() != check.Mismatched {
		return &imageError{view.LapseRefused(l)}
	}
	if s.refuses(report) {
		return &imageError{view.Refused(report)}
	}
	return nil
}

func (l *remoteLoad) check(ctx context.Context, s *stamping, m *meter.Meter) (check.Report, error) {
	report, err := l.imageLoad.check(ctx, s, m)
	if err == nil && !l.remote.came && report.Download == nil { // it may have changed on the shelf
		report.Download, err = check.Sum(ctx, s.image, m)
	}
	if err == nil && !s.image.Once() && len(report.Download) > 0 {
		err = l.remote.judged(report)
	}
	if err == nil && l.whole {
		err = l.remote.perhapsCut(report)
	}
	return report, err
}

func (l *remoteLoad) show(p *view.Plan) {
	l.imageLoad.show(p)
	p.From, p.Arrives = l.remote.mirrors[0].Shown(), l.s.image.Once()
}

func (l *remoteLoad) record(
	t *target, report check.Report, o stamp.Outcome, now *card.Card, dev card.Device,
) receipt.Document {
	doc := l.imageLoad.record(t, report, o, now, dev)
	doc.Image.URL, doc.Image.System, doc.Image.Release = l.remote.mirrors[0].Shown(), l.remote.system, l.remote.release
	return doc
}

// arriving tells whether the image is downloaded while it is stamped.
func (l *remoteLoad) arriving() bool { return l.arrived != nil && l.s.image.Once() }

func (l *remoteLoad) close() {
	if l.stop != nil {
		l.stop(errStopped)
		<-l.arrived
	}
	if l.damaged && !l.whole && l.remote.item.Part != nil { // what has come of it isn't taken for right again
		l.remote.item.Part.Suspect = true
		_ = l.remote.item.Save() // then it is found to be damaged once more
	}
	l.remote.close()
}

// errStopped ends a download whose stamp has ended.
var errStopped = errors.New("the stamp has ended")

// isMetalink tells by its name whether a file says where to download.
func isMetalink(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular() && strings.HasSuffix(strings.ToLower(path), fetch.MetalinkEnding)
}
