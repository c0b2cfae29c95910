// Package stamp writes an image to cards and reads it back.
//
// The image streams out of its packing in blocks of 4 MiB, once for all cards. While one block is unpacked, others are
// digested and written; memory is a handful of buffers, however large the image. A slow card holds the others back when
// it is behind by all of them. The first block, with the partition table, is overwritten before anything else is
// written, and written last, after all the others have been read back: so whatever happens in between, the card never
// looks bootable when it isn't.
//
// Until then, the first block holds a marker that the image can't contain. A card whose
// addresses repeat within the image shows the marker at a second address; without it, an image with zeros at
// that address would read back right, and be spoilt when the first block is written. By the marker, too, a card is
// known again that is gone for a moment.
package stamp

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/digest"
	"zipstamp/internal/gauge"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
)

// BlockSize is the unit in which cards are written and read back, bytes.
const BlockSize = digest.BlockSize

// inFlight is how many blocks are written, or read, at once: a card is kept busy with two, and more cost only memory.
// spare is how many more there are for unpacking ahead, and window how many more again where there are several cards,
// so that one that stops for a moment doesn't stop the others.
const (
	inFlight = 3
	spare    = 4
	window   = 8
)

// DefaultRepairs is how often a block that reads back wrong is rewritten, unless the user says otherwise.
const DefaultRepairs = 3

// Job is what to stamp onto what. Run is called once.
type Job struct {
	Source   Source
	Known    Known
	Cards    []Target
	ReadBack bool // read every block back and compare it
	// how often a block that reads back wrong is rewritten; an image that comes through a pipe can't be unpacked again
	Repairs int
	// WriteAll says that all is written, also what a card holds already. Otherwise what a card holds is read before it
	// is written where that is likely to take less time, and only what differs is written. Where nothing is read back,
	// all is written.
	WriteAll bool
	// DiscardRest says that what lies beyond the image is discarded, where the card takes discards.
	DiscardRest bool

	// Compare is called with the digests of the download and of the image by these algorithms when all but the first
	// block has been written, and its error ends the job. It is for an image that comes through a pipe, which nobody
	// could check before. It may be nil.
	Algorithms []digest.Algorithm
	Compare    func(ctx context.Context, download, image []digest.Digest) error

	slower float64 // the rate of writing divided by that of reading, where a test fixes it; 0: it is measured

	Inspect Inspect // called where all is read back; may be nil
}

// Target is a card to stamp. If the device can take up a card that was gone for a moment, as a card.Hold can, it is
// told how to know it.
type Target struct {
	Device card.Device
	Meter  *meter.Meter
	Past   *Past  // what is known of what the card holds; may be nil
	Begun  func() // called when the first write is on the card, and what was there is lost; may be nil
	// Before is called before the first write, and not at all where nothing is written. What it writes to the card it
	// puts back; its error ends the job of this card. It may be nil.
	Before func(context.Context) error
	// Probe has marks on the card tell whether it is a counterfeit, while it is stamped and read back. It is left out
	// where Past.Proven says that this is known.
	Probe bool
	// Judged tells, when Before has ended, that the card is known to be a counterfeit: then it needs no marks. It may
	// be nil.
	Judged func() bool
	// Need is how much of the card must be real, bytes; 0: what is stamped. A card that holds less is not stamped.
	Need int64
}

// Outcome is what became of a card.
type Outcome struct {
	Result
	// a *TooSmallError, *ChangedError, *ReadBackError, one of the image or the card, or the cause of the end of the
	// job's context
	Err error
}

// Known is what a check has found out about the image before. The zero value is nothing.
type Known struct {
	Seal     digest.Seal     // of the download
	Download []digest.Digest // of the download
	Image    []digest.Digest // of the unpacked image, where it was computed
}

// State is what a card is like after a job.
type State string

// The states.
const (
	Untouched State = "untouched"       // nothing was written
	NoTable   State = "no table"        // the first block is zero or the marker, so the card has no partition table
	Uncertain State = "uncertain"       // the first block could not be zeroed again
	Complete  State = "written"         // all is written, and not read back
	Verified  State = "read back right" // all is written, and has been read back right
)

// Result is what a job did, whether it succeeded or not.
type Result struct {
	State    State
	Image    []digest.Digest // of the unpacked image; empty if it did not come to its end
	Download []digest.Digest // of the download; likewise
	Size     int64           // of the image, bytes; so far, if it did not come to its end
	Written  int64           // bytes of it written to the card, repairs and zeros not counted
	Unseen   int64           // of these, bytes that may have been there: nothing of them was read before
	Compared int64           // bytes of it that were read and compared before they were written
	Kept     int64           // of it, bytes that were not written, since the card held them
	Verified int64           // bytes read back right
	// bytes written after them, so that a memory of the card of that size can't have answered; 0 where nothing was read
	// back, and that of the job before where nothing had to be written
	Displaced int64
	Cleared   int64 // bytes of an old backup partition table cleared at the card's end
	Capacity  Capacity
	Rest      int64 // bytes beyond the image that were discarded
	// why not all beyond the image was discarded; errors.ErrUnsupported where the card or its reader doesn't do that
	NotDiscarded error
	Unsteady     []layout.Extent // blocks that were the image's when they were read first, and weren't at the end
	Repaired     []layout.Extent // blocks that read back right only after they were written again
	Bad          []layout.Extent // blocks that read back wrong to the last
	Attempts     int             // rounds of repair
	// what the bad blocks look like, if they look like a card that holds less than it claims
	Loss    *Loss
	Mishaps []card.Mishap
	Blocks  []digest.Block // of the image, as far as it came
	Head    []digest.Part  // of its first block
	Phases  []meter.PhaseTime
	Writing []meter.Point // speed over position
	Reading []meter.Point
}

// TooSmallError says that the image is larger than the card.
type TooSmallError struct {
	Name        string // of the card, where there are several; may be empty
	Image, Card int64  // bytes; Image is a lower bound where AtLeast is set
	AtLeast     bool
}

func (e *TooSmallError) Error() string {
	if e.AtLeast {
		return fmt.Sprintf("the image has more than the card's %d bytes", e.Card)
	}
	return fmt.Sprintf("the image has %d bytes, the card %d", e.Image, e.Card)
}

// ChangedError says that the download is not what it was when it was checked.
type ChangedError struct{ Path string }

func (e *ChangedError) Error() string { return e.Path + " changed while it was stamped" }

// ReadBackError says that the card does not hold what was written.
type ReadBackError struct {
	Blocks int // how many blocks are wrong, at least
	Last   error
}

func (e *ReadBackError) Error() string {
	if e.Last != nil {
		return fmt.Sprintf("%d blocks do not read back as they were written (%v)", e.Blocks, e.Last)
	}
	return fmt.Sprintf("%d blocks do not read back as they were written", e.Blocks)
}

func (e *ReadBackError) Unwrap() error { return e.Last }

// Run does the job, and returns what became of each card, in their order; one that fails doesn't keep the others from
// going on. When Run returns, nothing of the job runs any more, and the devices are still open.
func (j Job) Run(ctx context.Context) []Outcome {
	buffers := spare + inFlight*len(j.Cards)
	if len(j.Cards) > 1 {
		buffers += window
	}
	pool, err := card.NewPool(buffers, BlockSize)
	if err != nil {
		return j.allFailed(fmt.Errorf("get memory for blocks: %w", err))
	}
	defer pool.Close()
	ctx, stop := context.WithCancelCause(ctx)
	defer stop(nil)
	src := &source{job: &j, pool: pool, settled: make(chan struct{})}
	var runs []*run
	var stories sync.WaitGroup
	for _, t := range j.Cards {
		r := &run{
			job: &j, src: src, before: t.Before, begun: t.Begun, probe: t.Probe, judged: t.Judged, need: t.Need,
			dev: t.Device, meter: t.Meter,
			last:  map[int]bool{},
			ready: make(chan struct{}), queue: make(chan *block, queued(len(j.Cards), buffers)),
			pays: newPays(t.Past, j.WriteAll || !j.ReadBack || t.Past.isUndefined(), slowerOf(t.Device, j.slower)),
		}
		r.State = Untouched
		runs = append(runs, r)
		stories.Go(func() { r.story(ctx) })
	}
	src.feed(ctx, stop, runs)
	stories.Wait()
	if src.zeros != nil {
		src.zeros.Close()
	}
	var out []Outcome
	for _, r := range runs {
		out = append(out, r.outcome())
	}
	return out
}

// slowerOf is the rate of writing divided by that of reading where a test fixes it, or the device's pace is given; 0
// where it is to be measured.
func slowerOf(d card.Device, fixed float64) float64 {
	if write, read := card.Rates(d); fixed == 0 && write > 0 && read > 0 {
		return write / read
	}
	return fixed
}

// queued is how many blocks may wait for a card. A single one needs no queue: the pool is its window.
func queued(cards, buffers int) int {
	if cards == 1 {
		return 0
	}
	return buffers
}

func (j Job) allFailed(err error) (out []Outcome) {
	for range j.Cards {
		out = append(out, Outcome{Result{State: Untouched}, err})
	}
	return out
}

// run is a job at work on one card.
type run struct {
	job    *Job
	src    *source
	dev    card.Device
	before func(context.Context) error
	begun  func()
	probe  bool
	judged func() bool
	need   int64
	meter  *meter.Meter
	Result
	err error

	pays      *pays
	gate      sync.RWMutex  // held for reading by who reads or writes a block, and for writing while the card is opened
	opened    bool          // the old tables are gone, and the marker is there
	unopened  error         // why they aren't
	opening   time.Duration // how long that took
	own       *card.Pool    // buffers for what the card holds
	room      *card.Pool    // a block's buffer, since those of the pool may all wait for a slower card
	handled   int64         // bytes of the image that the card holds by now, or had no need of
	settledTo int64         // the end of the last block of these, bytes
	same      []int         // blocks that were not written, since the card held them
	keptHead  int64         // of Kept, bytes of the first block
	start     []byte        // of the card, as it was before anything was written; empty: not known
	late      recent
	area      atomic.Int64 // that is displaced, and all read back after it
	finishes  atomic.Bool  // all was read back, and the first sector is written
	probes    probes
	last      map[int]bool // blocks that were written again since all was read back, or just before

	ready       chan struct{} // closed when blocks may come, or never will be taken
	queue       chan *block   // closed when all have come
	mu          sync.Mutex    // guards what the writers add
	failed      error         // why the writers write no more
	first       []byte        // the first block, from when it has come
	marker      marker
	head        digest.Block // of the first block without what is held back
	headIsWhole bool         // nothing is held back any more
	displaced   int          // how often
	spot        *card.Pool   // one small buffer, to know the card by
	unwritten   []int        // blocks that failed to be written
	writing     meter.Curve
	reading     meter.Curve
}

// story does the job for the card, from its beginning to a good or a bad end.
func (r *run) story(ctx context.Context) {
	r.err = r.begin(ctx)
	if r.err != nil {
		r.fail(r.err)
	}
	close(r.ready)
	err := r.write(ctx) // takes all blocks, whatever has happened
	if r.err == nil {
		r.err = err
	}
	if r.err == nil {
		r.err = r.finish(ctx)
	}
	if r.err != nil && r.State != Untouched && !errors.As(r.err, new(*CounterfeitError)) {
		r.giveUp(r.err)
	}
	r.recognise(nil)
	r.meter.End() // others may go on for long
	for _, p := range []*card.Pool{r.spot, r.own, r.room} {
		if p != nil {
			p.Close()
		}
	}
}

// begin sees whether the image fits. Where nothing is compared, it opens the card to be written.
func (r *run) begin(ctx context.Context) (err error) {
	size := r.job.Source.Size().Known()
	if room := r.dev.Size(); padded(size, r.dev.SectorSize()) > room {
		return &TooSmallError{Image: size, Card: room}
	}
	if r.spot, err = card.NewPool(1, spotSize); err != nil {
		return fmt.Errorf("get memory for blocks: %w", err)
	}
	if r.own, err = card.NewPool(inFlight, readAtOnce); err != nil {
		return fmt.Errorf("get memory for blocks: %w", err)
	}
	r.meter.Foresee(r.foresee)
	if r.room, err = card.NewPool(1, BlockSize); err != nil {
		return fmt.Errorf("get memory for blocks: %w", err)
	}
	if !r.pays.stopped() {
		r.recognise(r.knows)
		return nil
	}
	buf, err := r.own.Get(ctx)
	if err != nil {
		return err
	}
	defer r.own.Put(buf)
	return r.open(ctx, buf)
}

// likely is how large the image probably is, bytes; 0: not known.
func (r *run) likely() int64 { return r.job.Source.Size().Likely(r.job.Source.Download()) }

// finish is the story from when all blocks but the first are on the card.
func (r *run) finish(ctx context.Context) error {
	if r.src.size == 0 {
		return errEmpty
	}
	if !r.opened {
		if done, err := r.confirm(ctx); done || err != nil {
			return err
		}
		if err := r.openLate(ctx); err != nil {
			return err
		}
		r.Unseen = r.blockLength(0)
	}
	if err := r.writeHead(ctx); err != nil {
		return err
	}
	r.mu.Lock() // somebody may ask how long all will take
	r.Written += r.blockLength(0)
	r.Kept -= r.keptHead
	r.mu.Unlock()
	if err := r.discardRest(ctx); err != nil {
		return err
	}
	if !r.job.ReadBack {
		if err := r.flush(ctx); err != nil {
			return err
		}
		return r.complete(ctx)
	}
	if err := r.prove(ctx); err != nil {
		return err
	}
	if err := r.complete(ctx); err != nil {
		return err
	}
	if l := r.Capacity.Loss; l != nil {
		return &CounterfeitError{Holds: l.Holds, Claimed: r.dev.Size()}
	}
	return nil
}

// prove reads all back, when enough else was written that the card's cache can't answer, and sees by marks whether the
// card is a counterfeit. The card has no partition table yet.
func (r *run) prove(ctx context.Context) error {
	if err := r.placeZeroProbes(ctx); err != nil {
		return err
	}
	blocks := r.inBetween()
	for area := range r.areas() {
		r.area.Store(int64(area))
		if err := r.displace(ctx, r.beyond(area), blocks); err != nil {
			return err
		}
		if err := r.flush(ctx); err != nil {
			return err
		}
		if err := r.readBack(ctx); err != nil {
			return err
		}
	}
	if err := r.compareCleared(); err != nil {
		return err
	}
	if err := r.judgeProbes(ctx); err != nil {
		return err
	}
	if l := r.Capacity.Loss; l != nil && l.Holds < r.need {
		return &gauge.TooSmallError{
			Loss:    gauge.Loss{Repeats: l.Wraps, Real: l.Holds, Exact: l.Wraps},
			Claimed: r.dev.Size(), Need: r.need,
		}
	}
	return r.inspect(ctx)
}

var errEmpty = errors.New("the image is empty")

// outcome is the card's fate.
func (r *run) outcome() Outcome {
	r.Size, r.Image, r.Download, r.Blocks = r.src.size, r.src.image, r.src.download, r.src.sums
	if r.first != nil {
		r.Head = digest.SumHead(r.first[:min(r.src.size, BlockSize)])
	}
	r.Writing, r.Reading = r.writing.Points(), r.reading.Points()
	r.Mishaps = card.MishapsOf(r.dev)
	return Outcome{r.Result, r.err}
}

// recognise tells the device how to know the card again, if it can make use of that. Without a read-back it couldn't:
// what was on its way when the card was gone may be lost.
func (r *run) recognise(knows func(card.Device) bool) {
	if d, ok := r.dev.(card.ReturningDevice); ok {
		d.Recognise(knows)
	}
}

// flush returns when all that was written is on the medium.
func (r *run) flush(ctx context.Context) error {
	if err := ctx.Err(); err != nil {
		return context.Cause(ctx)
	}
	r.meter.Begin(meter.Flush, 0)
	start := time.Now()
	if err := r.dev.Flush(); err != nil {
		return err
	}
	if err := r.dev.Forget(); err != nil {
		return err
	}
	r.took(meter.Flush, 0, start)
	return nil
}

// phase does a part of the work, and notes how long it took.
func (r *run) phase(p meter.Phase, do func() (bytes int64, err error)) error {
	start := time.Now()
	bytes, err := do()
	r.took(p, bytes, start)
	return err
}

// took adds to the time of a phase.
func (r *run) took(p meter.Phase, bytes int64, start time.Time) {
	took := time.Since(start)
	for i := range r.Phases {
		if r.Phases[i].Phase == p {
			r.Phases[i].Bytes += bytes
			r.Phases[i].Took += took
			return
		}
	}
	r.Phases = append(r.Phases, meter.PhaseTime{Phase: p, Bytes: bytes, Took: took})
}

// busy notes how long the card was at work in a phase.
func (r *run) busy(p meter.Phase, took time.Duration) {
	for i := range r.Phases {
		if r.Phases[i].Phase == p {
			r.Phases[i].Card += took
		}
	}
}

// giveUp leaves the card without a partition table. A card that is gone had none when it went, unless
// the first block was under way.
func (r *run) giveUp(cause error) {
	if errors.As(cause, new(*card.GoneError)) {
		if r.State != NoTable {
			r.State = Uncertain
		}
		return
	}
	buf, err := r.own.Get(context.Background())
	if err == nil {
		err = r.zero(buf, 0, min(BlockSize, r.dev.Size()))
		r.own.Put(buf)
	}
	if err == nil {
		err = r.dev.Flush()
	}
	switch {
	case err == nil:
		r.State = NoTable
	case r.State != NoTable:
		r.State = Uncertain
	}
	if failed := (*card.IOError)(nil); errors.As(cause, &failed) && failed.Op == "write" && err != nil && errors.Is(
		cause, fault.BadPlace,
	) {
		r.err = r.stuck(failed)
	}
}

// stuck is the error of a card that failed to be written, and then could not be given up either.
func (r *run) stuck(failed *card.IOError) error {
	e := &card.StuckError{Offset: failed.Offset, Err: failed}
	if len(r.unwritten) > 0 {
		e.Offset = int64(slices.Min(r.unwritten)) * BlockSize
	}
	return e
}

// padded is n rounded up to whole sectors.
func padded(n int64, sector int) int64 {
	s := int64(sector)
	return (n + s - 1) / s * s
}

// blockLength is the number of the image's own bytes in block i.
func (r *run) blockLength(i int) int64 { return min(BlockSize, r.src.size-int64(i)*BlockSize) }

// readAll fills buf from the image; n is short at its end. A stream's own errors are typed, so that
// the two bare ones mean its end.
func readAll(s io.Reader, buf []byte) (n int, err error) {
	n, err = io.ReadFull(s, buf)
	if err == io.EOF || err == io.ErrUnexpectedEOF {
		err = nil
	}
	return n, err
}

// extents joins blocks that follow each other.
func (r *run) extents(blocks []int) []layout.Extent {
	slices.Sort(blocks)
	var out []layout.Extent
	for _, i := range blocks {
		offset, length := int64(i)*BlockSize, r.blockLength(i)
		if last := len(out) - 1; last >= 0 && out[last].Offset+out[last].Length == offset {
			out[last].Length += length
			continue
		}
		out = append(out, layout.Extent{Offset: offset, Length: length})
	}
	return out
}
