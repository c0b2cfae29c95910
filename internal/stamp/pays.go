package stamp

import (
	"sync"
	"time"

	"zipstamp/internal/digest"
)

// Past is what is known of a card from before: what it held after its last stamp, and how fast it was. It only says
// where reading is likely to pay; what the card holds is always read.
type Past struct {
	Blocks []digest.Part // of each block of the image that was stamped; nil: not known
	// how large a memory of its own the card could have had when these were read back right (Result.Displaced); 0: it
	// is not certain that they are this card's, or that they were read back
	Displaced   int64
	Write, Read float64 // bytes a second; 0: not known
	Same        bool    // name and length say that it was the image that is stamped now; only what is foreseen follows
	Proven      bool    // it is known that this card holds what it claims
	// Untouched says that nothing else has written to the card since Blocks were read back. Where it isn't set,
	// anything that is read may come from the card's cache.
	Untouched bool
	// Undefined says that places of the card may have been discarded since it was put in. They may read as before, and
	// be lost when it is taken out, so nothing that is read of them counts.
	Undefined bool
}

// settles tells whether nothing need be written where all that the card holds turns out to be the same.
func (p *Past) settles() bool {
	return p != nil && p.Displaced >= Displaced && p.Untouched && p.Proven && !p.Undefined
}

func (p *Past) proven() bool { return p != nil && p.Proven }

func (p *Past) isUndefined() bool { return p != nil && p.Undefined }

// same tells whether the card held a block then.
func (p *Past) same(i int, own digest.Block) bool {
	return p != nil && i < len(p.Blocks) && digest.SumPart([]digest.Block{own}, 1) == p.Blocks[i]
}

// knows tells whether it is known what the card held in the place of a block.
func (p *Past) knows(i int) bool { return p != nil && i < len(p.Blocks) }

// group is a kind of blocks of which about the same share is on a card already.
type group uint8

const (
	anyBlock   group = iota // whatever is known of it: the blocks of late
	heldBefore              // by what is known, the card held it after its last stamp
	heldOther               // the card held something else then
	lookedSame              // one piece was read, and is the same
	lookedElse              // and isn't
	groups
)

// expected is the share of a block that is on the card already, before any was read.
var expected = [groups]float64{
	anyBlock: 0.4, heldBefore: 0.98, heldOther: 0.6, lookedSame: 0.9, lookedElse: 0.15,
}

// How decisions are made.
const (
	// the weight of one block in a group's share: blocks that follow each other are alike
	weight = 0.3
	// writing is taken to be so much slower than reading before both were measured; of cards it is a fifth to a half
	likelySlower = 0.5
	// of the time of writing, the part that may be spent on looking at pieces, and on reading blocks in groups where it
	// doesn't seem to pay
	forLooking, forTrying = 0.007, 0.008
	doubtful              = 0.8 // below this share, what is known of the card is not true any more: a look is cheap
	freeLooks             = 4   // pieces that are looked at before there is anything to go by
	// an access is timed if it is at least this large, bytes; that of a smaller one is its latency more than its rate
	timed = 1 << 20
	// when so much has been timed, what comes counts more than what was: cards get slower
	remembered = 20 * time.Second
	maxUnread  = 4 // reads that may fail before nothing is read any more
)

// pays decides, block by block, whether a block is read and compared before it is written. That takes less time than to
// write all of it if the share that is the same is larger than the rate of writing divided by that of reading.
type pays struct {
	past  *Past
	fixed float64 // slower, in tests

	mu      sync.Mutex
	off     bool      // nothing is read
	failed  int       // reads that failed
	last    time.Time // when the access before ended
	reads   tally
	writes  tally
	looking time.Duration // of all reads, the time for pieces
	trying  time.Duration // and for blocks of groups in which it didn't seem to pay
	wrote   time.Duration // all of it, and reading did
	read    time.Duration
	looks   int
	share   [groups]float64
}

// tally is how much was moved in what time.
type tally struct {
	bytes int64
	took  time.Duration
}

func (t *tally) rate() float64 {
	if t.took <= 0 {
		return 0
	}
	return float64(t.bytes) / t.took.Seconds()
}

func (t *tally) add(n int64, took time.Duration) {
	if n < timed {
		return
	}
	t.bytes += n
	if t.took += took; t.took > remembered {
		t.bytes, t.took = t.bytes/2, t.took/2
	}
}

func newPays(past *Past, off bool, fixed float64) *pays {
	return &pays{past: past, off: off, fixed: fixed, share: expected}
}

// stopped tells whether nothing is read before it is written.
func (p *pays) stopped() bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.off
}

// unread notes that a place could not be read. A reader can take half a minute for each, so after some nothing is read
// any more.
func (p *pays) unread() {
	p.mu.Lock()
	defer p.mu.Unlock()
	if p.failed++; p.failed == maxUnread {
		p.off = true
	}
}

// lapse is the time that an access took which ends now. Several are under way at once, and the card does one after the
// other, so it is the time since the one before has ended.
func (p *pays) lapse(began time.Time) time.Duration {
	now := time.Now()
	if began.Before(p.last) {
		began = p.last
	}
	p.last = now
	return now.Sub(began)
}

// wroteBytes notes a write.
func (p *pays) wroteBytes(n int64, began time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	took := p.lapse(began)
	p.wrote += took
	p.writes.add(n, took)
}

// compared notes that n bytes of a block of a group were read, of which so many are on the card already. tried says
// that it didn't seem to pay.
func (p *pays) compared(g group, n, same int64, tried bool, began time.Time) {
	p.mu.Lock()
	defer p.mu.Unlock()
	took := p.lapse(began)
	p.read += took
	p.reads.add(n, took)
	if tried {
		p.trying += took
	}
	share := float64(same) / float64(n)
	p.learn(g, share)
	if g != anyBlock {
		p.learn(anyBlock, share)
	}
}

func (p *pays) learn(g group, share float64) { p.share[g] += weight * (share - p.share[g]) }

// looked notes that a piece was read.
func (p *pays) looked(same bool, began time.Time) group {
	p.mu.Lock()
	defer p.mu.Unlock()
	took := p.lapse(began)
	p.read += took
	p.looking += took
	p.looks++
	if same {
		return lookedSame
	}
	p.learn(anyBlock, 0)
	return lookedElse
}

// slower is the rate of writing divided by that of reading.
func (p *pays) slower() float64 {
	write, read := p.writes.rate(), p.reads.rate()
	if p.fixed > 0 {
		return p.fixed
	}
	if write == 0 || read == 0 {
		if p.past == nil || p.past.Write <= 0 || p.past.Read <= 0 {
			return likelySlower
		}
		return p.past.Write / p.past.Read
	}
	return write / read
}

// group tells which group a block is in, before anything of it was read; look says that a piece is to be read first.
func (p *pays) group(i int, own digest.Block) (g group, look bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case p.past.same(i, own):
		return heldBefore, p.share[heldBefore] < doubtful
	case p.past.knows(i):
		return heldOther, false
	}
	if i == 0 || p.share[anyBlock] > p.slower() {
		return anyBlock, false
	}
	return anyBlock, p.looks < freeLooks || p.looking.Seconds() < forLooking*p.wrote.Seconds()
}

// reading tells whether a block of a group is to be read; tried says that it is only to see whether it would pay.
func (p *pays) reading(i int, g group) (read, tried bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case p.off:
		return false, false
	case i == 0, p.share[g] > p.slower():
		return true, false
	case g == heldBefore && p.share[g] >= doubtful && p.past.settles():
		return true, false // as long as all is the same, nothing is written, be it ever so fast
	case g == anyBlock || p.trying.Seconds() >= forTrying*p.wrote.Seconds():
		return false, false
	}
	return true, true
}

// carriesOn says that the card shows the mark of an interrupted stamp of the same image.
func (p *pays) carriesOn() {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.share[anyBlock] = expected[heldBefore]
}

// times are those of all reading and writing.
func (p *pays) times() (read, wrote time.Duration) {
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.read, p.wrote
}
