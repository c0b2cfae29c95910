package stamp

import (
	"context"
	"errors"
	"io"
	"sync"
	"sync/atomic"

	"golang.org/x/sync/errgroup"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
)

// source is the image on its way out of its packing, once for all cards. What it has found out is there when settled is
// closed.
type source struct {
	job     *Job
	pool    *card.Pool
	digests *digest.Hasher // of the image as it is unpacked; nil where they are known
	zeros   *card.Pool     // one block of zeros, for all that are known to be that; nil before the first one
	zero    []byte

	sums            []digest.Block // of each block's own bytes
	first           []byte         // the first block, BlockSize long
	size            int64          // of the image, bytes; so far, if it doesn't come to its end
	image, download []digest.Digest
	err             error
	settled         chan struct{}
	repairing       sync.Mutex // held by who unpacks the image again: one card at a time, to bound memory
}

// block is a piece of the image on its way to the cards. Its buffer goes back to the pool when all who
// use it have let go.
type block struct {
	index int
	buf   []byte // BlockSize long; zeros behind the image's end
	n     int    // the image's own bytes in it
	users atomic.Int32
	pool  *card.Pool // nil: the buffer is shared
	once  sync.Once
	own   digest.Block
}

func (b *block) release() {
	if b.users.Add(-1) == 0 && b.pool != nil {
		b.pool.Put(b.buf)
	}
}

// sum is the digest of the image's own bytes; whoever needs it first computes it.
func (b *block) sum() digest.Block {
	b.once.Do(func() { b.own = digest.SumBlock(b.buf[:b.n]) })
	return b.own
}

// isSettled tells whether all has been unpacked.
func (s *source) isSettled() bool {
	select {
	case <-s.settled:
		return true
	default:
		return false
	}
}

// errNobody says that all cards have failed, each with an error of its own.
var errNobody = errors.New("no card is left")

// feed unpacks the image for all cards that are ready, and settles what is known of it. If that fails, it stops the
// cards. It returns when all that it started has ended.
func (s *source) feed(ctx context.Context, stop context.CancelCauseFunc, runs []*run) {
	defer close(s.settled)
	for _, r := range runs {
		<-r.ready
	}
	// What must be known of the packed bytes: the seal, where a check has computed it before, and the digest
	// otherwise. A raw image's own blocks tell both.
	if s.mustDigest() {
		s.digests = digest.NewHasher(s.algorithms()...)
	}
	var sealer digest.Sealer
	packed := digest.NewHasher(s.algorithms()...)
	var tap io.WriteCloser
	switch {
	case s.raw(), s.job.Source.Form() == Gathered:
	case s.sealed():
		tap = digest.NewAside(&sealer)
	default:
		tap = digest.NewAside(packed)
	}
	stream, err := s.job.Source.Open(tap)
	if err == nil {
		err = s.pump(ctx, stream, runs)
		stream.Close()
	}
	if err != nil && err != errNobody { // each card that has failed has a reason of its own
		stop(err)
	}
	for _, r := range runs {
		close(r.queue)
	}
	if tap != nil {
		tap.Close() // when the last bytes have been counted in
	}
	if err == nil {
		err = s.settle(ctx, &sealer, packed)
	}
	s.err = err
}

func (s *source) raw() bool { return s.job.Source.Form() == AsIs }

// sealed tells whether a check has read the download before.
func (s *source) sealed() bool { return s.job.Known.Seal != (digest.Seal{}) }

// mustDigest tells whether the image's digest must be computed: somebody compares it, or it is the download's, which
// nobody has computed. That of an image that was unpacked would cost as much as to unpack it, and says no more than
// that of the download.
func (s *source) mustDigest() bool {
	switch s.job.Source.Form() {
	case AsIs:
		return !s.sealed()
	case Unpacked:
		return len(s.job.Known.Image) == 0 && s.job.Compare != nil
	}
	return false
}

func (s *source) algorithms() []digest.Algorithm {
	return append([]digest.Algorithm{digest.SHA256}, s.job.Algorithms...)
}

// settle compares what was unpacked with what a check has found before.
func (s *source) settle(ctx context.Context, sealer *digest.Sealer, packed *digest.Hasher) error {
	if s.job.Source.Changed() {
		return &ChangedError{s.job.Source.Path()}
	}
	known := s.job.Known
	if s.raw() {
		for _, b := range s.sums {
			sealer.Add(b)
		}
		packed = s.digests
	}
	switch {
	case s.job.Source.Form() == Gathered:
	case !s.sealed():
		s.download = packed.Digests()
	case sealer.Seal() == known.Seal:
		s.download = known.Download
	default:
		return &ChangedError{s.job.Source.Path()}
	}
	switch {
	case s.digests != nil:
		s.image = s.digests.Digests()
	case s.raw():
		s.image = s.download
	default:
		s.image = known.Image
	}
	if s.job.Compare != nil {
		return s.job.Compare(ctx, s.download, s.image)
	}
	return nil
}

// pump unpacks, and digests beside that.
func (s *source) pump(ctx context.Context, stream Stream, runs []*run) error {
	stages, ctx := errgroup.WithContext(ctx)
	toDigest := make(chan *block, inFlight)
	stages.Go(func() error {
		defer close(toDigest)
		return s.unpack(ctx, stream, toDigest, runs)
	})
	stages.Go(func() error {
		for b := range toDigest {
			if s.digests != nil {
				s.digests.Write(b.buf[:b.n])
			}
			s.sums = append(s.sums, b.sum())
			b.release()
		}
		return nil
	})
	return stages.Wait()
}

// next is the next block of the image; nil at its end.
func (s *source) next(ctx context.Context, stream Stream, i int) (*block, error) {
	if z, ok := stream.(ZeroStream); ok && i > 0 && z.SkipZeros(BlockSize) {
		if err := s.makeZeros(); err != nil {
			return nil, err
		}
		b := &block{index: i, buf: s.zero, n: BlockSize}
		b.once.Do(func() { b.own = zeroBlock() })
		return b, nil
	}
	buf, err := s.pool.Get(ctx)
	if err != nil {
		return nil, err
	}
	n, err := readAll(stream, buf)
	if n == 0 || err != nil {
		return nil, err
	}
	clear(buf[n:])
	return &block{index: i, buf: buf, n: n, pool: s.pool}, nil
}

// makeZeros gets the block of zeros, if it isn't there yet. Nobody writes into it.
func (s *source) makeZeros() (err error) {
	if s.zeros != nil {
		return nil
	}
	if s.zeros, err = card.NewPool(1, BlockSize); err == nil {
		s.zero, err = s.zeros.Get(context.Background())
		clear(s.zero)
	}
	return err
}

// unpack cuts the image into blocks and hands each to be digested and to all cards that go on.
func (s *source) unpack(ctx context.Context, stream Stream, toDigest chan<- *block, runs []*run) error {
	for i := 0; ; i++ {
		b, err := s.next(ctx, stream, i)
		if b == nil || err != nil {
			return err
		}
		buf, n := b.buf, b.n
		offset := int64(i) * BlockSize
		var takers []*run
		for _, r := range runs {
			if offset+padded(int64(n), r.dev.SectorSize()) > r.dev.Size() {
				r.fail(&TooSmallError{Image: offset + int64(n), Card: r.dev.Size(), AtLeast: true})
			}
			if r.goesOn() {
				takers = append(takers, r)
			}
		}
		if len(takers) == 0 {
			return errNobody
		}
		b.users.Store(int32(1 + len(takers)))
		if i == 0 { // kept: it is written at the end
			b.users.Add(1)
			s.first = buf
		}
		s.size += int64(n)
		for _, r := range takers {
			r.meter.Source(stream.Position(), s.job.Source.Download())
		}
		toDigest <- b
		for _, r := range takers {
			r.queue <- b // each takes all that comes, until the queue is closed
		}
		if n < BlockSize {
			return nil
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
	}
}
