package stamp

import (
	"context"
	"slices"
	"sync"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/layout"
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

// reason is why no more is written to this card; nil as long as it goes on.
func (r *run) reason() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.failed
}

// goesOn tells whether blocks are still written to this card.
func (r *run) goesOn() bool { return r.reason() == nil }

// write takes all blocks that come and sees to it that the card holds them, several at once, but for the first, which
// the source keeps. It returns when the source knows whether the image is what it should be.
func (r *run) write(ctx context.Context) error {
	start := time.Now()
	r.writing.Start(start)
	r.opening = 0 // what was before this is no part of it
	var writers sync.WaitGroup
	for range inFlight {
		writers.Go(func() { r.take(ctx) })
	}
	writers.Wait()
	r.tookWriting(start)
	<-r.src.settled
	if r.failed != nil {
		return r.failed
	}
	if r.src.err == nil && r.src.first != nil {
		r.first = r.src.first[:padded(min(r.src.size, BlockSize), r.dev.SectorSize())]
	}
	return r.src.err
}

// take is one of the writers.
func (r *run) take(ctx context.Context) {
	var own []byte // there is one for each writer
	defer func() {
		if own != nil {
			r.own.Put(own)
		}
	}()
	for b := range r.queue {
		if ctx.Err() != nil {
			r.fail(context.Cause(ctx))
		}
		if own == nil && r.goesOn() {
			own, _ = r.own.Get(context.Background())
		}
		if r.goesOn() {
			if err := r.settle(ctx, b, own); err != nil {
				r.fail(err)
			}
		}
		b.release()
	}
}

// tookWriting notes how long the writing took, and the reading before it, where it was more than to see whether it
// pays.
func (r *run) tookWriting(start time.Time) {
	if r.opened {
		start = start.Add(r.opening)
	}
	read, wrote := r.pays.times()
	if r.Compared > BlockSize {
		r.Phases = slices.Insert(r.Phases, 0, meter.PhaseTime{Phase: meter.Compare, Bytes: r.Compared, Took: read})
		start = start.Add(read)
	}
	if r.opened {
		r.took(meter.Write, r.Written, start)
		r.busy(meter.Write, wrote)
	}
}

// writeRuns writes what differs of a block. One that can't be written is left for repair, if there will be any.
func (r *run) writeRuns(b *block, whole []byte, runs []layout.Extent) error {
	at, wrote := int64(b.index)*BlockSize, int64(0)
	var err error
	for _, e := range runs {
		began := time.Now()
		if _, err = r.dev.WriteAt(whole[e.Offset:e.End()], at+e.Offset); err != nil {
			break
		}
		r.pays.wroteBytes(e.Length, began)
		wrote += e.Length
	}
	r.mu.Lock()
	r.Written += min(wrote, int64(b.n))
	r.late.add(b.index, wrote)
	if err != nil {
		r.unwritten = append(r.unwritten, b.index)
	}
	failures := len(r.unwritten)
	r.mu.Unlock()
	if err != nil && (!r.leaveForRepair(err) || failures > maxWriteErrors) {
		return err
	}
	if wrote == int64(len(whole)) || err != nil {
		r.writing.Mark(at, int64(b.n), time.Now())
	} else {
		r.writing.Start(time.Now()) // its speed isn't that of writing
	}
	return nil
}

// leaveForRepair tells whether a block that failed will be written again, when the others have been read back.
func (r *run) leaveForRepair(err error) bool {
	return r.job.ReadBack && r.job.Repairs > 0 && card.IsBadPlace(err)
}

// recent are the blocks that were written last, as many as a card's memory may have.
type recent struct {
	blocks []written
	total  int64
}

// written is how much of a block was written, bytes.
type written struct {
	index int
	bytes int64
}

func (r *recent) add(index int, bytes int64) {
	if bytes == 0 {
		return
	}
	r.blocks = append(r.blocks, written{index, bytes})
	r.total += bytes
	for r.total-r.blocks[0].bytes >= Displaced {
		r.total -= r.blocks[0].bytes
		r.blocks = r.blocks[1:]
	}
}

func (r *recent) indices() (all []int) {
	for _, w := range r.blocks {
		all = append(all, w.index)
	}
	return all
}
