package stamp

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// maxReadErrors is how many blocks may fail to be read, each of which can take a reader half a minute, before
// the stamp of this card ends.
const maxReadErrors = 32

// manyBad is how many bad blocks, if they are an eighth of all too, are no wear.
const manyBad = 16

// readBack reads all blocks from the card, the first without what is held back of it, and repairs those that are wrong.
// The error is a
// *ReadBackError if some stay wrong.
func (r *run) readBack(ctx context.Context) error {
	all := r.all()
	r.Verified = 0
	bad, err := r.compare(ctx, meter.ReadBack, all)
	if err != nil {
		return err
	}
	if bad.repeats == 0 { // otherwise it is known what has overwritten them
		r.noteUnsteady(bad)
	}
	for _, i := range r.unwritten { // what was there before may be the same; that the write failed must be told
		if _, wrong := bad.blocks[i]; !wrong {
			r.Verified -= r.blockLength(i)
			bad.add(i, digest.Block{}, nil)
		}
	}
	r.unwritten = nil
	return r.mend(ctx, all, bad)
}

// all lists the blocks of the image.
func (r *run) all() []int {
	all := make([]int, len(r.src.sums))
	for i := range all {
		all[i] = i
	}
	return all
}

// mend repairs bad blocks, as often as it may. What was read back right before a repair may be wrong
// after it, on a card whose addresses repeat; so when a repair has gone well, all is read once more.
func (r *run) mend(ctx context.Context, all []int, bad *badBlocks) error {
	ever := map[int]bool{}
	round := 0
	for len(bad.blocks) > 0 {
		for i := range bad.blocks {
			ever[i] = true
		}
		loss := r.findLoss(bad)
		fits := loss != nil && loss.Wraps && loss.Holds >= padded(r.src.size, BlockSize)
		if r.Loss = loss; fits { // marks have overwritten the image, and it is written over them
			r.Loss, r.Capacity.Loss = nil, loss
		}
		if r.Loss != nil || round == r.job.Repairs || !fits && r.hopeless(len(bad.blocks)) {
			break
		}
		round++
		r.Attempts = max(r.Attempts, round)
		var err error
		bad, err = r.repair(ctx, bad.indices())
		if err == nil && len(bad.blocks) == 0 {
			r.Verified = 0
			bad, err = r.compare(ctx, meter.ReadBack, all)
		}
		if err != nil {
			return err
		}
	}
	left := bad.indices()
	r.Repaired = append(r.Repaired, r.extents(without(slices.Sorted(maps.Keys(ever)), left))...)
	if len(left) == 0 {
		return nil
	}
	r.Bad = r.extents(left)
	return &ReadBackError{Blocks: len(left), Last: bad.last}
}

// hopeless tells whether so many blocks are bad that it is no wear, which could be repaired.
func (r *run) hopeless(bad int) bool { return bad > manyBad && bad > len(r.src.sums)/8 }

// without is all less those in left.
func without(all, left []int) []int {
	return slices.DeleteFunc(slices.Clone(all), func(i int) bool { return slices.Contains(left, i) })
}

// badBlocks are blocks that are wrong, with the digest of what was read in their place: zero where nothing was.
type badBlocks struct {
	mu      sync.Mutex
	blocks  map[int]digest.Block
	repeats int64 // a distance at which addresses repeat, bytes; 0 if none was seen
	errors  int
	read    int64 // bytes, of all blocks
	last    error // of reading
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

// sawRepeat keeps what a marker at the wrong place tells; 0 tells nothing.
func (b *badBlocks) sawRepeat(distance int64) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.repeats = card.Period(b.repeats, distance)
}

// lengthOf is how long some blocks are together, bytes.
func (r *run) lengthOf(blocks []int) (n int64) {
	for _, i := range blocks {
		n += r.blockLength(i)
	}
	return n
}

// compare reads blocks, several at once, and compares the digest of each with the one kept.
func (r *run) compare(ctx context.Context, phase meter.Phase, blocks []int) (*badBlocks, error) {
	start := time.Now()
	r.meter.Begin(phase, r.lengthOf(blocks))
	r.reading.Start(start)
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
			buf, err := r.own.Get(ctx)
			if err != nil {
				return err
			}
			defer r.own.Put(buf)
			hash := digest.NewBlockHasher()
			for i := range next {
				if err := r.compareBlock(i, buf, hash, phase, bad); err != nil {
					return err
				}
			}
			return nil
		})
	}
	err := stages.Wait()
	if phase == meter.Finish {
		phase = meter.ReadBack
	}
	r.took(phase, bad.read, start)
	return bad, err
}

func (r *run) compareBlock(
	i int, buf []byte, hash *digest.BlockHasher, phase meter.Phase, bad *badBlocks,
) error {
	n := r.blockLength(i)
	got, repeats, err := r.readBlock(i, buf, hash)
	if err != nil {
		if errors.As(err, new(*card.GoneError)) || bad.add(i, digest.Block{}, err) > maxReadErrors {
			return err
		}
	} else if got != r.want(i) {
		bad.add(i, got, nil)
		bad.sawRepeat(repeats)
	} else {
		bad.mu.Lock()
		r.Verified += n
		bad.mu.Unlock()
	}
	if err == nil {
		bad.mu.Lock()
		bad.read += n
		bad.mu.Unlock()
	}
	if phase != meter.Repair {
		r.reading.Mark(int64(i)*BlockSize, n, time.Now())
	}
	r.meter.Add(n)
	return nil
}

// readBlock reads a block from the card, in parts, and digests the image's own bytes of it. If a marker is in it, that
// belongs elsewhere, repeats is how far that is, bytes.
func (r *run) readBlock(i int, buf []byte, hash *digest.BlockHasher) (got digest.Block, repeats int64, err error) {
	n := r.blockLength(i)
	whole, at := padded(n, r.dev.SectorSize()), int64(i)*BlockSize
	hash.Reset()
	for off := int64(0); off < whole; off += int64(len(buf)) {
		part := buf[:min(whole-off, int64(len(buf)))]
		if _, err := r.dev.ReadAt(part, at+off); err != nil {
			return got, 0, err
		}
		if repeats == 0 {
			repeats = cmp.Or(r.marker.distance(part, at+off), r.probeDistance(part, at+off))
		}
		hash.Write(part[:min(int64(len(part)), n-off)])
	}
	return hash.Sum(), repeats, nil
}

// oldBackup is the length of an old backup table at the card's end, bytes; 0 if there is none.
func (r *run) oldBackup() (int64, error) {
	buf, err := r.own.Get(context.Background())
	if err != nil {
		return 0, err
	}
	defer r.own.Put(buf)
	_, length, err := backupTable(r.dev, buf)
	return length, err
}

// compareCleared sees to it that the old backup table is gone, where the image has not taken its place.
func (r *run) compareCleared() error {
	offset := r.dev.Size() - r.Cleared
	if r.Cleared == 0 || padded(r.src.size, r.dev.SectorSize()) > offset {
		return nil
	}
	left, err := r.oldBackup()
	if err != nil {
		return err
	}
	if left > 0 {
		r.Bad = append(r.Bad, layout.Extent{Offset: offset, Length: r.Cleared})
		return &ReadBackError{
			Blocks: 1, Last: errors.New("the old backup partition table at the card's end could not be cleared"),
		}
	}
	return nil
}

// repair unpacks the image again, writes the bad blocks again, and reads them back after something else was written, so
// that the card's own memory doesn't answer.
func (r *run) repair(ctx context.Context, bad []int) (*badBlocks, error) {
	if err := r.rewrite(ctx, bad); err != nil {
		return nil, err
	}
	if err := r.displace(ctx, r.beyond(0), r.middle(bad)); err != nil {
		return nil, err
	}
	if err := r.flush(ctx); err != nil {
		return nil, err
	}
	return r.compare(ctx, meter.Repair, bad)
}

func (r *run) rewrite(ctx context.Context, bad []int) error {
	if bad[0] == 0 { // it was kept
		if err := r.writeHead(ctx); err != nil && !errors.As(err, new(*card.IOError)) {
			return err
		}
		if bad = bad[1:]; len(bad) == 0 {
			return nil
		}
	}
	r.src.repairing.Lock()
	defer r.src.repairing.Unlock()
	start := time.Now()
	r.meter.Begin(meter.Repair, int64(bad[len(bad)-1]+1)*BlockSize)
	stream, err := r.job.Source.Open(nil)
	if err != nil {
		return err
	}
	defer stream.Close()
	buf, err := r.room.Get(ctx)
	if err != nil {
		return err
	}
	defer r.room.Put(buf)
	for i := 0; i <= bad[len(bad)-1]; i++ {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		n, err := readAll(stream, buf)
		if err != nil {
			return err
		}
		if int64(n) != r.blockLength(i) {
			return &ChangedError{r.job.Source.Path()}
		}
		r.meter.Add(int64(n))
		if !slices.Contains(bad, i) {
			continue
		}
		if digest.SumBlock(buf[:n]) != r.src.sums[i] {
			return &ChangedError{r.job.Source.Path()}
		}
		whole := buf[:padded(int64(n), r.dev.SectorSize())]
		clear(whole[n:])
		if _, marked := r.probes.zeros[i]; marked {
			r.putZeroProbe(i, whole)
		}
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
