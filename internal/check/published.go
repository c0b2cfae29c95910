package check

import (
	"errors"
	"path/filepath"
	"slices"

	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/trust"
)

// Published is what is known of an image before it is read.
type Published struct {
	Digests    []digest.Published
	Garbled    []*digest.GarbledError // given, and nearly digests
	Slips      []Slip
	Wrong      []*digest.SumsError // sums files that should help and don't
	Loose      []digest.Published  // digests without a name, which lie beside the image and count if they are right
	NotHere    []string            // packed files that the image may be unpacked from, of which digests are published
	Signatures []trust.Signature   // of the sums files
	Signed     []string            // files with signatures of the image itself, which are checked as it is read
	Unsigned   []Unsigned

	Origin   Origin             // where what was published comes from
	Unproven []digest.Published // that came in a way by which anybody could have changed them, and aren't signed

	NeedSize bool // how large the image is must be known, also where the digest of the download is enough

	Copy *Copy // what is known of it as a copy of a card; nil where it is none

	packed  string // path of a file that the image may be unpacked from; empty if there is none
	keys    Keys
	covered map[string]*digest.Sums // by path of a clear-signed sums file: what of it is signed
}

// Unsigned are lines of a clear-signed sums file that stand outside of what is signed, and are not used.
type Unsigned struct {
	File  string
	Lines []int
}

// Origin is where a download and what was published for it come from. The zero value says nothing.
type Origin struct {
	// Host tells from which host a small file came, by its path; empty, or nil: from none
	Host      func(path string) string
	Elsewhere string // host from which what is published elsewhere came; empty: it came from no host
	// Unproven tells whether the file at a path came in a way by which anybody could have changed it; nil: none did
	Unproven func(path string) bool
	Place    func(path string) string // what messages call the file at a path; nil: its path
	Before   []trust.Past             // what is remembered of where they came from
}

// Keys are those by which signatures are checked.
type Keys struct {
	Ring     trust.Ring
	Required bool // a signature by one of them must be there
}

// Nothing tells that there is nothing to compare the image with. A text that is nearly a digest is nothing that can be
// compared.
func (p Published) Nothing() bool {
	return len(p.Digests) == 0 && len(p.Wrong) == 0 && len(p.Loose) == 0 && len(p.Signed) == 0 && !p.keys.Required
}

// sure tells whether there is something that must agree.
func (p Published) sure() bool {
	return len(p.Digests) > 0 || len(p.Wrong) > 0 || len(p.Signed) > 0 || p.keys.Required
}

// Given is what the user says that was published.
type Given struct {
	Texts   []*digest.Sums         // what was given for its digest
	Garbled []*digest.GarbledError // texts that are nearly digests
	Sums    []string               // paths of sums files

	Once *Once // what other checks of the run have read; nil: nothing

	// Of what was downloaded: digests that are published elsewhere than in files, signatures of what they stand in,
	// and where all comes from.
	Elsewhere  []digest.Published
	Signatures []trust.Signature
	Origin     Origin
}

// Find collects what was published for the image: the digests given and those in the sums files named,
// or, without either, those in the sums files that lie beside it.
func Find(f *image.File, member string, g Given, keys Keys) (Published, error) {
	p := Published{Garbled: g.Garbled, keys: keys, covered: map[string]*digest.Sums{}}
	names := f.Names()
	if c, err := f.Look(member); err == nil {
		names = c.Names(f)
	}
	for _, text := range g.Texts {
		found, err := text.For(names...)
		if wrong := (*digest.SumsError)(nil); errors.As(err, &wrong) {
			p.Wrong = append(p.Wrong, wrong)
		}
		p.Digests = append(p.Digests, found...)
	}
	switch {
	case len(g.Sums) > 0:
		found, wrong, err := g.Once.files().Given(g.Sums, names...)
		if err != nil {
			return p, err
		}
		p.Digests, p.Wrong = append(p.Digests, found...), append(p.Wrong, wrong...)
	case len(g.Texts)+len(g.Garbled) == 0 && f.Path != image.Input: // what comes in lies beside nothing
		beside, err := g.Once.files().Beside(f.Path, names...)
		if err != nil {
			return p, err
		}
		p.Digests, p.Wrong, p.Loose = beside.Published, beside.Wrong, beside.Loose
	}
	p.Origin = g.Origin
	p.Origin.Before = g.remembered(keys.Ring)
	p.Digests, p.Signatures = append(p.Digests, g.Elsewhere...), append(p.Signatures, g.Signatures...)
	p.findCopy(f.Path, len(g.Sums)+len(g.Texts)+len(g.Garbled) > 0)
	p.findPacked(f)
	if err := p.findSignatures(f, g.Once); err != nil {
		return p, err
	}
	p.judgeOrigin(filepath.Dir(f.Path))
	return p, nil
}

// remembered is what is remembered of signatures by keys that are known now. What the user says that was published
// counts more.
func (g Given) remembered(known trust.Ring) []trust.Past {
	if len(g.Sums)+len(g.Texts)+len(g.Garbled) > 0 {
		return nil
	}
	return slices.DeleteFunc(slices.Clone(g.Origin.Before), func(p trust.Past) bool {
		return !slices.ContainsFunc(known, func(k trust.Key) bool { return k.Fingerprint == p.Fingerprint })
	})
}

// judgeOrigin takes out what anybody could have changed on its way, unless it is signed. beside is the folder of the
// image.
func (p *Published) judgeOrigin(beside string) {
	unproven := p.Origin.Unproven
	if unproven == nil {
		unproven = func(string) bool { return false }
	}
	p.Digests = slices.DeleteFunc(p.Digests, func(d digest.Published) bool {
		out := d.Sums != nil && unproven(d.From) && p.signer(d) == nil
		if out {
			p.Unproven = append(p.Unproven, d)
		}
		return out
	})
	p.Wrong = slices.DeleteFunc(p.Wrong, func(w *digest.SumsError) bool {
		return unproven(filepath.Join(beside, w.Name))
	})
	p.Loose = slices.DeleteFunc(p.Loose, func(d digest.Published) bool { return unproven(d.From) })
	if place := p.Origin.Place; place != nil {
		for _, all := range [][]digest.Published{p.Digests, p.Unproven, p.Loose} {
			for i := range all {
				if all[i].Sums != nil {
					all[i].Place = place(all[i].From)
				}
			}
		}
	}
}

// Algorithms are those needed to hold what was published, and SHA-256, by which images are known today.
func (p Published) Algorithms() []digest.Algorithm {
	out := []digest.Algorithm{digest.SHA256}
	for _, d := range slices.Concat(p.Digests, p.Loose) {
		out = append(out, d.Algorithm)
	}
	for _, g := range p.Garbled {
		out = append(out, g.Near)
	}
	for _, w := range p.Wrong {
		if w.Sums == nil {
			continue
		}
		for _, e := range w.Sums.Entries {
			out = append(out, e.Algorithm)
		}
	}
	return out
}
