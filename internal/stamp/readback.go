package stamp

import (
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
	"zipstamp/internal/meter"
)

// maxReadErrors is how many blocks may fail to be read, each of which can take a reader half a minute, before
// the card is given up.
const maxReadErrors = 32

// hopeless is how many bad blocks, of at least an eighth of all, are no wear that could be repaired.
const hopeless = 16

// readBack reads the blocks from first to last (exclusive) from the card, and repairs those that are wrong.
// The error is a *ReadBackError if some stay wrong.
func (r *run) readBack(ctx context.Context, first, last int) error {
	blocks := make([]int, 0, last-first)
	for i := first; i < last; i++ {
		blocks = append(blocks, i)
	}
	bad, err := r.compare(ctx, meter.ReadBack, blocks)
	if err != nil {
		return err
	}
	if len(bad.blocks) == 0 {
		return nil
	}
	start := bad.indices()
	r.Loss = r.findLoss(bad)
	worth := r.Loss == nil && (len(start) <= hopeless || len(start) <= len(r.sums)/8)
	for round := 1; worth && len(bad.blocks) > 0 && round <= r.job.Repairs; round++ {
		r.Attempts = max(r.Attempts, round)
		bad, err = r.repair(ctx, bad.indices())
		if err != nil {
			return err
		}
	}
	left := bad.indices()
	r.Repaired = append(r.Repaired, r.extents(without(start, left))...)
	if len(left) == 0 {
		return nil
	}
	if r.Loss == nil {
		r.Loss = r.findLoss(bad)
	}
	r.Bad = r.extents(left)
	return &ReadBackError{Blocks: len(left), Last: bad.last}
}

// without is all less those in left.
func without(all, left []int) []int {
	return slices.DeleteFunc(slices.Clone(all), func(i int) bool { return slices.Contains(left, i) })
}

// badBlocks are blocks that are wrong, with the digest of what was read in their place: zero where nothing was.
type badBlocks struct {
	mu     sync.Mutex
	blocks map[int]digest.Block
	errors int
	last   error // of reading
}

func (b *badBlocks) indices() []int { return slices.Sorted(maps.Keys(b.blocks)) }

// add keeps a block that is wrong; err is that of reading, if there was one.
func (b *badBlocks) add(i int, got digest.Block, err error) (errors int) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.blocks[i] = got
	if err != nil {
		b.last = err
		b.errors++
	}
	return b.errors
}

// compare reads blocks, several at once, and holds the digest of each against the one kept.
func (r *run) compare(ctx context.Context, phase meter.Phase, blocks []int) (*badBlocks, error) {
	var total int64
	for _, i := range blocks {
		total += r.blockLength(i)
	}
	start := time.Now()
	r.job.Meter.Begin(phase, total)
	if phase == meter.ReadBack {
		r.reading.Start(start)
	}
	bad := &badBlocks{blocks: map[int]digest.Block{}}
	stages, ctx := errgroup.WithContext(ctx)
	next := make(chan int)
	stages.Go(func() error {
		defer close(next)
		for _, i := range blocks {
			select {
			case next <- i:
			case <-ctx.Done():
				return context.Cause(ctx)
			}
		}
		return nil
	})
	for range inFlight {
		stages.Go(func() error {
			buf, err := r.pool.Get(ctx)
			if err != nil {
				return err
			}
			defer r.pool.Put(buf)
			for i := range next {
				if err := r.compareBlock(i, buf, phase, bad); err != nil {
					return err
				}
			}
			return nil
		})
	}
	err := stages.Wait()
	r.took(phase, total, start)
	return bad, err
}

func (r *run) compareBlock(i int, buf []byte, phase meter.Phase, bad *badBlocks) error {
	n := r.blockLength(i)
	got, err := r.readBlock(i, buf)
	if err != nil {
		if errors.As(err, new(*card.GoneError)) || bad.add(i, digest.Block{}, err) > maxReadErrors {
			return err
		}
	} else if got != r.sums[i] {
		bad.add(i, got, nil)
	} else {
		bad.mu.Lock()
		r.Verified += n
		bad.mu.Unlock()
	}
	if phase == meter.ReadBack {
		r.reading.Mark(int64(i)*BlockSize, n, time.Now())
	}
	r.job.Meter.Add(n)
	return nil
}

// readBlock reads a block from the card and digests the image's own bytes of it.
func (r *run) readBlock(i int, buf []byte) (digest.Block, error) {
	n := r.blockLength(i)
	whole := buf[:padded(n, r.dev.SectorSize())]
	if _, err := r.dev.ReadAt(whole, int64(i)*BlockSize); err != nil {
		return digest.Block{}, err
	}
	return digest.SumBlock(whole[:n]), nil
}

// compareCleared sees to it that the old backup table is gone, where the image has not taken its place.
func (r *run) compareCleared() error {
	offset := r.dev.Size() - r.Cleared
	if r.Cleared == 0 || padded(r.Size, r.dev.SectorSize()) > offset {
		return nil
	}
	left, _, err := backupTable(r.dev, r.pool)
	if err != nil {
		return err
	}
	if left > 0 {
		r.Bad = append(r.Bad, Extent{offset, r.Cleared})
		return &ReadBackError{Blocks: 1, Last: errors.New("the old backup partition table at the card's end could not be cleared")}
	}
	return nil
}

// repair unpacks the image again, writes the bad blocks again, and reads them back after all are written, so
// that the card's own memory is less likely to answer.
func (r *run) repair(ctx context.Context, bad []int) (*badBlocks, error) {
	if err := r.rewrite(ctx, bad); err != nil {
		return nil, err
	}
	if err := r.flush(ctx); err != nil {
		return nil, err
	}
	return r.compare(ctx, meter.Repair, bad)
}

func (r *run) rewrite(ctx context.Context, bad []int) error {
	if len(bad) == 1 && bad[0] == 0 { // it was kept
		return r.writeAgain(0, r.first)
	}
	start := time.Now()
	r.job.Meter.Begin(meter.Repair, int64(bad[len(bad)-1]+1)*BlockSize)
	stream, err := r.job.Image.Unpack(r.job.Contents, nil)
	if err != nil {
		return err
	}
	defer stream.Close()
	buf, err := r.pool.Get(ctx)
	if err != nil {
		return err
	}
	defer r.pool.Put(buf)
	for i := 0; i <= bad[len(bad)-1]; i++ {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		n, err := readAll(stream, buf)
		if err != nil {
			return err
		}
		if int64(n) != r.blockLength(i) {
			return &ChangedError{r.job.Image.Path}
		}
		r.job.Meter.Add(int64(n))
		if !slices.Contains(bad, i) {
			continue
		}
		if digest.SumBlock(buf[:n]) != r.sums[i] {
			return &ChangedError{r.job.Image.Path}
		}
		whole := buf[:padded(int64(n), r.dev.SectorSize())]
		clear(whole[n:])
		if err := r.writeAgain(i, whole); err != nil {
			return err
		}
	}
	r.took(meter.Repair, 0, start)
	return nil
}

// writeAgain writes a block; if that fails, it will be found wrong when it is read back.
func (r *run) writeAgain(i int, whole []byte) error {
	_, err := r.dev.WriteAt(whole, int64(i)*BlockSize)
	if errors.As(err, new(*card.IOError)) {
		return nil
	}
	return err
}
