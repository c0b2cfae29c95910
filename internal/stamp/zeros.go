package stamp

import (
	"context"
	"errors"
	"math/rand/v2"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// zeroBlock is the digest of a block of zeros.
var zeroBlock = digest.SumBlock(make([]byte, BlockSize))

// How a card is made to hold zeros without their being written.
const (
	// whether comparing pays is seen on the first sixteenth of the image, or so many blocks of it at most
	seenAfter = 16
	// how much is discarded in one go, bytes, first and at most: a card that takes long for it is seen soon
	discardFirst, discardAtOnce = 4 << 20, 64 << 20
	// of the time that writing zeros would take, the part that discarding may take
	discardWorth = 0.5
	// so much writing shows how fast a card writes
	steadyWrites = 3 * time.Second
	// how many places are read to see what a discard leaves
	zeroPlaces = 8
	// of an image, the share that is probably zeros, before its blocks tell more
	likelyZeros = 0.3
)

// zeros is what a run knows of discards. Its fields are guarded by the run's gate.
type zeros struct {
	decided  bool
	from, to int64  // what was discarded and reads as zeros, bytes of the card; nothing where they are the same
	blocks   []int  // that were not written because of that; guarded by the run's mu
	started  int    // the highest block on which work has begun; likewise
	left     bool   // blocks of zeros are left out; likewise
	seen     [2]int // blocks, and of these blocks of zeros; likewise
}

// begins notes that a block is at hand.
func (r *run) begins(b *block) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.zeros.started = max(r.zeros.started, b.index)
	r.zeros.seen[0]++
	if b.sum() == zeroBlock {
		r.zeros.seen[1]++
	}
}

// considerDiscarding has the rest of the image's place discarded, where that is likely to take less time than to go on
// comparing. It is called under the gate's lock for readers, and returns under it.
func (r *run) considerDiscarding(ctx context.Context, b *block, buf []byte) error {
	if r.zeros.decided || !r.opened || b.index < r.watched() || r.pays.stopped() {
		return nil
	}
	r.gate.RUnlock()
	defer r.gate.RLock()
	r.gate.Lock()
	defer r.gate.Unlock()
	if r.zeros.decided {
		return nil
	}
	r.zeros.decided = true
	share := max(float64(r.zeros.seen[1])/float64(r.zeros.seen[0]), likelyZeros)
	if !r.pays.discardPays(share) {
		return nil
	}
	return r.discard(ctx, buf, share)
}

// watched is how many blocks are gone through before discarding is thought of.
func (r *run) watched() int {
	return min(max(int(r.job.Source.Size().Known()/BlockSize/seenAfter), 1), seenAfter)
}

// discardPays tells whether leaving out a share of zeros saves more than leaving out what is there already: of a block,
// comparing saves the share that is the same, less what reading costs. It is decided once, so all that was seen counts,
// and not only what came last. As long as little was written, a card may have taken that faster than it goes on.
func (p *pays) discardPays(zeros float64) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	slower := p.slower()
	if p.fixed == 0 && p.writes.took < steadyWrites {
		slower = min(slower, likelySlower)
	}
	return zeros > (expected[anyBlock]+p.there)/(1+p.seen)-slower
}

// discard discards the image's place from the first block on which no work has begun, and sees what that leaves. The
// card may do with it what it likes; then all is written.
func (r *run) discard(ctx context.Context, buf []byte, share float64) error {
	from := int64(r.zeros.started+1) * BlockSize
	to := r.job.Source.Size().Known() / BlockSize * BlockSize
	switch r.job.Source.Size().Certainty {
	case image.Exact:
	case image.AtLeast:
		if r.job.Compare != nil { // of what comes in, only others have said how long it will be
			return nil
		}
	default:
		return nil
	}
	rate, _, _ := r.pays.rates()
	began, at := time.Now(), from
	for next := int64(discardFirst); at < to; next = min(2*next, discardAtOnce) {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		n := min(next, to-at)
		if err := card.Discard(r.dev, at, n); err != nil {
			if errors.As(err, new(*card.GoneError)) {
				return err
			}
			break
		}
		at += n
		saves := float64(at-from) / rate * share * discardWorth
		if time.Since(began).Seconds() > saves+1 {
			break
		}
	}
	r.Discarded = at - from
	if at > from && r.readsAsZeros(buf, from, at) {
		r.zeros.from, r.zeros.to = from, at
		r.mu.Lock()
		r.zeros.left = true
		r.mu.Unlock()
	}
	r.took(meter.Discard, r.Discarded, began)
	return nil
}

// readsAsZeros tells whether some places of what was discarded read as zeros.
func (r *run) readsAsZeros(buf []byte, from, to int64) bool {
	for i := range int64(zeroPlaces) {
		at := from + (to-from)/zeroPlaces*i
		at += rand.Int64N((to - from) / zeroPlaces)
		at -= at % spotSize
		p := buf[:spotSize]
		if _, err := r.dev.ReadAt(p, at); err != nil || !isZero(p) {
			return false
		}
	}
	return true
}

func isZero(p []byte) bool { return len(p) == 0 || p[0] == 0 && alike(p) }

// isThere tells whether a block is of zeros, in a place that has them since it was discarded; and whether its place was
// discarded at all, so that there is nothing to compare.
func (r *run) isThere(b *block) (zero, discarded bool) {
	at := int64(b.index) * BlockSize
	if at < r.zeros.from || at+BlockSize > r.zeros.to {
		return false, false
	}
	if b.sum() != zeroBlock {
		return false, true
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	r.zeros.blocks = append(r.zeros.blocks, b.index)
	r.Zeros += int64(b.n)
	return true, true
}

// writeZeros writes zeros where a card that was said to forget a place has something else in it, and reads all back. It
// isn't blamed for that.
func (r *run) writeZeros(ctx context.Context, bad *badBlocks) (*badBlocks, error) {
	var blocks []int
	for _, i := range r.zeros.blocks {
		if _, wrong := bad.blocks[i]; wrong {
			blocks = append(blocks, i)
		}
	}
	if len(blocks) == 0 {
		return bad, nil
	}
	start := time.Now()
	r.zeros.blocks = without(r.zeros.blocks, blocks)
	r.meter.Begin(meter.Write, int64(len(blocks))*BlockSize)
	buf, err := r.own.Get(ctx)
	if err != nil {
		return nil, err
	}
	defer r.own.Put(buf)
	for _, i := range blocks {
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		err := r.zero(buf, int64(i)*BlockSize, BlockSize)
		if err != nil && !errors.As(err, new(*card.IOError)) { // others show when it is read back
			return nil, err
		}
		r.mu.Lock()
		r.Written, r.Zeros = r.Written+BlockSize, r.Zeros-BlockSize
		r.mu.Unlock()
		r.meter.Add(BlockSize)
	}
	r.took(meter.Write, int64(len(blocks))*BlockSize, start)
	if err := r.displace(ctx, 0, blocks); err != nil {
		return nil, err
	}
	if err := r.flush(ctx); err != nil {
		return nil, err
	}
	r.Verified = 0
	return r.compare(ctx, meter.ReadBack, r.all())
}

// discardRest discards what lies beyond the image, for a card that is to be fast; whatever it reads as then is fine.
func (r *run) discardRest(ctx context.Context) error {
	if !r.job.DiscardRest {
		return nil
	}
	began, end := time.Now(), r.dev.Size()
	rest := layout.Extent{Offset: padded(r.src.size, BlockSize)}
	rest.Length = max(end-rest.Offset, 0)
	r.meter.Begin(meter.Discard, rest.Length)
	for at := rest.Offset; at < end; at += discardAtOnce {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		n := min(discardAtOnce, end-at)
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
	r.took(meter.Discard, r.Rest, began)
	return nil
}
