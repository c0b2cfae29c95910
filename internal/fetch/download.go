package fetch

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"io"
	"net/http"
	"os"
	"slices"
	"strconv"
	"time"

	"zipstamp/internal/digest"
	"zipstamp/internal/meter"
)

// Want is what is known of a file before it is downloaded. The zero value is nothing.
type Want struct {
	Size    int64           // bytes; 0: not known
	Digests []digest.Digest // of the file as it is downloaded
	Pieces  Pieces
}

// Kept is what is kept of a download on its way, besides its bytes, so that a later run can carry it on.
type Kept struct {
	Name   string            `json:"name"`
	Length int64             `json:"length"` // of the whole file, bytes; -1 where it isn't known
	By     map[string]Source `json:"by"`     // by Address.Key
	// Insecure tells that some of it did not come by https all the way.
	Insecure bool `json:"insecure,omitempty"`
	// Suspect tells that what came can't be right, though nobody knows where it is wrong.
	Suspect bool `json:"suspect,omitempty"`
	// Doubted tells that a host has said once that it is another file by now.
	Doubted bool `json:"doubted,omitempty"`
}

// Source is what a host has said of a file.
type Source struct {
	Validators
	Date string `json:"date,omitempty"` // of the answer
}

// EventKind is what happened while something was downloaded.
type EventKind string

// The kinds.
const (
	Waits      EventKind = "waits"       // For, because of Err
	StartsOver EventKind = "starts over" // another file is there now
	Unmarked   EventKind = "unmarked"    // likewise: the host doesn't say which file it is
	Skips      EventKind = "skips"       // the host gives no ranges, so what is there comes once more
	CarriesOn  EventKind = "carries on"  // At
	Distrusts  EventKind = "distrusts"   // At: what is there can't be right
	NextMirror EventKind = "next mirror" // To, because of Err
	WrongPiece EventKind = "wrong piece" // At, from To
	WrongWhole EventKind = "wrong whole" // it is fetched once more
)

// Event is something that a person may want to know.
type Event struct {
	Kind EventKind
	To   Address
	For  time.Duration
	At   int64
	Err  error
}

// Download is a file that is downloaded. Open asks for it, and Run downloads it.
type Download struct {
	Client  *Client
	Mirrors []Mirror // the first is asked first
	Want    Want
	Have    Validators // of a whole copy that is there already
	Part    *Part
	Kept    Kept
	Keep    func(Kept) error // keeps that; nil: nothing is kept
	// Aside puts what is there aside and gives new files for what comes in its place, so that an answer that is wrong
	// destroys nothing: whatever is longer in the end is kept. nil, or no files: what is there is given up
	Aside func(Kept) (data, sums *os.File, err error)
	Room  func(more int64) error // takes room for so many more bytes; nil: nothing is taken
	Meter *meter.Meter
	Tell  func(Event) // nil: nobody is told

	sources []*source
	open    *live
	waits   *waits
	mixed   bool            // not all came from one source at one time
	said    []digest.Digest // by the hosts
	fetched int64           // bytes that came
	room    int64           // up to where there is room for a file whose length isn't known, bytes
	restart int             // how often it started over
	unsure  bool            // it may have been cut short
	wrong   map[int64]int   // how often a piece was wrong, by where it starts
}

// source is where the file may be had.
type source struct {
	Address
	failed error // why it isn't asked any more
	tried  int   // failures since something came
	whole  bool  // it is asked for all of the file: it gave another range than was asked for
}

// live is an answer whose body is read next.
type live struct {
	*answer
	from   *source
	body   *bufio.Reader
	watch  *watched
	stop   context.CancelCauseFunc
	length int64 // of the whole file, bytes; -1: not known
	skip   int64 // bytes that are there already and come again
	came   int64 // bytes that came and weren't there
	loose  bool  // it can't be carried on: it is packed on its way
}

func (l *live) close() {
	l.watch.end()
	l.stop(nil)
	l.Body.Close()
}

// Offer is what a host has of a file.
type Offer struct {
	Current   bool // the copy that is there is the current one
	Name      string
	Length    int64 // bytes; -1: not known
	From      Address
	Secure    bool
	Redirects []Address
	Validators
	Metalink *Address // what says more of the file (RFC 6249, section 4); nil if nothing does
}

// leastProgress is how much must come for tries to be counted anew, bytes: a host that sends some and breaks off again
// and again would be asked for ever.
const leastProgress = 64 << 10

// pieceTries is how often a piece is fetched.
const pieceTries = 3

// maxRestarts bounds how often a download starts over.
const maxRestarts = 5

// Open asks for the file until there is an answer that can be used. The error is an *Error, that of ctx, or of what was
// kept.
func (d *Download) Open(ctx context.Context) (Offer, error) {
	d.begin()
	for {
		o, err := d.ask(ctx)
		if err == nil {
			return o, nil
		}
		if err := d.recover(ctx, err); err != nil {
			return o, err
		}
	}
}

func (d *Download) begin() {
	if d.waits != nil {
		return
	}
	d.waits, d.wrong = d.Client.waits(), map[int64]int{}
	d.mixed = d.Part.Size() > 0
	if d.Kept.By == nil {
		d.Kept.By = map[string]Source{}
	}
	for _, m := range d.Mirrors {
		d.sources = append(d.sources, &source{Address: m.Address})
	}
}

func (d *Download) tell(e Event) {
	if d.Tell != nil {
		d.Tell(e)
	}
}

// source is the one to ask now; nil if all have failed for good.
func (d *Download) source() *source {
	for _, s := range d.sources {
		if s.failed == nil {
			return s
		}
	}
	return nil
}

// errAgain says that it is to be asked once more, at once.
var errAgain = errors.New("ask again")

// verifies tells whether it will be seen at the end if the file is another one.
func (d *Download) verifies() bool {
	return len(d.Want.Digests)+len(d.said)+len(d.Want.Pieces.Sums) > 0
}

// ask asks the source at hand for what is missing.
func (d *Download) ask(ctx context.Context) (o Offer, err error) {
	from := d.source()
	offset := d.Part.Size()
	if d.Kept.Suspect {
		d.tell(Event{Kind: Distrusts, At: offset})
		if err := d.startOver(); err != nil {
			return o, err
		}
		offset = 0
	}
	before := d.Kept.By[from.Key()]
	header := http.Header{}
	condition := before.condition(before.Date)
	if offset > 0 && condition == "" && !d.verifies() {
		d.tell(Event{Kind: Unmarked, At: offset})
		if err := d.setAside(); err != nil {
			return o, err
		}
		if err := d.startOver(); err != nil {
			return o, err
		}
		offset = 0
	}
	switch {
	case offset > 0 && !from.whole:
		header.Set("Range", "bytes="+strconv.FormatInt(offset, 10)+"-")
		// where a digest shows another file in the end, hosts may mark the same one each in its own manner
		if condition != "" && len(d.Want.Digests) == 0 {
			header.Set("If-Range", condition)
		}
	case offset == 0 && from.Key() == d.Mirrors[0].Key():
		header = d.Have.Header()
	}
	header.Set("Want-Repr-Digest", "sha-256=1")
	ctx, stop := context.WithCancelCause(ctx)
	a, err := d.Client.get(ctx, from.Address, header)
	if err != nil {
		stop(nil)
		return o, err
	}
	body := watch(a.Body, stop, d.Client.Patience)
	d.open = &live{answer: a, from: from, stop: stop, watch: body, body: bufio.NewReaderSize(body, 64<<10), length: -1}
	if o, err = d.judge(ctx, offset, before); err != nil || o.Current {
		d.open.close()
		d.open = nil
	}
	return o, err
}

// over starts over since another file is there.
func (d *Download) over(kind EventKind) error {
	d.tell(Event{Kind: kind})
	if err := d.setAside(); err != nil {
		return err
	}
	if err := d.startOver(); err != nil {
		return err
	}
	return errAgain
}

// setAside keeps what is there in case that it is right after all, unless a host said in another run already that it
// isn't.
func (d *Download) setAside() error {
	if d.Aside == nil || d.Kept.Doubted || d.Part.Size() < leastProgress {
		return nil
	}
	if err := d.Part.flush(); err != nil {
		return err
	}
	old := d.Kept
	old.Doubted = true
	data, sums, err := d.Aside(old)
	if err == nil && data != nil {
		d.Part.begin(data, sums)
	}
	return err
}

func (d *Download) startOver() error {
	d.restart++
	if d.restart > maxRestarts {
		return &Error{Why: Changes, URL: d.sources[0].Shown(), Host: d.sources[0].Host()}
	}
	d.mixed, d.said = false, nil
	d.Kept = Kept{Name: d.Kept.Name, Length: -1, By: map[string]Source{}}
	return d.Part.back(0)
}

// Add adds mirrors behind those that are known.
func (d *Download) Add(more ...Mirror) {
	d.begin()
	for _, m := range more {
		known := slices.ContainsFunc(d.sources, func(s *source) bool { return s.Key() == m.Key() })
		if !known && len(d.sources) < maxMirrors {
			d.sources = append(d.sources, &source{Address: m.Address})
		}
	}
}

// Know adds what was found out about the file after it was asked for. What is there already and can't be right is given
// up.
func (d *Download) Know(w Want) error {
	d.Want = w
	if d.open != nil && w.Size > 0 && d.open.length >= 0 && d.open.length != w.Size {
		e := &Error{
			Why: OtherLength, URL: d.open.from.Shown(), Host: d.open.from.Host(), Want: w.Size, Got: d.open.length,
		}
		d.open.from.failed = e
		d.open.close()
		d.open = nil
		if d.source() == nil {
			return e
		}
		return d.Part.back(0)
	}
	return nil
}

// Close ends a download that was opened, if it isn't run.
func (d *Download) Close() {
	if d.open != nil {
		d.open.close()
		d.open = nil
	}
}

// Got is what was downloaded.
type Got struct {
	Size    int64
	Digests []digest.Digest
	Fetched int64 // bytes that came for that
	Secure  bool  // all of it came by https all the way
	Unsure  bool  // nothing that is known of it tells whether it was cut short
}

// Run downloads the file, and closes the part for its readers. It may be called without Open. The error is an *Error,
// that of ctx, or of what is kept on the disk; then the part can be carried on.
func (d *Download) Run(ctx context.Context) (got Got, err error) {
	d.begin()
	defer func() {
		d.Close()
		d.Meter.End()
		if err != nil {
			d.Part.close(err)
		} else {
			d.Part.close(io.EOF)
		}
		got.Fetched = d.fetched
	}()
	if err := d.comparePieces(); err != nil {
		return got, err
	}
	for {
		err := d.once(ctx)
		if err == nil {
			if got.Digests, err = d.Part.finish(); err != nil {
				return got, err
			}
			if err = d.compare(got.Digests); err == nil {
				got.Size, got.Secure = d.Part.Size(), !d.Kept.Insecure
				got.Unsure = d.unsure && !d.verifies() && d.Want.Size == 0
				return got, nil
			}
		}
		if err := d.recover(ctx, err); err != nil {
			return got, err
		}
	}
}

// recover decides what follows an error: nil is another try.
func (d *Download) recover(ctx context.Context, err error) error {
	var e *Error
	switch {
	case errors.Is(err, errAgain):
		return nil
	case !errors.As(err, &e), e.Why == NoRoom, e.Why == Changes:
		return err
	}
	from := d.source()
	if from == nil {
		return err
	}
	from.tried++
	if !e.passing() && !e.retry {
		from.failed = e
	}
	next := d.next(from)
	if next == nil {
		return err
	}
	if next != from {
		d.mixed = true
		d.tell(Event{Kind: NextMirror, To: next.Address, Err: e})
		if from.tried <= 1 || from.failed != nil {
			return nil // no need to wait: another host is asked
		}
	}
	return d.waits.again(ctx, e, d.Tell)
}

// next is the source to ask after one has failed; it becomes the first in the row.
func (d *Download) next(from *source) *source {
	at := slices.Index(d.sources, from)
	for i := 1; i <= len(d.sources); i++ {
		s := d.sources[(at+i)%len(d.sources)]
		if s.failed == nil && (s == from || d.verifies() || d.Part.Size() == 0) {
			d.sources = append([]*source{s}, slices.DeleteFunc(d.sources, func(o *source) bool { return o == s })...)
			return s
		}
	}
	return nil
}

// once downloads from one source as far as that goes.
func (d *Download) once(ctx context.Context) error {
	if d.open == nil {
		if _, err := d.ask(ctx); err != nil {
			return err
		}
		if d.open == nil { // a copy is current that was not, when it was asked for
			return &Error{Why: Changes, URL: d.sources[0].Shown(), Host: d.sources[0].Host()}
		}
	}
	l := d.open
	defer d.Close()
	size := d.Part.Size()
	if now := d.Meter.Read(); now.Phase != meter.Download || now.Done != size || now.Total != max(l.length, 0) {
		d.Meter.Begin(meter.Download, max(l.length, 0))
		d.Meter.Had(size)
	}
	pieces, err := d.pieces(size)
	if err != nil {
		return err
	}
	buf := make([]byte, 128<<10)
	for {
		if l.loose && d.Want.Size > 0 && d.Part.Size() > d.Want.Size {
			return d.otherLength(l.from, d.Part.Size())
		}
		n, err := l.body.Read(buf)
		if n > 0 {
			d.fetched += int64(n)
			more, wrong := d.skipped(l, buf[:n], size)
			if l.came += int64(len(more)); l.came >= leastProgress {
				d.waits.progress(d.Client)
				l.from.tried = 0
			}
			if wrong == nil {
				wrong = d.roomFor(l, d.Part.Size()+int64(len(more)))
			}
			if wrong == nil {
				d.Meter.Add(int64(len(more)))
				wrong = pieces.write(more)
			}
			if wrong != nil {
				return wrong
			}
		}
		if err == io.EOF {
			return d.ended(l)
		}
		if err != nil {
			if l.loose { // what comes next time has another beginning
				if over := d.Part.back(0); over != nil {
					return over
				}
			}
			return d.broken(ctx, l.from, err)
		}
	}
}

// roomStep is the room that is taken at once for a file whose length isn't known, bytes.
const roomStep = 16 << 20

// roomFor takes room for a file whose length no host said, step by step: it may have no end.
func (d *Download) roomFor(l *live, size int64) error {
	if l.length >= 0 || d.Room == nil || size <= d.room {
		return nil
	}
	if size > maxSize {
		return &Error{Why: TooLarge, URL: l.from.Shown(), Host: l.from.Host(), Want: maxSize, Got: size}
	}
	d.room = size + roomStep
	return d.Room(roomStep)
}

// ended looks whether an answer that came to its end had all of the file.
func (d *Download) ended(l *live) error {
	size := d.Part.Size()
	switch {
	case l.skip > 0, l.length >= 0 && size < l.length:
		return &Error{Why: Broken, URL: l.from.Shown(), Host: l.from.Host(), Err: io.ErrUnexpectedEOF}
	case l.length >= 0 && size > l.length, d.Want.Size > 0 && size != d.Want.Size:
		return d.otherLength(l.from, size)
	}
	// a connection that just ends (RFC 9112, section 6.3): other endings are told, or show in what is unpacked
	d.unsure = l.length < 0 && l.ProtoMajor < 2 && len(l.TransferEncoding) == 0 && !l.loose
	return nil
}

func (d *Download) otherLength(from *source, size int64) error {
	want := d.Want.Size
	if want == 0 {
		want = d.Kept.Length
	}
	if err := d.Part.back(0); err != nil {
		return err
	}
	return &Error{Why: OtherLength, URL: from.Shown(), Host: from.Host(), Want: want, Got: size}
}

// skipped takes off what is there already and comes again, and sees whether it is the same. size is how much there was
// before.
func (d *Download) skipped(l *live, b []byte, size int64) ([]byte, error) {
	if l.skip == 0 {
		return b, nil
	}
	n := min(int64(len(b)), l.skip)
	same := make([]byte, n)
	if err := d.Part.reads(same, size-l.skip); err != nil {
		return nil, err
	}
	if !bytes.Equal(same, b[:n]) {
		return nil, d.over(StartsOver)
	}
	l.skip -= n
	return b[n:], nil
}

// broken is the error of a body that came to no good end.
func (d *Download) broken(ctx context.Context, from *source, err error) error {
	if errors.Is(context.Cause(ctx), errStalled) || d.open != nil && d.open.watch.stalled.Load() {
		return &Error{Why: Unanswered, URL: from.Shown(), Host: from.Host()}
	}
	return failure(ctx, from.Address, err)
}

// compare compares what arrived with what was said of it. Where it differs, it is fetched once more: all from one host,
// if it was not, and then from others.
func (d *Download) compare(got []digest.Digest) error {
	for _, want := range slices.Concat(d.Want.Digests, d.said) {
		for _, g := range got {
			if g.Algorithm != want.Algorithm || g == want {
				continue
			}
			from := d.source()
			mixed := d.mixed
			if err := d.startOver(); err != nil {
				return err
			}
			d.tell(Event{Kind: WrongWhole, To: from.Address})
			if mixed {
				return errAgain
			}
			return &Error{Why: OtherDigest, URL: from.Shown(), Host: from.Host()}
		}
	}
	return nil
}
