package fetch

import (
	"bufio"
	"compress/gzip"
	"context"
	"errors"
	"io"
	"net/http"
	"slices"
	"strings"
	"unicode/utf8"
)

// judge looks at an answer before its body is read.
func (d *Download) judge(ctx context.Context, offset int64, before Source) (o Offer, err error) {
	l := d.open
	from := l.from
	fail := func(e Error) (Offer, error) {
		e.URL, e.Host = from.Shown(), from.Host()
		return o, &e
	}
	now := validatorsOf(l.Header)
	changed := !before.None() && before.differ(now)
	other := changed && len(d.Want.Digests) == 0 // with a digest, it shows in the end
	switch {
	case l.StatusCode == http.StatusNotModified && l.isConditional():
		o.Current, o.From, o.Secure, o.Redirects = true, l.at(from.Address), l.Secure, l.Redirects
		return o, nil
	case l.StatusCode == http.StatusOK:
		l.length = l.ContentLength
		if err := l.decode(from); err != nil {
			return o, err
		}
		if err := d.refusePage(ctx, l); err != nil { // before what is there is given up for it
			return o, err
		}
		if offset > 0 {
			if other || l.length != d.Kept.Length || l.loose || before.None() && !d.verifies() {
				return o, d.over(StartsOver)
			}
			l.skip = offset
			d.tell(Event{Kind: Skips, At: offset})
		}
	case l.StatusCode == http.StatusPartialContent:
		start, total, ok := contentRange(l.Header.Get("Content-Range"))
		if !ok || start != offset || offset == 0 || from.whole {
			if !from.whole && offset > 0 { // it may do better without a range
				from.whole = true
				return o, errAgain
			}
			return fail(Error{Why: Unasked})
		}
		l.length = total
		if other || total >= 0 && d.Kept.Length >= 0 && total != d.Kept.Length {
			return o, d.over(StartsOver)
		}
		l.length = max(total, d.Kept.Length)
		d.tell(Event{Kind: CarriesOn, At: offset})
	case l.StatusCode == http.StatusRequestedRangeNotSatisfiable:
		if _, total, ok := contentRange(l.Header.Get("Content-Range")); !ok || total != offset || changed ||
			d.Kept.Length >= 0 && total != d.Kept.Length {
			return o, d.over(StartsOver)
		}
		l.length = offset // it was whole already
		l.body = bufio.NewReader(http.NoBody)
	default:
		return o, statusError(from.Address, l.Response)
	}
	if want := d.Want.Size; want > 0 && l.length >= 0 && l.length != want {
		return fail(Error{Why: OtherLength, Want: want, Got: l.length})
	}
	if d.Room != nil && l.length > d.Part.Size() {
		if err := d.Room(l.length - d.Part.Size()); err != nil {
			return o, err
		}
	}
	d.keepSaid(l)
	o = Offer{
		Name: d.nameOf(l), Length: l.length, From: l.at(from.Address), Secure: l.Secure, Redirects: l.Redirects,
		Validators: now,
	}
	d.links(l, &o)
	d.Kept.By[from.Key()] = Source{now, bounded(l.Header.Get("Date"))}
	if d.Kept.Name == "" {
		d.Kept.Name = o.Name
	}
	o.Name, d.Kept.Length = d.Kept.Name, l.length
	d.Kept.Insecure = d.Kept.Insecure || !l.Secure
	if d.Keep != nil {
		return o, d.Keep(d.Kept)
	}
	return o, nil
}

// refusePage looks at the start of a file, without reading it: a network's page for signing in is not what was asked
// for.
func (d *Download) refusePage(ctx context.Context, l *live) error {
	head, err := l.body.Peek(1 << 10)
	if err != nil && err != io.EOF && !errors.Is(err, bufio.ErrBufferFull) {
		return d.broken(ctx, l.from, err)
	}
	if isPage(head, l.Header.Get("Content-Type")) {
		return &Error{Why: Page, URL: l.from.Shown(), Host: l.from.Host()}
	}
	return nil
}

// decode unpacks what a host packs on its way though it was asked not to. Many take the packing of a .gz for that: then
// the bytes are those that were published.
func (l *live) decode(from *source) error {
	switch packing := strings.ToLower(strings.TrimSpace(l.Header.Get("Content-Encoding"))); {
	case packing == "" || packing == "identity":
		return nil
	case packing != "gzip" && packing != "x-gzip":
		return &Error{Why: Encoded, URL: from.Shown(), Host: from.Host(), Err: errors.New(packing)}
	case strings.HasSuffix(strings.ToLower(from.Name()), "gz"):
		return nil
	}
	z, err := gzip.NewReader(l.body)
	if err != nil {
		return &Error{Why: Broken, URL: from.Shown(), Host: from.Host(), Err: err}
	}
	l.body, l.length, l.loose = bufio.NewReaderSize(z, 64<<10), -1, true
	return nil
}

// keepSaid keeps the digests that a host says of the file.
func (d *Download) keepSaid(l *live) {
	if l.loose {
		return
	}
	for _, s := range fieldDigests(slices.Concat(l.Header.Values("Repr-Digest"), l.Header.Values("Digest"))) {
		if !slices.Contains(d.said, s) {
			d.said = append(d.said, s)
		}
	}
}

// nameOf is the name of the file, by what the host says, or by its address.
func (d *Download) nameOf(l *live) string {
	if name := nameIn(l.Header.Get("Content-Disposition")); name != "" {
		return name
	}
	asked, came := l.from.Name(), l.at(l.from.Address).Name()
	if strings.Contains(came, ".") && !strings.Contains(asked, ".") { // /latest leads to a file
		return came
	}
	for _, name := range []string{asked, came} {
		if name != "" {
			return name
		}
	}
	return "download"
}

// links takes up the mirrors that a host names (RFC 6249), if it can be seen whether they have the same.
func (d *Download) links(l *live, o *Offer) {
	at := l.at(l.from.Address)
	var more []Mirror
	for _, one := range linksOf(l.Header.Values("Link")) {
		to, err := at.Resolve(one.to)
		if err != nil || d.Client.admits(to) != nil {
			continue
		}
		switch {
		case one.relation == "describedby" && one.kind == metalinkType && o.Metalink == nil:
			o.Metalink = &to
		case one.relation == "duplicate" && d.verifies():
			more = append(more, Mirror{to, one.priority})
		}
	}
	sortMirrors(more)
	d.Add(more...)
}

// isPage tells whether a file starts as a web page does, where an image was asked for.
func isPage(head []byte, kind string) bool {
	found := http.DetectContentType(head)
	isText := strings.HasPrefix(found, "text/plain") && utf8.Valid(head[:max(len(head)-utf8.UTFMax, 0)])
	return strings.HasPrefix(found, "text/html") || isText && strings.HasPrefix(strings.ToLower(kind), "text/html")
}
