package stamp

import (
	"context"
	"errors"
	"sync"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// zeroBlock is the digest of a block of zeros, which is reckoned when it is first needed.
var zeroBlock = sync.OnceValue(func() digest.Block { return digest.SumBlock(make([]byte, BlockSize)) })

// What is discarded beyond the image. A discard leaves contents undefined, and a card may round it to its own units, at
// once or later: the largest allocation unit is 64 MB (SD Physical Layer Simplified Specification, 4.10.2), so so much
// beyond the image is left alone.
const (
	restMargin    = 64 << 20
	discardAtOnce = 64 << 20
)

// ErrNoRest says that the card has nothing beyond the image that could be discarded.
var ErrNoRest = errors.New("the 64 MiB next to the image are left alone, and the card has no more")

// discardRest discards what lies beyond the image, for a card that is to be fast; whatever it reads as then is fine.
// The places in which marks stand are left out.
func (r *run) discardRest(ctx context.Context) error {
	if !r.job.DiscardRest {
		return nil
	}
	began := time.Now()
	stretches := r.restOfCard()
	if len(stretches) == 0 {
		r.NotDiscarded = ErrNoRest
	}
	total := int64(0)
	for _, e := range stretches {
		total += e.Length
	}
	r.meter.Begin(meter.Discard, total)
	for _, e := range stretches {
		for at := e.Offset; at < e.End() && r.NotDiscarded == nil; at += discardAtOnce {
			if ctx.Err() != nil {
				return context.Cause(ctx)
			}
			n := min(discardAtOnce, e.End()-at)
			if err := card.Discard(r.dev, at, n); err != nil {
				if errors.As(err, new(*card.GoneError)) {
					return err
				}
				r.NotDiscarded = err
				break
			}
			r.Rest += n
			r.meter.Add(n)
		}
	}
	r.took(meter.Discard, r.Rest, began)
	return nil
}

// restOfCard lists what may be discarded: all beyond the image and the margin, but for the blocks with marks.
func (r *run) restOfCard() (all []layout.Extent) {
	at, end := padded(r.src.size+restMargin, BlockSize), r.dev.Size()
	for _, p := range r.probes.places {
		block := p.offset / BlockSize * BlockSize
		if block > at {
			all = append(all, layout.Extent{Offset: at, Length: block - at})
		}
		at = max(at, block+BlockSize)
	}
	if end > at {
		all = append(all, layout.Extent{Offset: at, Length: end - at})
	}
	return all
}
