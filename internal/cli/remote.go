package cli

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/fetch"
	"zipstamp/internal/image"
	"zipstamp/internal/meter"
	"zipstamp/internal/shelf"
	"zipstamp/internal/state"
	"zipstamp/internal/trust"
	"zipstamp/internal/view"
)

// remote is a file that is on another computer, or was fetched from there and is on the shelf.
type remote struct {
	*app
	who    person
	set    settings
	client *fetch.Client
	shelf  shelf.Shelf

	mirrors   []fetch.Mirror // the first gives it its place on the shelf
	want      fetch.Want
	secure    bool              // what led to the addresses came so that nobody on the way could change it
	elsewhere []shelf.Published // digests that were published elsewhere than beside the file
	origin    check.Origin      // of these
	signers   []trust.Signature // of what these stand in
	system    string            // as which it is fetched
	release   string
	list      string // that offers it
	keyed     bool   // a key is known by which something may be signed
	unpacked  int64  // bytes of the image, as the list says; 0: it doesn't
	folder    string // where it goes in place of the shelf; empty: the shelf

	item   *shelf.Item
	down   *fetch.Download
	part   *fetch.Part
	had    int64 // bytes of the part that were there
	offer  fetch.Offer
	beside []shelf.Beside
	path   string // where it is when it is whole
	used   func() // lets others remove it
	came   bool   // it had to be downloaded
	lent   bool   // it is on the shelf from another address
	unsure bool   // it may have been cut short on its way
	say    func(string)

	arrives   func() (*image.File, error) // opens it while it is on its way; nil: it is whole
	document  string                      // the Metalink document that was named; empty: none was
	signature string                      // of the file, that came with it
}

// shelfFolder is where downloads are kept.
func (a *app) shelfOf(who person, set settings) shelf.Shelf {
	place := who.cacheFolder("shelf")
	if set.shelf != "" {
		place = who.folder(set.shelf)
	}
	return shelf.Shelf{Place: place, As: who.as}
}

// newRemote is the file at an address.
func (a *app) newRemote(who person, set settings, at fetch.Address, plain bool) *remote {
	return &remote{
		app: a, who: who, set: set, shelf: a.shelfOf(who, set), mirrors: []fetch.Mirror{{Address: at, Priority: 1}},
		client: a.newClient(set, plain), used: func() {}, say: a.screen.Say, secure: true,
	}
}

func (a *app) newClient(set settings, plain bool) *fetch.Client {
	return fetch.NewClient(fetch.Options{
		Agent: "zipstamp/" + cmp.Or(a.version, "0"), PlainHTTP: plain, Patience: set.patience, Tries: set.tries,
	})
}

// close lets all of it go.
func (r *remote) close() {
	if r.down != nil {
		r.down.Close()
	}
	if r.item != nil {
		r.item.Close()
	}
	r.used()
	r.client.Close()
}

// algorithms are those of digests that are known, and SHA-256.
func (r *remote) algorithms() []digest.Algorithm {
	all := []digest.Algorithm{digest.SHA256}
	for _, d := range r.want.Digests {
		all = append(all, d.Algorithm)
	}
	return all
}

// waitEvery is how often it is looked whether another run has downloaded the same.
const waitEvery = 200 * time.Millisecond

// open finds out whether the file is on the shelf, and asks for it if it isn't. It is there if r.down is nil then.
func (r *remote) open(ctx context.Context, m *meter.Meter) (err error) {
	if err := r.take(ctx, m); err != nil {
		return err
	}
	if r.item.Has() && r.isWanted() {
		return r.onShelf()
	}
	same, err := r.same()
	if err != nil {
		return err
	}
	if same != nil {
		return r.onShelf()
	}
	if err := r.ask(ctx); err != nil {
		return err
	}
	if r.down == nil {
		return nil
	}
	if err := r.lookBeside(ctx); err != nil {
		return err
	}
	return r.collision()
}

// take opens the place of the file on the shelf, and waits until no other run downloads the same.
func (r *remote) take(ctx context.Context, m *meter.Meter) (err error) {
	for waits := 0; ; waits++ {
		if r.item == nil {
			if r.item, err = r.shelf.Open(r.mirrors[0].Address); err != nil {
				return view.NoShelf(r.shelf.Place.Path(), err)
			}
		}
		err := r.item.Lock()
		if errors.Is(err, shelf.ErrRemoved) {
			r.item.Close()
			r.item = nil
			continue
		}
		if !errors.Is(err, shelf.ErrBusy) {
			return err
		}
		if waits == 1 { // and not only looks what is there
			r.say(view.SharedDownload(r.item.Host))
			m.Begin(meter.Download, 0)
		}
		if waits >= 1 {
			m.Add(max(r.item.Coming()-m.Read().Done, 0))
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(waitEvery):
		}
	}
}

// isWanted tells whether the file on the shelf is known to be the one that is wanted, without asking anybody.
func (r *remote) isWanted() bool {
	return r.item.Whole.Usable() && slices.ContainsFunc(r.want.Digests, func(d digest.Digest) bool {
		return d.Algorithm == digest.SHA256 && d.Hex() == r.item.Whole.SHA256
	})
}

// same takes up a file on the shelf that came from another address, and is the one that is wanted; nil if there is
// none. What the wanted address had signed is asked for there.
func (r *remote) same() (*shelf.Item, error) {
	if before, err := r.recall(r.mirrors[0].Address); err != nil || before != nil && len(r.signers) == 0 {
		return nil, err
	}
	for _, d := range r.want.Digests {
		if d.Algorithm != digest.SHA256 || r.folder != "" {
			continue
		}
		same, err := r.shelf.Same(d.Hex())
		if err != nil || same == nil {
			return nil, err
		}
		own := r.item
		r.item, r.lent = same, true
		own.Close()
		if own.Whole == nil && own.Part == nil { // it was opened in vain
			return same, ignoreBusy(r.shelf.Remove(shelf.Entry{About: own.About}))
		}
		return same, nil
	}
	return nil, nil
}

func ignoreBusy(err error) error {
	if errors.Is(err, shelf.ErrBusy) {
		return nil
	}
	return err
}

// onShelf takes the file from the shelf.
func (r *remote) onShelf() (err error) {
	if r.down != nil {
		r.down.Close()
		r.down = nil
	}
	r.path, r.beside = r.item.Path(), r.item.Whole.Beside
	if len(r.elsewhere) == 0 {
		r.elsewhere = r.item.Whole.Digests
	}
	r.item.Leave()
	return r.use()
}

// use keeps the file from being removed while it is used, and lets other runs at it; not in a folder of the user's,
// where it goes on.
func (r *remote) use() (err error) {
	r.used, err = r.item.Use()
	if r.folder == "" {
		r.item.Unlock()
	}
	return err
}

// ask asks for the file. What is on the shelf is used if it is the current one, and also if nobody answers.
func (r *remote) ask(ctx context.Context) (err error) {
	if r.part, r.had, err = r.item.Begin(ctx, r.algorithms()...); err != nil {
		return err
	}
	has := r.item.Has() && r.item.Whole.Usable()
	d := &fetch.Download{
		Client: r.client, Mirrors: r.mirrors, Want: r.want, Part: r.part, Room: r.item.Room,
		Aside: r.item.Aside,
		Keep: func(k fetch.Kept) error {
			r.item.Part = &k
			return r.item.Save()
		},
		Tell: func(e fetch.Event) {
			if text := view.FetchEvent(e); text != "" {
				r.say(text)
			}
		},
	}
	if has {
		d.Have = r.item.Whole.Validators
	}
	if r.item.Part != nil {
		d.Kept = *r.item.Part
	}
	r.down = d
	r.offer, err = d.Open(ctx)
	if e := (*fetch.Error)(nil); has && errors.As(err, &e) && view.IsOffline(e) {
		r.say(view.FromShelf(r.item.Whole.Name, r.item.Whole.Fetched, e))
		return r.onShelf()
	}
	if err != nil {
		return err
	}
	if r.offer.Current {
		r.down.Close()
		r.down = nil
		if err := r.renewBeside(ctx); err != nil {
			return err
		}
		r.item.Whole.Asked = time.Now().UTC().Truncate(time.Second)
		if err := r.item.Save(); err != nil {
			return err
		}
		r.say(view.IsCurrent(r.item.Whole.Name, r.item.Host, r.item.Whole.Fetched))
		return r.onShelf()
	}
	r.item.Part = &d.Kept
	return r.item.Save()
}

// besides are the small files that hosts have beside the file, under the names that they get beside it here. They lie
// where it was asked for, or where that led to.
func (r *remote) besides(ctx context.Context) (found []fetch.Companion, err error) {
	asked, came := r.mirrors[0].Address, r.offer.From
	var missed error
	for i, at := range []fetch.Address{asked, came} {
		led := i == 1
		if led && (at.Key() == asked.Key() || r.enough(found)) {
			break
		}
		names := slices.DeleteFunc(image.NamesOf(at.Name()), func(s string) bool { return s == "" })
		if len(names) == 0 {
			names = image.NamesOf(r.offer.Name)
		}
		more, also, err := r.client.Beside(ctx, fetch.Search{
			Of: at, Names: names, Good: isCompanion, Tells: r.tells, Enough: r.enough,
		})
		if err != nil {
			return nil, err
		}
		missed = cmp.Or(missed, also)
		for _, c := range more {
			if rest, ok := strings.CutPrefix(c.Name, at.Name()); ok && at.Name() != "" {
				c.Name = r.offer.Name + rest
			}
			c.Secure = c.Secure && (!led || r.offer.Secure) // who could change the answer could have led elsewhere
			found = addCompanion(found, c)
		}
	}
	if r.offer.Metalink != nil {
		s, err := r.client.Small(ctx, *r.offer.Metalink, fetch.MaxMetalink, nil)
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		s.Secure = s.Secure && r.offer.Secure // likewise
		c := fetch.Companion{Name: r.offer.Name + fetch.MetalinkEnding, Smallfile: s}
		if err == nil && isCompanion(c) {
			found = addCompanion(found, c)
		}
	}
	for i := range found {
		found[i].Secure = found[i].Secure && r.secure
	}
	if missed != nil && len(found) == 0 {
		r.say(view.BesideUnknown(missed))
	}
	return slices.DeleteFunc(found, func(c fetch.Companion) bool {
		if c.Name == r.offer.Name {
			r.say(view.BesideLeftOut(c.Name, c.At.Host()))
		}
		return c.Name == r.offer.Name
	}), nil
}

// addCompanion adds a small file, if there is none of its name yet.
func addCompanion(all []fetch.Companion, c fetch.Companion) []fetch.Companion {
	if slices.ContainsFunc(all, func(o fetch.Companion) bool { return o.Name == c.Name }) {
		return all
	}
	return append(all, c)
}

// tells tells whether a small file has a digest of the file.
func (r *remote) tells(c fetch.Companion) bool {
	if c.IsSignature() || strings.HasSuffix(c.Name, fetch.MetalinkEnding) {
		return false
	}
	sums, err := digest.ReadSums(bytes.NewReader(c.Text), c.Name)
	if err != nil {
		return false
	}
	found, err := sums.For(slices.Concat(image.NamesOf(r.offer.Name), image.NamesOf(r.mirrors[0].Name()))...)
	return err == nil && len(found) > 0
}

// enough tells whether something published has a digest of the file, and is signed where a key is known.
func (r *remote) enough(found []fetch.Companion) bool {
	return slices.ContainsFunc(found, func(c fetch.Companion) bool {
		isSigned := func(o fetch.Companion) bool { return o.IsSignature() && strings.HasPrefix(o.Name, c.Name+".") }
		return r.tells(c) && (!r.keyed || trust.IsSignature(c.Text) || slices.ContainsFunc(found, isSigned))
	})
}

// lookBeside fetches what was published beside the file, and puts it where the file will be.
func (r *remote) lookBeside(ctx context.Context) (err error) {
	if r.path, err = r.item.Next(r.offer.Name); err != nil {
		return err
	}
	found, err := r.besides(ctx)
	if err != nil {
		return err
	}
	for _, c := range found {
		if strings.HasSuffix(c.Name, fetch.MetalinkEnding) {
			if err := r.takeMetalink(c); err != nil {
				return err
			}
		}
		if err := r.item.Put(c.Name, c.Text); err != nil {
			return err
		}
		r.beside = append(r.beside, shelf.Beside{Name: c.Name, From: c.At.Shown(), Secure: c.Secure})
	}
	if r.signature != "" {
		name := r.offer.Name + ".asc"
		if err := r.item.Put(name, []byte(r.signature)); err != nil {
			return err
		}
		r.beside = append(r.beside, shelf.Beside{Name: name, From: r.document, Secure: r.secure})
	}
	return nil
}

// renewBeside fetches what is published by now beside the file that is on the shelf. What isn't found any more stays,
// but for signatures of what has changed.
func (r *remote) renewBeside(ctx context.Context) error {
	w := r.item.Whole
	r.offer.Name = w.Name
	found, err := r.besides(ctx)
	if err != nil {
		return err
	}
	for _, c := range found {
		at := slices.IndexFunc(w.Beside, func(b shelf.Beside) bool { return b.Name == c.Name })
		if at >= 0 && w.Beside[at].Secure && !c.Secure {
			continue // what anybody could have changed doesn't replace what nobody could
		}
		if strings.HasSuffix(c.Name, fetch.MetalinkEnding) {
			if err := r.takeMetalink(c); err != nil {
				return err
			}
		}
		other, err := r.item.Renew(c.Name, c.Text)
		if err != nil {
			return err
		}
		w.Beside = slices.DeleteFunc(w.Beside, func(b shelf.Beside) bool {
			stale := other && strings.HasPrefix(b.Name, c.Name+".") && !slices.ContainsFunc(found,
				func(o fetch.Companion) bool { return o.Name == b.Name })
			if stale {
				err = errors.Join(err, r.item.Withdraw(b.Name))
			}
			return stale || b.Name == c.Name
		})
		if err != nil {
			return err
		}
		w.Beside = append(w.Beside, shelf.Beside{Name: c.Name, From: c.At.Shown(), Secure: c.Secure})
	}
	if len(r.elsewhere) > 0 {
		w.Digests = r.elsewhere
	}
	return nil
}

// isCompanion tells whether a small file is what its name says: some hosts answer with something else in place of a
// file that they don't have.
func isCompanion(c fetch.Companion) bool {
	switch {
	case strings.HasSuffix(c.Name, fetch.MetalinkEnding):
		_, err := fetch.ReadMetalink(c.Text)
		return err == nil
	case slices.ContainsFunc(trust.Endings, func(e string) bool { return strings.HasSuffix(c.Name, e) }):
		return len(c.Text) > 0 && trust.IsSignature(c.Text)
	}
	sums, err := digest.ReadSums(bytes.NewReader(c.Text), c.Name)
	return err == nil && sums.IsSums()
}

// takeMetalink takes up what a Metalink document says of the file. It counts if it came by https, as all else does.
func (r *remote) takeMetalink(c fetch.Companion) error {
	files, err := fetch.ReadMetalink(c.Text)
	if err != nil || !c.Secure && !r.client.PlainHTTP {
		return nil
	}
	names := []string{r.offer.Name, r.mirrors[0].Name()}
	at := slices.IndexFunc(files, func(f fetch.Metalink) bool { return slices.Contains(names, f.Name) })
	if at < 0 {
		return nil
	}
	w := r.want
	switch f := files[at]; {
	case len(w.Digests) == 0:
		w = r.know(f, c.Name+" at "+c.At.Host(), c.Secure)
	case differ(w.Digests, f.Digests): // what was said before counts
		r.say(view.BesideDiffers(c.Name, c.At.Host()))
		return nil
	case !slices.ContainsFunc(f.Digests, func(d digest.Digest) bool { return slices.Contains(w.Digests, d) }):
		return nil // it may be of another file
	default:
		if w.Size = cmp.Or(w.Size, f.Size); w.Size == f.Size {
			w.Pieces = f.Pieces
		}
		r.want = w
	}
	if r.down == nil {
		return nil
	}
	r.down.Add(files[at].Mirrors...)
	return r.down.Know(w)
}

// differ tells whether digests can't be of the same file.
func differ(a, b []digest.Digest) bool {
	return slices.ContainsFunc(a, func(x digest.Digest) bool {
		return slices.ContainsFunc(b, func(y digest.Digest) bool { return x.Algorithm == y.Algorithm && x != y })
	})
}

// know takes up what a Metalink document says. Digests of one that anybody could have changed don't count as published.
func (r *remote) know(f fetch.Metalink, from string, counts bool) fetch.Want {
	r.want = fetch.Want{Size: f.Size, Digests: f.Digests, Pieces: f.Pieces}
	if counts {
		for _, d := range f.Digests {
			r.elsewhere = append(r.elsewhere, shelf.Published{Algorithm: d.Algorithm.Plain(), Hex: d.Hex(), From: from})
		}
	}
	return r.want
}

// run downloads the file.
func (r *remote) run(ctx context.Context, m *meter.Meter) (fetch.Got, error) {
	r.came = true
	r.down.Meter = m
	return r.down.Run(ctx)
}

// finish puts the file that has arrived into its place. Nobody reads it any more as it arrived.
func (r *remote) finish(got fetch.Got) (err error) {
	w := shelf.Whole{
		Name: filepath.Base(r.path), Size: got.Size, Secure: got.Secure && r.secure, Validators: r.offer.Validators,
		Fetched: time.Now().UTC().Truncate(time.Second), Beside: r.beside, Digests: r.elsewhere, System: r.system,
		Release: r.release, List: r.list,
	}
	for _, d := range got.Digests {
		if d.Algorithm == digest.SHA256 {
			w.SHA256 = d.Hex()
		}
	}
	r.down, r.unsure = nil, got.Unsure
	if err := r.item.Finish(w); err != nil {
		return err
	}
	r.path = r.item.Path()
	return r.use()
}

// given is what was published for the file, so far as that counts.
func (r *remote) given(g *check.Given) (err error) {
	folder := filepath.Dir(r.path)
	besides := map[string]shelf.Beside{}
	for _, b := range r.beside {
		besides[filepath.Join(folder, b.Name)] = b
	}
	g.Origin = r.origin
	g.Origin.Unproven = func(path string) bool { // of what isn't noted yet, nobody knows how it came
		return filepath.Dir(path) == folder && !besides[path].Secure
	}
	g.Origin.Place = func(path string) string {
		if b, ok := besides[path]; ok {
			return b.Name + " at " + hostOf(b.From)
		}
		return r.who.short(path)
	}
	g.Origin.Host = func(path string) string {
		if b, ok := besides[path]; ok {
			return hostOf(b.From)
		}
		return "" // it was named, and is from here
	}
	g.Signatures = append(g.Signatures, r.signers...)
	for _, p := range r.elsewhere {
		if d, err := p.Digest(); err == nil {
			g.Elsewhere = append(g.Elsewhere, digest.Published{Digest: d, From: p.From})
		}
	}
	g.Origin.Before, err = r.past()
	return err
}

// addresses are those of the small files beside the download, by their paths, and its own, unless it was lent.
func (r *remote) addresses() map[string]fetch.Address {
	all := map[string]fetch.Address{}
	if !r.lent {
		all[r.path] = r.mirrors[0].Address
	}
	for _, b := range r.beside {
		if at, err := fetch.ParseAddress(b.From); err == nil {
			all[filepath.Join(filepath.Dir(r.path), b.Name)] = at
		}
	}
	return all
}

// recall is what is remembered of the signatures of what an address had; nil if nothing is.
func (r *remote) recall(at fetch.Address) (p *trust.Past, err error) {
	err = r.who.as(func() (err error) {
		p, err = trust.Recall(r.who.signedFolder().Path(), at.Key())
		return err
	})
	return p, err
}

// past is what is remembered of the signatures of what these addresses had.
func (r *remote) past() (all []trust.Past, err error) {
	for path, at := range r.addresses() {
		p, err := r.recall(at)
		if err != nil {
			return nil, err
		}
		if p != nil {
			p.Of, p.Image = path, path == r.path
			all = append(all, *p)
		}
	}
	return all, nil
}

// remember keeps by whom the download is signed, and what it was published in.
func (r *remote) remember(report check.Report) error {
	if report.SignedBy() == nil || report.Outcome() != check.Matched {
		return nil
	}
	addresses := r.addresses()
	return r.who.as(func() error {
		for _, s := range report.Signatures {
			if _, here := addresses[s.Of]; !here || s.Status != trust.Good {
				continue
			}
			for _, path := range []string{s.Of, r.path} { // the download also where the other lies beside it no more
				at, here := addresses[path]
				if !here {
					continue
				}
				p := trust.Past{URL: at.Shown(), Owner: s.Key.Owner, Fingerprint: s.Key.Fingerprint, Made: s.Made}
				if err := trust.Remember(r.who.signedFolder(), at.Key(), p); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

func hostOf(url string) string {
	a, err := fetch.ParseAddress(url)
	if err != nil {
		return url
	}
	return a.Host()
}

// judged keeps what a check has found.
func (r *remote) judged(report check.Report) error {
	changed := func(d digest.Digest) bool { return d.Algorithm == digest.SHA256 && d.Hex() != r.item.Whole.SHA256 }
	if slices.ContainsFunc(report.Download, changed) {
		err := r.item.Note(func(w *shelf.Whole) { w.Verdict = shelf.Differs })
		return cmp.Or(err, error(&imageError{view.ShelfChanged(r.item.Whole.Name)}))
	}
	verdict, by, in := shelf.Nothing, "", ""
	switch {
	case r.perhapsCut(report) != nil:
		verdict = shelf.Incomplete
	case report.Outcome() == check.Broken, report.Outcome() == check.Mismatched && !report.OnlyUnnamed():
		verdict = shelf.Differs
	case report.SignedBy() != nil:
		verdict, by = shelf.Signed, report.SignedBy().Key.Owner
	case report.Outcome() == check.Matched:
		verdict = shelf.AsPublished
		by, in = report.PublishedBy(report.Best())
	}
	if err := r.remember(report); err != nil {
		return err
	}
	return r.item.Note(func(w *shelf.Whole) { w.Verdict, w.By, w.In = verdict, by, in })
}

// perhapsCut is the error of a download of which nothing tells whether all of it came; nil if something does.
func (r *remote) perhapsCut(report check.Report) error {
	if !r.unsure || report.Outcome() == check.Matched {
		return nil
	}
	return &fetch.Error{Why: fetch.Endless, URL: r.mirrors[0].Shown(), Host: r.mirrors[0].Host(), Got: report.Size}
}

// collision refuses to replace a file in a folder that the user named.
func (r *remote) collision() error {
	if r.folder == "" {
		return nil
	}
	path := filepath.Join(r.folder, r.offer.Name)
	if _, err := os.Lstat(path); !errors.Is(err, fs.ErrNotExist) {
		return &usageError{view.AlreadyThere(path)}
	}
	return nil
}

// deliver moves the file, and what was published beside it, into the folder that the user named. What anybody could
// have changed on its way stays behind, since it would count for something there.
func (r *remote) deliver(report check.Report) (string, error) {
	from := filepath.Dir(r.path)
	signed := func(name string) bool {
		return slices.ContainsFunc(report.Signatures, func(s trust.Signature) bool {
			return s.Status == trust.Good && (filepath.Base(s.Of) == name || filepath.Base(s.File) == name)
		})
	}
	path := filepath.Join(r.folder, filepath.Base(r.path))
	err := r.who.as(func() error {
		if err := moveNew(r.path, path); errors.Is(err, fs.ErrExist) {
			return &usageError{view.AlreadyThere(path)}
		} else if err != nil {
			return err
		}
		for _, b := range r.beside {
			if !b.Secure && !signed(b.Name) {
				continue
			}
			if err := r.deliverBeside(filepath.Join(from, b.Name), b.Name); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return "", err
	}
	return path, nil
}

// worthKeeping tells whether what has come so far is worth carrying on by the same command, after an error.
func (r *remote) worthKeeping(err error) bool {
	e := (*fetch.Error)(nil)
	return (errors.Is(err, view.ErrInterrupted) || errors.As(err, &e) && e.Why != fetch.Endless) && r.item != nil &&
		(r.item.Has() || r.part != nil && r.part.Size() >= fetch.PieceSize)
}

// discard removes what was made in the folder that the user named, besides what was put there.
func (r *remote) discard() error {
	if r.folder == "" || r.item == nil {
		return nil
	}
	about := r.item.About
	r.close()
	r.item, r.used = nil, func() {}
	return ignoreBusy(r.shelf.Remove(shelf.Entry{About: about}))
}

// deliverBeside moves a small file. One of that name that is there already stays, and if it is another one, this gets
// the name of the download before its own.
func (r *remote) deliverBeside(from, name string) error {
	own := filepath.Base(r.path) + "-" + name
	for _, to := range []string{name, own} {
		to = filepath.Join(r.folder, to)
		err := moveNew(from, to)
		if !errors.Is(err, fs.ErrExist) {
			return err
		}
		a, err1 := state.ReadFile(from, maxTyped<<2)
		b, err2 := state.ReadFile(to, maxTyped<<2)
		if err1 == nil && err2 == nil && bytes.Equal(a, b) {
			return nil
		}
	}
	r.say(view.BesideKept(filepath.Join(r.folder, own)))
	return nil
}

// moveNew gives a file another name within a file system, if nothing has that yet.
func moveNew(from, to string) error {
	if _, err := os.Lstat(to); err == nil {
		return &fs.PathError{Op: "move", Path: to, Err: fs.ErrExist}
	}
	if err := os.Rename(from, to); err != nil {
		return err
	}
	return os.Chmod(to, 0o644) // as other downloads: what is on the shelf is its owner's alone
}
