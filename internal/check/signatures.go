package check

import (
	"bytes"
	"context"
	"errors"
	"io"
	"maps"
	"slices"

	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/meter"
	"zipstamp/internal/trust"
)

// findSignatures checks the signatures of the sums files in use, and collects those of the image itself.
func (p *Published) findSignatures(f *image.File) error {
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
		if err := p.checkSums(path, sums[path]); err != nil {
			return err
		}
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

// checkSums checks the signatures within and beside a sums file, as it was read: it may be another one by now.
func (p *Published) checkSums(path string, sums *digest.Sums) error {
	text := sums.Text
	if lines := sums.Outside(); len(lines) > 0 {
		p.Unsigned = append(p.Unsigned, Unsigned{path, lines})
	}
	signed, found, err := p.keys.Ring.ClearSigned(path, text)
	if err != nil && !errors.Is(err, trust.ErrNoSignature) {
		return err
	}
	if err == nil && signed != nil {
		// what stands in the file before or after the message is not signed
		p.covered[path], _ = digest.ReadSums(bytes.NewReader(signed), path)
	}
	p.Signatures = append(p.Signatures, found...)
	for _, file := range trust.Beside(path) {
		found, err := p.keys.Ring.Detached(path, bytes.NewReader(text), file)
		if err != nil && !errors.Is(err, trust.ErrNoSignature) {
			return err
		}
		p.Signatures = append(p.Signatures, found...)
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
