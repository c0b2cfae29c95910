package stamp

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	mathrand "math/rand/v2"
	"slices"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/meter"
)

const (
	// scatteredProbes is how many places beyond the image are chosen by chance. Where capacities often end, there are
	// two more each: some 60 in all on a card of 32 GB.
	scatteredProbes = 48
	// zeroProbes is how many blocks of zeros of the image get a mark. They, and what is displaced before the read-back,
	// leave enough of an image of 96 MiB to be displaced after the first sector was written.
	zeroProbes = 7
	// fewestProbes is how many marks must be right before they count as a proof of capacity.
	fewestProbes = 8
)

// probes are marks by which a card's capacity shows while it is stamped. Those beyond the image are written before the
// image, and those in its blocks of zeros after it, since a card may read as zeros where it has no room. All are read
// when the image has been read back, so that a cache of Displaced bytes can't answer. Then the old contents are
// restored beyond the image, and the zeros within it.
type probes struct {
	mark   mark.Run
	places []probePlace         // beyond the image, in order
	zeros  map[int]digest.Block // of blocks of zeros with a mark: the digests of these blocks
	period int64                // the distance at which addresses repeat, where that showed early; 0: it did not
}

// probePlace is a place beyond the image, of spotSize bytes.
type probePlace struct {
	offset int64
	old    []byte
	failed bool // the mark could not be written
	lost   bool // it isn't there any more, so the place may be another one's
}

// Capacity is what marks told of a card's capacity.
type Capacity struct {
	Marks int // that were read beyond the image
	Right int // of these, marks that were as they were written
	Odd   int // of these, marks that could not be written or read, or had some bits wrong
	// Loss is what a counterfeit holds, as far as the marks tell; nil where they show no sign of one. Holds is a lower
	// bound unless Wraps is set.
	Loss *Loss
}

// Proven tells whether the marks show no sign of a counterfeit.
func (c Capacity) Proven() bool { return c.Loss == nil && c.Right >= fewestProbes }

// CounterfeitError says that a card holds an image, which was read back right, but less than it claims.
type CounterfeitError struct{ Holds, Claimed int64 } // bytes

func (e *CounterfeitError) Error() string {
	return fmt.Sprintf("the card holds some %d of the %d bytes that it claims", e.Holds, e.Claimed)
}

// probesFrom is where marks may stand, bytes: beyond the image, and beyond what is written again there, since that
// would put a mark back into the card's cache.
func probesFrom(size int64) int64 {
	from := padded(size, BlockSize)
	if size < large {
		from += int64(areasOf(size)) * Displaced
	}
	return from
}

// probing tells whether marks are to be written.
func (r *run) probing() bool {
	return r.probe && r.job.ReadBack && !r.pays.past.proven() && (r.judged == nil || !r.judged())
}

// probable tells whether there is room for marks on the card beyond an image of a size.
func (r *run) probable(size int64) bool {
	return r.probe && probesFrom(size)+fewestProbes*spotSize <= r.dev.Size()
}

// placeProbes saves the contents of places beyond the image, and writes marks to them.
func (r *run) placeProbes(ctx context.Context, buf []byte) error {
	if !r.probing() {
		return nil
	}
	began := time.Now()
	if err := r.newMark(); err != nil {
		return err
	}
	p := buf[:spotSize]
	for _, off := range probePlaces(probesFrom(r.likely()), r.dev.Size()) {
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		switch _, err := r.dev.ReadAt(p, off); {
		case errors.As(err, new(*card.GoneError)):
			return err
		case err == nil: // what can't be read can't be restored
			r.probes.places = append(r.probes.places, probePlace{offset: off, old: slices.Clone(p)})
		}
	}
	for i := range r.probes.places {
		place := &r.probes.places[i]
		r.probes.mark.Fill(p, place.offset/mark.Size)
		switch _, err := r.dev.WriteAt(p, place.offset); {
		case err != nil && !card.IsBadPlace(err):
			return err
		case err != nil:
			place.failed = true
		}
	}
	r.took(meter.Try, 0, began)
	return nil
}

func (r *run) newMark() error {
	var nonce mark.Nonce
	if _, err := rand.Read(nonce[:]); err != nil {
		return fmt.Errorf("get a random number: %w", err)
	}
	r.probes.mark = mark.NewRun(nonce)
	return nil
}

// probePlaces are places by chance from an offset to a card's end, one in each of equal parts, and both sides of where
// capacities often end.
func probePlaces(from, size int64) (all []int64) {
	end := size / spotSize * spotSize
	if from = padded(from, spotSize); from >= end {
		return nil
	}
	add := func(off int64) {
		if off = off / spotSize * spotSize; off >= from && off+spotSize <= end {
			all = append(all, off)
		}
	}
	part := max((end-from)/scatteredProbes, spotSize)
	for at := from; at+part <= end; at += part {
		add(at + mathrand.Int64N(part/spotSize)*spotSize)
	}
	for _, edge := range gauge.Edges(size) {
		add(edge - 1)
		add(edge)
	}
	add(end - spotSize)
	slices.Sort(all)
	return slices.Compact(all)
}

// placeZeroProbes writes marks into some blocks of zeros, the last one among them, when the whole image is on the card.
func (r *run) placeZeroProbes(ctx context.Context) error {
	if !r.probing() {
		return nil
	}
	var blocks []int
	for i, sum := range r.src.sums {
		if n := r.blockLength(i); i > 0 && n >= spotSize && sum == zerosOf(n) {
			blocks = append(blocks, i)
		}
	}
	buf, err := r.room.Get(ctx)
	if err != nil {
		return err
	}
	defer r.room.Put(buf)
	r.probes.zeros = map[int]digest.Block{}
	count := min(zeroProbes, len(blocks))
	for n := range count {
		i := blocks[len(blocks)-1-n*len(blocks)/count]
		clear(buf)
		r.putZeroProbe(i, buf)
		at := r.zeroProbe(i)
		switch _, err := r.dev.WriteAt(buf[at:at+spotSize], int64(i)*BlockSize+at); {
		case card.IsBadPlace(err): // found when it is read back
		case err != nil:
			return err
		}
		r.probes.zeros[i] = digest.SumBlock(buf[:r.blockLength(i)])
	}
	r.same = slices.DeleteFunc(r.same, func(i int) bool { _, marked := r.probes.zeros[i]; return marked })
	return nil
}

// zerosOf is the digest of so many zeros, at most a block.
func zerosOf(n int64) digest.Block {
	if n == BlockSize {
		return zeroBlock()
	}
	return digest.SumBlock(make([]byte, n))
}

// zeroProbe is where in a block of zeros its mark stands, bytes: at the end of the image's last one.
func (r *run) zeroProbe(i int) int64 {
	spots := r.blockLength(i) / spotSize
	if i == len(r.src.sums)-1 {
		return (spots - 1) * spotSize
	}
	return int64(i) * 37 % spots * spotSize
}

// putZeroProbe puts the mark of a block of zeros into it.
func (r *run) putZeroProbe(i int, block []byte) {
	at := r.zeroProbe(i)
	r.probes.mark.Fill(block[at:at+spotSize], (int64(i)*BlockSize+at)/mark.Size)
}

// judgeProbes reads the marks beyond the image, says what they tell, and restores the old contents.
func (r *run) judgeProbes(ctx context.Context) error {
	if !r.probing() {
		return nil
	}
	buf, err := r.room.Get(ctx)
	if err != nil {
		return err
	}
	defer r.room.Put(buf)
	began := time.Now()
	p := buf[:spotSize]
	from := probesFrom(r.src.size) // the image may be larger than it was said to be
	places := slices.DeleteFunc(r.probes.places, func(p probePlace) bool { return p.offset < from })
	found := lossFinder{period: r.probes.period}
	for i := range places {
		place := &places[i]
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		_, err := r.dev.ReadAt(p, place.offset)
		if errors.As(err, new(*card.GoneError)) {
			return err
		}
		r.Capacity.Marks++
		switch {
		case err != nil || place.failed:
			r.Capacity.Odd++
		default:
			place.lost = r.judgeProbe(&found, p, place.offset, i == len(places)-1)
		}
	}
	if err := r.lookForAliases(&found, p, places); err != nil {
		return err
	}
	if l := found.loss(padded(r.src.size, r.dev.SectorSize())); l != nil && r.Capacity.Loss == nil {
		r.Capacity.Loss = l
	}
	if r.Capacity.Loss == nil {
		r.Capacity.Odd += found.lost
	}
	err = r.restoreProbes(places, p)
	r.took(meter.Try, 0, began)
	return err
}

// lookForAliases looks for the last mark that is there where it would stand as well if addresses repeated after one of
// the usual sizes: there is nothing of ours, so no other mark shows that.
func (r *run) lookForAliases(found *lossFinder, p []byte, places []probePlace) error {
	i := len(places) - 1
	for i >= 0 && (places[i].lost || places[i].failed) {
		i--
	}
	if i < 0 {
		return nil
	}
	number := places[i].offset / mark.Size
	for _, after := range gauge.Edges(places[i].offset + 1) {
		at := places[i].offset % after
		if at%int64(r.dev.SectorSize()) != 0 || after < padded(r.src.size, BlockSize) {
			continue
		}
		_, err := r.dev.ReadAt(p, at)
		if errors.As(err, new(*card.GoneError)) {
			return err
		}
		if err == nil && r.probes.mark.Right(p, number) > 0 {
			found.elsewhere(places[i].offset, at)
			places[i].lost = true // to restore it would write to the other place too, which has its contents already
		}
	}
	return nil
}

// probeDistance is how far from its own place a mark stands in what was read at an offset, bytes; 0 if there is none.
// On a card whose addresses repeat, a mark beyond the image overwrites what was there already, and was compared and
// left.
func (r *run) probeDistance(p []byte, offset int64) int64 {
	if len(r.probes.places) == 0 {
		return 0
	}
	for at := 0; at+mark.Size <= len(p); at += mark.Size {
		nonce, number, known := mark.Know(p[at:])
		if own := number * mark.Size; known && nonce == r.probes.mark.Nonce() && own > offset+int64(at) {
			return own - offset - int64(at)
		}
	}
	return 0
}

// judgeProbe says what was read in the place of a mark, and whether that is lost.
func (r *run) judgeProbe(found *lossFinder, p []byte, off int64, last bool) (lost bool) {
	number := off / mark.Size
	right := int64(r.probes.mark.Right(p, number))
	if right*mark.Size == spotSize {
		r.Capacity.Right++
		found.right(off + spotSize)
		return false
	}
	at := right * mark.Size
	switch got := r.probes.mark.Judge(p[at:at+mark.Size], number+right); got.Kind {
	case mark.Worn:
		r.Capacity.Odd++
		return false
	case mark.Elsewhere:
		found.elsewhere(off+at, got.Of*mark.Size)
	default:
		found.isLost(off+at, last)
	}
	return true
}

// lossFinder finds out what a card holds by its marks, which it is told of in order.
type lossFinder struct {
	lost   int
	atEnd  bool  // the last one is lost
	first  int64 // where the first lost one was; valid where there is one
	holds  int64 // the end of the last right one before it
	period int64 // the distance at which addresses repeat; 0: none was seen
}

func (l *lossFinder) right(end int64) {
	if l.lost == 0 {
		l.holds = end
	}
}

func (l *lossFinder) isLost(off int64, last bool) {
	if l.lost == 0 {
		l.first = off
	}
	l.lost++
	l.atEnd = l.atEnd || last
}

func (l *lossFinder) elsewhere(off, of int64) {
	l.period = card.Period(l.period, max(of-off, off-of))
	l.isLost(off, false)
}

// loss is what the card holds, of which so many bytes are known to be real; nil where nothing shows that it is less
// than it claims. A single mark that is lost in the midst of others is a bad place.
func (l *lossFinder) loss(known int64) *Loss {
	switch {
	case l.period > known:
		return &Loss{Wraps: true, Holds: l.period}
	case l.lost > 1, l.lost == 1 && (l.atEnd || l.period > 0):
		if l.first > 0 && l.first%spotSize != 0 { // within a place: to the sector
			l.holds = max(l.holds, l.first)
		}
		return &Loss{Holds: max(l.holds, known)}
	}
	return nil
}

// restoreProbes restores the old contents of the places beyond the image whose marks are there: on a card whose
// addresses repeat, any other place may be the image's. In the image's blocks of zeros it restores these.
func (r *run) restoreProbes(places []probePlace, p []byte) error {
	write := func(off int64) error {
		_, err := r.dev.WriteAt(p, off)
		if card.IsBadPlace(err) { // beyond the image nothing is lost; in it, that is found when it is read back
			return nil
		}
		return err
	}
	for _, place := range places {
		if place.lost {
			continue
		}
		copy(p, place.old)
		if err := write(place.offset); err != nil {
			return err
		}
	}
	clear(p)
	for i := range r.probes.zeros {
		if err := write(int64(i)*BlockSize + r.zeroProbe(i)); err != nil {
			return err
		}
		r.last[i] = true
	}
	r.probes.zeros = nil
	return nil
}
