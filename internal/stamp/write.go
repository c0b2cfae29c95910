package stamp

import (
	"context"
	"errors"
	"io"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"golang.org/x/sync/errgroup"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/meter"
)

// maxWriteErrors is how many blocks may fail to be written and still be left to repair.
const maxWriteErrors = 16

// block is a piece of the image on its way to the card. Its buffer goes back to the pool when all who
// use it have let go.
type block struct {
	index int
	buf   []byte // BlockSize long
	n     int    // the image's own bytes in it
	users atomic.Int32
	pool  *card.Pool
}

func (b *block) release() {
	if b.users.Add(-1) == 0 {
		b.pool.Put(b.buf)
	}
}

// write unpacks the image and writes all blocks but the first, which it keeps. Unpacking, the image's
// digest, and several writes go on at once.
func (r *run) write(ctx context.Context) error {
	start := time.Now()
	r.writing.Start(start)
	if r.mustDigest() {
		r.digests = digest.NewHasher(r.algorithms()...)
	}
	// What must be known of the packed bytes: the seal, where a check has computed it before, and the digest
	// otherwise. A raw image's own blocks tell both.
	var sealer digest.Sealer
	packed := digest.NewHasher(r.algorithms()...)
	var tap io.WriteCloser
	switch {
	case r.raw():
	case r.sealed():
		tap = digest.NewAside(&sealer)
	default:
		tap = digest.NewAside(packed)
	}
	stream, err := r.job.Image.Unpack(r.job.Contents, tap)
	if err == nil {
		err = r.pump(ctx, stream)
		stream.Close()
	}
	if tap != nil {
		tap.Close() // when the last bytes have been counted in
	}
	r.took(meter.Write, r.Written, start)
	if err != nil {
		return err
	}
	return r.settle(&sealer, packed)
}

func (r *run) raw() bool { return r.job.Contents.Packing == image.RawPacking }

// sealed tells whether a check has read the download before.
func (r *run) sealed() bool { return r.job.Known.Seal != (digest.Seal{}) }

// mustDigest tells whether the image's digest is neither known, nor the download's.
func (r *run) mustDigest() bool {
	return len(r.job.Known.Image) == 0 && !(r.raw() && r.sealed())
}

// settle holds what went by against what a check has found before.
func (r *run) settle(sealer *digest.Sealer, packed *digest.Hasher) error {
	known := r.job.Known
	if r.raw() {
		for _, b := range r.sums {
			sealer.Add(b)
		}
		packed = r.digests
	}
	switch {
	case !r.sealed():
		r.Download = packed.Digests()
	case sealer.Seal() == known.Seal:
		r.Download = known.Download
	default:
		return &ChangedError{r.job.Image.Path}
	}
	switch {
	case r.digests != nil:
		r.Image = r.digests.Digests()
	case r.raw():
		r.Image = r.Download
	default:
		r.Image = known.Image
	}
	if r.job.Hold != nil {
		return r.job.Hold(r.Download, r.Image)
	}
	return nil
}

func (r *run) algorithms() []digest.Algorithm {
	return append([]digest.Algorithm{digest.SHA256}, r.job.Algorithms...)
}

// pump runs the stages; it returns when all have ended.
func (r *run) pump(ctx context.Context, stream *image.Stream) error {
	stages, ctx := errgroup.WithContext(ctx)
	toWrite := make(chan *block)
	toDigest := make(chan *block, inFlight)
	var sums sync.Mutex // guards what the stages add to r

	stages.Go(func() error {
		defer close(toWrite)
		defer close(toDigest)
		return r.unpack(ctx, stream, toWrite, toDigest, &sums)
	})
	stages.Go(func() error {
		r.digest(toDigest)
		return nil
	})
	for range inFlight {
		stages.Go(func() error {
			for b := range toWrite {
				if ctx.Err() != nil {
					return context.Cause(ctx)
				}
				if err := r.writeBlock(b, &sums); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return stages.Wait()
}

// unpack cuts the image into blocks and hands each to be written and to be digested.
func (r *run) unpack(ctx context.Context, stream *image.Stream, toWrite, toDigest chan<- *block, sums *sync.Mutex) error {
	for i := 0; ; i++ {
		buf, err := r.pool.Get(ctx)
		if err != nil {
			return err
		}
		n, err := readAll(stream, buf)
		if err != nil {
			return err
		}
		if n == 0 {
			return nil
		}
		b := &block{index: i, buf: buf, n: n, pool: r.pool}
		b.users.Store(2)
		offset := int64(i) * BlockSize
		if offset+padded(int64(n), r.dev.SectorSize()) > r.dev.Size() {
			return &TooSmallError{Image: offset + int64(n), Card: r.dev.Size(), AtLeast: true}
		}
		sums.Lock()
		r.sums = append(r.sums, digest.Block{})
		r.Size += int64(n)
		sums.Unlock()
		r.job.Meter.Source(stream.Position(), r.job.Image.Size)
		for _, to := range []chan<- *block{toDigest, toWrite} {
			select {
			case to <- b:
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		}
		if n < BlockSize {
			return nil
		}
	}
}

// digest computes the digest of the whole image, where that isn't known.
func (r *run) digest(blocks <-chan *block) {
	for b := range blocks {
		if r.digests != nil {
			r.digests.Write(b.buf[:b.n])
		}
		b.release()
	}
}

// writeBlock digests a block and writes it. The first one is kept. A block that can't be written is left
// for repair, if there will be any.
func (r *run) writeBlock(b *block, sums *sync.Mutex) error {
	sum := digest.SumBlock(b.buf[:b.n])
	sums.Lock()
	r.sums[b.index] = sum
	sums.Unlock()
	whole := b.buf[:padded(int64(b.n), r.dev.SectorSize())]
	clear(whole[b.n:])
	if b.index == 0 {
		r.first = whole // never released: it is written at the end
		r.job.Meter.Add(int64(b.n))
		return nil
	}
	_, err := r.dev.WriteAt(whole, int64(b.index)*BlockSize)
	sums.Lock()
	r.Written += int64(b.n)
	if err != nil {
		r.unwritten = append(r.unwritten, b.index)
	}
	failures := len(r.unwritten)
	sums.Unlock()
	if err != nil && (!r.leaveForRepair(err) || failures > maxWriteErrors) {
		return err
	}
	r.writing.Mark(int64(b.index)*BlockSize, int64(b.n), time.Now())
	r.job.Meter.Add(int64(b.n))
	b.release()
	return nil
}

// leaveForRepair tells whether a block that failed will be written again, when the others have been read back.
func (r *run) leaveForRepair(err error) bool {
	return r.job.ReadBack && r.job.Repairs > 0 && errors.As(err, new(*card.IOError)) && errors.Is(err, syscall.EIO)
}
