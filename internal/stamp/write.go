package stamp

import (
	"context"
	"sync"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/meter"
)

// maxWriteErrors is how many blocks may fail to be written and still be left to repair.
const maxWriteErrors = 16

// fail ends the writing to this card; the first reason counts.
func (r *run) fail(err error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.failed == nil {
		r.failed = err
		r.meter.End()
	}
}

// goesOn tells whether blocks are still written to this card.
func (r *run) goesOn() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.failed == nil
}

// write takes all blocks that come and writes them, several at once, but for the first, which the source keeps. It
// returns when the source knows whether the image is what it should be.
func (r *run) write(ctx context.Context) error {
	start := time.Now()
	r.writing.Start(start)
	var writers sync.WaitGroup
	for range inFlight {
		writers.Go(func() {
			for b := range r.queue {
				if ctx.Err() != nil {
					r.fail(context.Cause(ctx))
				}
				if r.goesOn() {
					if err := r.writeBlock(b); err != nil {
						r.fail(err)
					}
				}
				b.release()
			}
		})
	}
	writers.Wait()
	if r.State != Untouched {
		r.took(meter.Write, r.Written, start)
	}
	<-r.src.settled
	if r.failed != nil {
		return r.failed
	}
	if r.src.err == nil && r.src.first != nil {
		r.first = r.src.first[:padded(min(r.src.size, BlockSize), r.dev.SectorSize())]
	}
	return r.src.err
}

// writeBlock writes a block. One that can't be written is left for repair, if there will be any.
func (r *run) writeBlock(b *block) error {
	b.sum() // here, where several can be computed at once
	if b.index == 0 {
		r.meter.Add(int64(b.n))
		return nil
	}
	_, err := r.dev.WriteAt(b.buf[:padded(int64(b.n), r.dev.SectorSize())], int64(b.index)*BlockSize)
	r.mu.Lock()
	if err == nil {
		r.Written += int64(b.n)
	} else {
		r.unwritten = append(r.unwritten, b.index)
	}
	failures := len(r.unwritten)
	r.mu.Unlock()
	if err != nil && (!r.leaveForRepair(err) || failures > maxWriteErrors) {
		return err
	}
	r.writing.Mark(int64(b.index)*BlockSize, int64(b.n), time.Now())
	r.meter.Add(int64(b.n))
	return nil
}

// leaveForRepair tells whether a block that failed will be written again, when the others have been read back.
func (r *run) leaveForRepair(err error) bool {
	return r.job.ReadBack && r.job.Repairs > 0 && card.IsBadPlace(err)
}
