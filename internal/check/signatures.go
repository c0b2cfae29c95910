package check

import (
	"bytes"
	"context"
	"errors"
	"io"
	"maps"
	"slices"
	"sync"

	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/meter"
	"zipstamp/internal/trust"
)

// findSignatures checks the signatures of the sums files in use, and collects those of the image itself.
func (p *Published) findSignatures(f *image.File, once *Once) error {
	if f.Path != image.Input {
		if err := p.findSigned(f.Path); err != nil {
			return err
		}
	}
	sums := map[string]*digest.Sums{} // by path
	for _, d := range p.Digests {
		if d.Sums != nil {
			sums[d.From] = d.Sums
		}
	}
	for _, path := range slices.Sorted(maps.Keys(sums)) {
		r := once.signatures(path, sums[path], p.keys.Ring)
		if r.err != nil {
			return r.err
		}
		if len(r.outside) > 0 {
			p.Unsigned = append(p.Unsigned, Unsigned{path, r.outside})
		}
		if r.covered != nil {
			p.covered[path] = r.covered
		}
		p.Signatures = append(p.Signatures, r.found...)
	}
	return nil
}

// findSigned finds the signatures of the image itself. Only those whose key is known are worth reading the image for.
func (p *Published) findSigned(path string) error {
	for _, file := range trust.Beside(path) {
		found, err := p.keys.Ring.Detached(path, bytes.NewReader(nil), file)
		if errors.Is(err, trust.ErrNoSignature) {
			continue
		}
		if err != nil {
			return err
		}
		if slices.ContainsFunc(found, func(s trust.Signature) bool { return s.Status != trust.Unknown }) {
			p.Signed = append(p.Signed, file)
			continue
		}
		p.Signatures = append(p.Signatures, found...)
	}
	return nil
}

// Once is what several checks of one run read, and find out, only once. All its methods work on a nil *Once, which
// reads anew each time. Its checks must have the same keys.
type Once struct {
	read digest.Files

	mu     sync.Mutex
	signed map[string]*signedSums
}

func (o *Once) files() *digest.Files {
	if o == nil {
		return nil
	}
	return &o.read
}

// signedSums is what the signatures of a sums file say.
type signedSums struct {
	once    sync.Once
	outside []int        // lines outside of what is clear-signed
	covered *digest.Sums // what is; nil if nothing is
	found   []trust.Signature
	err     error
}

// signatures checks those within and beside a sums file.
func (o *Once) signatures(path string, sums *digest.Sums, ring trust.Ring) *signedSums {
	r := &signedSums{}
	if o != nil {
		o.mu.Lock()
		if o.signed == nil {
			o.signed = map[string]*signedSums{}
		}
		if known := o.signed[path]; known != nil {
			r = known
		}
		o.signed[path] = r
		o.mu.Unlock()
	}
	r.once.Do(func() { r.err = r.check(path, sums, ring) })
	return r
}

// check checks the signatures of a sums file as it was read: it may be another one by now.
func (r *signedSums) check(path string, sums *digest.Sums, ring trust.Ring) error {
	text := sums.Text
	r.outside = sums.Outside()
	signed, found, err := ring.ClearSigned(path, text)
	if err != nil && !errors.Is(err, trust.ErrNoSignature) {
		return err
	}
	if err == nil && signed != nil {
		// what stands in the file before or after the message is not signed
		r.covered, _ = digest.ReadSums(bytes.NewReader(signed), path)
	}
	r.found = append(r.found, found...)
	for _, file := range trust.Beside(path) {
		found, err := ring.Detached(path, bytes.NewReader(text), file)
		if err != nil && !errors.Is(err, trust.ErrNoSignature) {
			return err
		}
		r.found = append(r.found, found...)
	}
	return nil
}

// signer is a good signature of the sums file that d is from, if it covers d.
func (p Published) signer(d digest.Published) *trust.Signature {
	for i, s := range p.Signatures {
		if s.Of != d.From || s.Status != trust.Good {
			continue
		}
		if s.Clear() {
			within := p.covered[d.From]
			if within == nil || !slices.ContainsFunc(within.Entries, func(e digest.Entry) bool {
				return e.Digest == d.Digest && e.File == d.File
			}) {
				continue
			}
		}
		return &p.Signatures[i]
	}
	return nil
}

// checkSigned checks the signatures of the download itself, which means to read it again.
func (r *Report) checkSigned(ctx context.Context, f *image.File, p Published, m *meter.Meter) error {
	for _, file := range p.Signed {
		m.Begin(meter.Signature, f.Size)
		sealer := &digest.Sealer{}
		found, err := p.keys.Ring.Detached(f.Path, &watched{ctx: ctx, r: f.Reader(), m: m, sealer: sealer}, file)
		if errors.Is(err, trust.ErrNoSignature) {
			continue
		}
		if err != nil {
			return err
		}
		for i := range found {
			if found[i].Status == trust.Good && r.Seal != (digest.Seal{}) && sealer.Seal() != r.Seal {
				found[i].Status, found[i].Why = trust.Bad, "the file changed while it was checked"
			}
		}
		r.Signatures = append(r.Signatures, found...)
	}
	return nil
}

// watched reads a download, shows how far it is, and seals it, so that what is signed is known to be what has the
// digests.
type watched struct {
	ctx    context.Context
	r      io.Reader
	m      *meter.Meter
	sealer *digest.Sealer
}

func (w *watched) Read(p []byte) (int, error) {
	if w.ctx.Err() != nil {
		return 0, context.Cause(w.ctx)
	}
	n, err := w.r.Read(p)
	w.m.Add(int64(n))
	w.sealer.Write(p[:n])
	return n, err
}

// BadSignature is the first signature that is bad or refused; nil if there is none. It counts whatever the digests say.
func (r Report) BadSignature() *trust.Signature {
	for i, s := range r.Signatures {
		if s.Status == trust.Bad || s.Status == trust.Refused {
			return &r.Signatures[i]
		}
	}
	return nil
}

// SignedBy is a good signature that covers the download, directly or by a digest that it has; nil if there is none.
func (r Report) SignedBy() *trust.Signature {
	for i, s := range r.Signatures {
		if s.Of == r.Path && s.Status == trust.Good {
			return &r.Signatures[i]
		}
	}
	for _, h := range r.Published {
		if h.Matched != Neither && h.Signed != nil {
			return h.Signed
		}
	}
	return nil
}
