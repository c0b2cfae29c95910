// Package check compares a download with what was published for it.
//
// A published digest may be that of the file as it was downloaded, or that of the image unpacked from it;
// publishers do both, and seldom say which. So each is tried on the download first, which costs one
// reading, and on the unpacked image only if it is needed.
package check

import (
	"context"
	"errors"
	"io"
	"slices"

	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/meter"
	"zipstamp/internal/trust"
)

// Outcome is the answer of a check.
type Outcome uint8

// The outcomes.
const (
	NothingPublished Outcome = iota
	Matched                  // every published digest is that of the download or of its image
	Mismatched               // at least one is not
	Broken                   // nothing was published, and the file is no whole image
)

// On tells what a published digest was found to be the digest of.
type On string

// What a digest can match.
const (
	Neither  On = ""
	Download On = "download"    // the file as it was downloaded
	Image    On = "image"       // the image unpacked from it
	Packed   On = "packed file" // the file beside it, which unpacks to just this image
)

// Compared is a published digest and how it fared.
type Compared struct {
	digest.Published
	Matched On
	Signed  *trust.Signature // a good signature that covers it; nil if there is none
	Slip    string           // how it would be right, if it was copied wrong: "digit 3 is missing"
	Other   *digest.Entry    // of another file that the computed digest belongs to; nil if there is none
}

// Report is what a check found out.
type Report struct {
	Path       string
	Size       int64 // of the download, bytes
	Packing    string
	Member     string          // within an archive
	Unpacked   image.Size      // of the image
	Unchecked  bool            // the packing has no check values, so that damage may go unseen
	Download   []digest.Digest // of the file as downloaded
	Image      []digest.Digest // of the unpacked image; empty where it wasn't needed, or couldn't be had
	Published  []Compared
	Slips      []Slip
	Wrong      []Unnamed
	Near       []digest.Published // digests without a name, that lie beside the image and are not its own
	NotHere    []string           // packed files of which digests are published, and that are not here
	Via        *Via               // the packed file that the image was unpacked from; nil if none was looked at
	Signatures []trust.Signature  // of the sums files and of the download
	Unsigned   []Unsigned
	Required   bool        // a signature by a key that the user named must be there
	Seal       digest.Seal // of the download
	Origin     Origin
	Unproven   []digest.Published // as of Published
	Copy       *Copy              // likewise

	// What explains a mismatch.
	Other     image.Stranger // what the file is in place of an image
	Partial   string         // the ending that tells that the download was not finished
	Damage    error          // why it can't be unpacked
	NoImage   error          // it can be unpacked, and is no image of a disk
	Shortfall int64          // bytes that a raw image lacks, going by its partition table

	packed []digest.Digest // of the packed file beside it
}

// Slip is a text that was given for a digest, and is nearly that of the download or its image.
type Slip struct {
	*digest.GarbledError
	Of   On
	What string // "digit 3 is missing"
}

// Unnamed is a sums file that doesn't tell the digest of the image.
type Unnamed struct {
	*digest.SumsError
	Other *digest.Entry // of another file, that the computed digest belongs to
}

// Outcome sums up the report.
func (r Report) Outcome() Outcome {
	switch {
	case r.Size == 0 && len(r.Wrong) == 0 && r.Unmatched() == nil:
		return Broken // and be it the digest of nothing that was published
	case len(r.Wrong) > 0, len(r.Slips) > 0, r.Unmatched() != nil, r.BadSignature() != nil, r.Required &&
		r.SignedBy() == nil:
		return Mismatched
	case len(r.Published) > 0, r.SignedBy() != nil:
		return Matched
	case r.Size == 0, r.Other.Kind != "", r.Damage != nil &&
		!errors.As(r.Damage, new(*image.ChoiceError)), r.Shortfall > 0:
		return Broken
	}
	return NothingPublished
}

// OnlyUnnamed tells whether all that speaks against the download is that files of digests don't name it.
func (r Report) OnlyUnnamed() bool {
	wrong, absent := len(r.Wrong) > 0, !slices.ContainsFunc(r.Wrong, func(u Unnamed) bool { return !u.Absent })
	r.Wrong = nil
	return wrong && absent && r.Size > 0 && (r.Outcome() == NothingPublished || r.Outcome() == Matched)
}

// Unmatched is the first published digest that is neither the download's nor the image's; nil if there is none.
func (r Report) Unmatched() *Compared {
	for i := range r.Published {
		if r.Published[i].Matched == Neither {
			return &r.Published[i]
		}
	}
	return nil
}

// Uncompared tells why a published digest that is not the download's could not be compared with what is in it: that
// can't be unpacked here. nil if all was compared.
func (r Report) Uncompared() error {
	if r.Unmatched() == nil || len(r.Image) > 0 || r.Size == 0 || r.Other.Kind != "" {
		return nil
	}
	if errors.As(r.Damage, new(*image.UnusableError)) || errors.As(r.Damage, new(*image.ChoiceError)) {
		return r.Damage
	}
	return nil
}

// Best is the published digest that says most of those that are compared; the zero value if there is none.
func (r Report) Best() (best Compared) {
	for i, h := range r.Published {
		if i == 0 || h.Algorithm > best.Algorithm {
			best = h
		}
	}
	return best
}

// PublishedBy says where a digest was published: at a host, or else in something that has a name. Both are empty for
// one that somebody gave, and for files that came from nowhere.
func (r Report) PublishedBy(h Compared) (host, in string) {
	switch {
	case h.From == "":
		return "", ""
	case h.Sums != nil && r.Origin.Host == nil:
		return "", ""
	case h.Sums != nil:
		return r.Origin.Host(h.From), ""
	case r.Origin.Elsewhere != "":
		return r.Origin.Elsewhere, ""
	}
	return "", h.From
}

// OnlyForgeable tells whether all that matched are digests that show damage and not forgery.
func (r Report) OnlyForgeable() bool {
	for _, h := range r.Published {
		if !h.Algorithm.Forgeable() {
			return false
		}
	}
	return len(r.Published) > 0
}

// Run reads the download and compares it with what was published. With nothing published it computes
// the digests of the download and of the image in one pass. The error is one of reading or of ctx;
// a file that can't be unpacked is no error, but stands in the report.
func Run(ctx context.Context, f *image.File, member string, p Published, m *meter.Meter) (Report, error) {
	r := Report{
		Path: f.Path, Size: f.Size, Packing: f.Packing(), Other: f.Other(), Partial: f.Partial(),
		Shortfall: f.Shortfall(),
	}
	contents, err := f.Look(member)
	// it may be what was published, whatever it is
	if errors.As(err, new(*image.UnusableError)) && !f.Once() && !p.Nothing() {
		anything := f.Anything()
		if c, other := anything.Look(member); other == nil && c.Packing != image.RawPacking {
			r.NoImage, f, contents = err, anything, c
			err = nil
		}
	}
	if err != nil {
		r.Damage = err
	} else {
		r.Packing, r.Member, r.Unpacked = contents.Packing, contents.Member, contents.Size
		r.Unchecked = contents.Unchecked
	}
	algorithms := p.Algorithms()
	canUnpack := r.Damage == nil && r.Packing != image.RawPacking
	switch {
	case (!p.sure() || f.Once()) && canUnpack:
		if err := r.both(ctx, f, contents, algorithms, algorithms, m); err != nil {
			return r, err
		}
	case p.NeedSize && canUnpack && contents.Size.Certainty != image.Exact:
		if err := r.both(ctx, f, contents, algorithms, nil, m); err != nil {
			return r, err
		}
	}
	if r.Download == nil {
		if err := r.download(ctx, f, algorithms, m); err != nil {
			return r, err
		}
	}
	r.Size = f.Size // of a pipe, it is known now
	r.Required, r.Signatures, r.Unsigned = p.keys.Required, slices.Clone(p.Signatures), p.Unsigned
	r.Origin, r.Unproven, r.Copy = p.Origin, p.Unproven, p.Copy
	r.NotHere = p.NotHere
	r.compare(p)
	if p.packed != "" && r.Unmatched() != nil {
		if err := r.lookPacked(ctx, p, algorithms, m); err != nil {
			return r, err
		}
		r.compare(p)
	}
	if err := r.checkSigned(ctx, f, p, m); err != nil {
		return r, err
	}
	if (r.Unmatched() != nil || p.Unexplained(r) != nil) && canUnpack && !f.Once() {
		if err := r.unpack(ctx, f, contents, algorithms, nil, m); err != nil {
			return r, err
		}
		r.compare(p)
	}
	return r, r.tryAlike(ctx, f, contents, p, canUnpack, m)
}

// tryAlike compares digests of which only the number of digits is known by the other algorithms that have as many.
func (r *Report) tryAlike(
	ctx context.Context, f *image.File, c image.Contents, p Published, canUnpack bool, m *meter.Meter,
) error {
	var others []digest.Algorithm
	for _, h := range r.Published {
		if h.Matched == Neither && h.Guessed {
			others = append(others, h.Algorithm.Alike()...)
		}
	}
	if len(others) == 0 || f.Once() || r.Size == 0 {
		return nil
	}
	again := Report{Path: r.Path, Size: r.Size}
	if err := again.download(ctx, f, others, m); err != nil {
		return err
	}
	if canUnpack && len(r.Image) > 0 {
		if err := again.unpack(ctx, f, c, others, nil, m); err != nil {
			return err
		}
	}
	before := *r
	r.Download, r.Image = slices.Concat(r.Download, again.Download), slices.Concat(r.Image, again.Image)
	r.compare(p)
	right := 0
	for i := range r.Published {
		if r.Published[i].Matched != before.Published[i].Matched {
			right++
		}
	}
	if right == 0 { // what was computed in vain would only confuse
		*r = before
	}
	return nil
}

// Compare makes a report of a download whose digests have been computed by others, as it was stamped.
func Compare(f *image.File, c image.Contents, p Published, download, unpacked []digest.Digest) Report {
	r := Report{
		Path: f.Path, Size: f.Size, Packing: c.Packing, Member: c.Member, Unpacked: c.Size,
		Download: download, Image: unpacked, Required: p.keys.Required, Signatures: slices.Clone(p.Signatures),
		Unsigned: p.Unsigned, Origin: p.Origin, Unproven: p.Unproven, Copy: p.Copy,
	}
	r.compare(p)
	return r
}

// Beforehand is the report of a download that is refused whatever its digests will be, since a sums file doesn't name
// it, or a signature is bad. refused is false where it depends on them.
func Beforehand(f *image.File, c image.Contents, p Published) (r Report, refused bool) {
	p.Digests, p.Loose, p.Garbled = nil, nil, nil
	r = Compare(f, c, p, nil, nil)
	return r, len(r.Wrong) > 0 || r.BadSignature() != nil
}

// CompareSigned adds what the signatures of the download itself say; it is read for that.
func (r *Report) CompareSigned(ctx context.Context, f *image.File, p Published, m *meter.Meter) error {
	return r.checkSigned(ctx, f, p, m)
}

// Sum reads a file as it is, for its SHA-256.
func Sum(ctx context.Context, f *image.File, m *meter.Meter) ([]digest.Digest, error) {
	var r Report
	err := r.download(ctx, f, []digest.Algorithm{digest.SHA256}, m)
	return r.Download, err
}

// download reads the file as it is.
func (r *Report) download(ctx context.Context, f *image.File, algorithms []digest.Algorithm, m *meter.Meter) error {
	m.Begin(meter.Check, f.Size)
	h := digest.NewHasher(algorithms...)
	var sealer digest.Sealer
	aside := digest.NewAside(&sealer)
	err := copyAll(ctx, io.MultiWriter(aside, h), f.Reader(), f.Size, func(n int) { m.Add(int64(n)) })
	aside.Close()
	if err != nil {
		return err
	}
	r.Download, r.Seal = h.Digests(), sealer.Seal()
	return nil
}

// both reads the file once for the digests of download and image, by different algorithms. Where it can't be unpacked
// to the end, the digest of the download is computed all the same.
func (r *Report) both(
	ctx context.Context, f *image.File, c image.Contents, algorithms, ofImage []digest.Algorithm, m *meter.Meter,
) error {
	h := digest.NewHasher(algorithms...)
	var sealer digest.Sealer
	aside := digest.NewAside(io.MultiWriter(h, &sealer))
	err := r.unpack(ctx, f, c, ofImage, aside, m)
	if err == nil && r.Damage != nil && f.Once() {
		err = copyAll(ctx, aside, f.Reader(), 0, func(int) {}) // there is no second time
	}
	aside.Close()
	if err == nil && (r.Damage == nil || f.Once()) {
		r.Download, r.Seal = h.Digests(), sealer.Seal()
	}
	return err
}

// unpack reads the image out of its packing. tap may be nil.
func (r *Report) unpack(
	ctx context.Context, f *image.File, c image.Contents, algorithms []digest.Algorithm, tap io.Writer, m *meter.Meter,
) error {
	m.Begin(meter.Unpack, c.Size.Likely(f.Size))
	s, err := f.Unpack(c, tap)
	if err != nil {
		return r.damaged(err)
	}
	defer s.Close()
	h := digest.NewHasher(algorithms...)
	aside := digest.NewAside(h)
	var count int64
	err = copyAll(ctx, aside, s, c.Size.Likely(0), func(n int) {
		count += int64(n)
		m.Add(int64(n))
		m.Source(s.Position(), f.Size)
	})
	aside.Close()
	if err != nil {
		return r.damaged(err)
	}
	r.Image = h.Digests()
	r.Unpacked = image.Size{Bytes: count, Certainty: image.Exact}
	return nil
}

// damaged keeps an error that is about the file's contents, and returns any other.
func (r *Report) damaged(err error) error {
	if errors.As(err, new(*image.DamageError)) || errors.As(err, new(*image.UnusableError)) {
		r.Damage = err
		return nil
	}
	return err
}

// compare compares what has been computed so far with what was published.
func (r *Report) compare(p Published) {
	r.Published, r.Wrong, r.Slips, r.Near = nil, nil, nil, nil
	for _, d := range p.Digests {
		h := r.comparedWith(d)
		h.Signed = p.signer(d)
		if h.Matched == Neither {
			h.Other = r.other(d.Sums)
			h.Slip = r.slip(d.Hex())
		}
		r.Published = append(r.Published, h)
	}
	for _, d := range p.Loose {
		if h := r.comparedWith(d); h.Matched != Neither {
			r.Published = append(r.Published, h)
		} else {
			r.Near = append(r.Near, d)
		}
	}
	for _, g := range p.Garbled {
		r.holdGarbled(g)
	}
	for _, w := range p.Wrong {
		r.Wrong = append(r.Wrong, Unnamed{w, r.other(w.Sums)})
	}
}

// comparedWith tells what a published digest is that of.
func (r *Report) comparedWith(d digest.Published) Compared {
	h := Compared{Published: d}
	for _, of := range []struct {
		on    On
		among []digest.Digest
	}{{Download, r.Download}, {Image, r.Image}, {Packed, r.packed}} {
		if of.on == Packed && (r.Via == nil || !r.Via.Same) {
			continue
		}
		if found, ok := equal(d, of.among); ok {
			h.Matched, h.Digest = of.on, found
			break
		}
	}
	return h
}

// slip tells whether hex is nearly a digest that was computed.
func (r *Report) slip(hex string) string {
	for _, d := range slices.Concat(r.Download, r.Image) {
		if what := digest.Slip(hex, d.Hex()); what != "" {
			return what
		}
	}
	return ""
}

// holdGarbled compares what is nearly a digest.
func (r *Report) holdGarbled(g *digest.GarbledError) {
	for _, of := range []struct {
		on      On
		digests []digest.Digest
	}{{Download, r.Download}, {Image, r.Image}} {
		for _, d := range of.digests {
			what := digest.Slip(g.Digits, d.Hex())
			if g.Digits == d.Hex() {
				what = "it has characters that look like digits and are none: " + g.Alikes
			} else if what != "" && g.Alikes != "" {
				what += ", and it has characters that look like digits and are none: " + g.Alikes
			}
			if what != "" {
				r.Slips = append(r.Slips, Slip{g, of.on, what})
				return
			}
		}
	}
}

// Unexplained is a text that was given for a digest and is none, nor nearly that of this download; nil if there is
// none.
func (p Published) Unexplained(r Report) *digest.GarbledError {
	for _, g := range p.Garbled {
		if !slices.ContainsFunc(r.Slips, func(s Slip) bool { return s.GarbledError == g }) {
			return g
		}
	}
	return nil
}

// other finds the name under which the computed digests stand in a sums file.
func (r *Report) other(sums *digest.Sums) *digest.Entry {
	if sums == nil {
		return nil
	}
	for _, d := range slices.Concat(r.Download, r.Image) {
		if e, found := sums.NameOf(d); found && e.File != "" {
			return &e
		}
	}
	return nil
}

// Pieces in which bytes are copied, bytes.
const (
	leastCopy = 32 << 10
	mostCopy  = 1 << 20
)

// copyAll copies until r ends or ctx does. likely is how much that may be; 0 where nobody knows.
func copyAll(ctx context.Context, w io.Writer, r io.Reader, likely int64, count func(n int)) error {
	size := int64(mostCopy)
	if likely > 0 {
		size = min(max(likely, leastCopy), mostCopy)
	}
	buf := make([]byte, size)
	for {
		if err := ctx.Err(); err != nil {
			return context.Cause(ctx)
		}
		n, err := r.Read(buf)
		if n > 0 {
			if _, err := w.Write(buf[:n]); err != nil {
				return err
			}
			count(n)
		}
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return err
		}
	}
}
