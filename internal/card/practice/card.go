package practice

import (
	"errors"
	"io"
	"os"
	"sync"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
)

// Card is an opened practice card. Its methods may be called from any goroutine; as on a real card,
// accesses are done one after another.
type Card struct {
	spec    Spec
	backing backing
	pace    pace

	mu       sync.Mutex
	written  int64 // bytes, since it was opened
	moved    int64 // bytes written and read
	gone     bool
	accesses []int // of each fault
	cache    cache
	last     []byte // what was written last, where that matters
	chances  uint64 // drawn so far
	unsafe   undo   // what may be lost when the power is cut
	late     []late // discards that take effect when the card is taken out, the oldest first
	opened   time.Time
}

// Open puts the card in: it opens the backing file (and makes it, if it isn't there), and locks it.
// fault.Busy says that another run has it.
func Open(s Spec) (*Card, error) { return open(s, os.O_RDWR|os.O_CREATE) }

// OpenToRead puts the card in so that it can only be read: neither it nor its file is changed or made.
func OpenToRead(s Spec) (*Card, error) {
	s.ReadOnly = true
	return open(s, os.O_RDONLY)
}

func open(s Spec, flags int) (*Card, error) {
	s, err := s.complete()
	if err != nil {
		return nil, err
	}
	b, err := openBacking(s.Backing, s.stored(), flags)
	if err != nil {
		return nil, fault.Opening(err)
	}
	return &Card{
		spec: s, backing: b, accesses: make([]int, len(s.Faults)),
		cache: cache{limit: int64(s.Cache), back: s.WriteBack}, opened: time.Now(),
	}, nil
}

// Access says that it is simulated.
func (c *Card) Access() card.Access { return card.Simulated }

// Rates are how fast it is, bytes a second; 0 where that isn't given.
func (c *Card) Rates() (write, read float64) {
	return float64(c.spec.WriteRate), float64(c.spec.ReadRate)
}

// Present is always true: a card that is gone says so itself.
func (c *Card) Present() bool { return true }

// Size is the claimed size, bytes.
func (c *Card) Size() int64 { return int64(c.spec.Claimed) }

// SectorSize is the logical sector, bytes.
func (c *Card) SectorSize() int { return c.spec.Sector }

// Flush returns when the backing file is on the computer's disk. A card that lies says so of what is in its memory,
// too.
func (c *Card) Flush() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.gone {
		return fault.Gone
	}
	if c.spec.Real == c.spec.Claimed && !c.spec.ReadOnly && !c.spec.Volatile {
		if err := c.cache.store(c.store); err != nil {
			return err
		}
	}
	c.unsafe = undo{}
	return fault.Of(c.backing.Sync())
}

// Forget does nothing: the backing file is the card itself, so nothing of this computer stands between.
func (c *Card) Forget() error { return nil }

// Close takes the card out, when it has stored what was in its memory. What it puts off until then is done.
func (c *Card) Close() error {
	c.mu.Lock()
	defer c.mu.Unlock()
	var err error
	if !c.spec.Volatile {
		err = c.cache.store(c.store)
	}
	c.cache = cache{} // whoever keeps the card needs no memory for it
	return errors.Join(err, c.doLate(), c.backing.Close())
}

// ReadAt reads whole sectors. Errors are of the kinds of package fault.
func (c *Card) ReadAt(p []byte, off int64) (int, error) {
	if err := c.within(p, off); err != nil {
		return 0, err
	}
	c.pace.wait(len(p), c.spec.ReadRate, c.spec.Latency)
	c.mu.Lock()
	defer c.mu.Unlock()
	n, err := c.transfer(len(p))
	if readErr := c.read(p[:n], off); readErr != nil {
		return 0, fault.Of(readErr)
	}
	return n, err
}

// WriteAt writes whole sectors. Errors are of the kinds of package fault.
func (c *Card) WriteAt(p []byte, off int64) (int, error) {
	if err := c.within(p, off); err != nil {
		return 0, err
	}
	rate, latency := c.writePace(len(p))
	c.pace.wait(len(p), rate, latency)
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.spec.ReadOnly || c.spec.ReadOnlyAfter > 0 && c.written >= int64(c.spec.ReadOnlyAfter) {
		return 0, fault.Locked
	}
	n, err := c.transfer(len(p))
	before := c.written
	c.written += int64(n)
	if tear := int64(c.spec.TearAfter); tear > 0 && c.written >= tear && err == nil {
		return 0, c.tear(p[:max(tear-before, 0)], off)
	}
	if cut := int64(c.spec.PowerCutAfter); cut > 0 && before < cut && c.written >= cut && err == nil {
		return 0, c.cutPower(p[:n], off)
	}
	if writeErr := c.write(p[:n], off); writeErr != nil {
		return 0, fault.Of(writeErr)
	}
	c.spare(off, int64(n))
	return n, err
}

// within refuses what the kernel refuses of a device opened for direct access.
func (c *Card) within(p []byte, off int64) error {
	sector := int64(c.spec.Sector)
	switch {
	case off < 0 || off%sector != 0 || int64(len(p))%sector != 0:
		return fault.Misused
	case off > c.Size()-int64(len(p)):
		return fault.Full
	case c.spec.ReaderLimit > 0 && off+int64(len(p)) > int64(c.spec.ReaderLimit):
		return fault.BadPlace
	}
	return nil
}

// transfer counts n bytes, and says how many of them go through before the card is pulled out.
func (c *Card) transfer(n int) (int, error) {
	if late := time.Duration(c.spec.GoneAfterTime); late > 0 && time.Since(c.opened) >= late {
		c.gone = true
	}
	if c.gone {
		return 0, fault.Gone
	}
	limit := int64(c.spec.GoneAfter)
	if resets := int64(c.spec.ResetsAfter); resets > 0 && (limit == 0 || resets < limit) {
		limit = resets
	}
	if limit > 0 && c.moved+int64(n) > limit {
		c.gone = true
		n = int(limit-c.moved) / c.spec.Sector * c.spec.Sector
		return n, fault.Gone
	}
	c.moved += int64(n)
	return n, nil
}

func (c *Card) write(p []byte, off int64) error {
	if c.faulty(FailWrite, off, len(p)) != nil {
		return fault.BadPlace
	}
	if c.cache.limit > 0 {
		if err := c.cache.add(p, off, c.store); err != nil {
			return err
		}
	}
	if c.spec.WriteBack {
		return nil // it is stored when the memory needs the room
	}
	return c.store(p, off)
}

// tear stores the sectors of a write before the power is cut in the midst of it.
func (c *Card) tear(p []byte, off int64) error {
	if len(p) > 0 {
		if err := c.write(p[:len(p)/c.spec.Sector*c.spec.Sector], off); err != nil {
			return err
		}
	}
	c.gone = true
	return fault.Gone
}

// store puts what was written where the card keeps it, if it does.
func (c *Card) store(p []byte, off int64) error {
	stored := p
	if at := c.faulty(Flip, off, len(p)); at != nil {
		stored = append([]byte(nil), p...)
		flip(stored, off, at, c.spec.Sector)
	}
	if c.spec.Reads == Last {
		c.last = append(c.last[:0], stored...)
	}
	if c.spec.keepsAnywhere() {
		if err := c.allocate(off, int64(len(p))); err != nil {
			return err
		}
	}
	return c.segments(stored, off, func(part []byte, at int64) error {
		if at < 0 {
			return nil // dropped
		}
		if c.spec.PowerCutAfter > 0 {
			if err := c.unsafe.keep(c.backing, at, len(part)); err != nil {
				return err
			}
		}
		_, err := c.backing.WriteAt(part, at)
		return err
	})
}

func (c *Card) read(p []byte, off int64) error {
	if c.faulty(FailRead, off, len(p)) != nil {
		return fault.BadPlace
	}
	err := c.segments(p, off, func(part []byte, at int64) error {
		if at < 0 {
			c.beyond(part, lost(at))
			return nil
		}
		_, err := c.backing.ReadAt(part, at)
		if errors.Is(err, io.EOF) {
			return fault.BadPlace // the backing file was cut short while in use
		}
		return err
	})
	if err != nil {
		return err
	}
	c.cache.overlay(p, off)
	if at := c.faulty(Misread, off, len(p)); at != nil {
		flip(p, off, at, c.spec.Sector)
	}
	return nil
}

// segments calls do for each part of p with the place in the backing file where it is; for a part that the card drops
// that is lost of the address, which is negative.
func (c *Card) segments(p []byte, off int64, do func(part []byte, at int64) error) error {
	for len(p) > 0 {
		at, room, err := c.place(off, int64(len(p)))
		if err != nil {
			return err
		}
		part := p[:min(int64(len(p)), room)]
		if err := do(part, at); err != nil {
			return err
		}
		p = p[len(part):]
		off += int64(len(part))
	}
	return nil
}

// lost marks an address as one that is dropped, and gives the address of one that is marked.
func lost(at int64) int64 { return -1 - at }

// place is where the backing file has an address, and for how many bytes, of n, that goes on so.
func (c *Card) place(off, n int64) (at, room int64, err error) {
	real, claimed := int64(c.spec.Real), int64(c.spec.Claimed)
	switch c.spec.Beyond {
	case Lazy, Oldest:
		kept, room, err := c.kept(off, n)
		if !kept {
			return lost(off), room, err
		}
		return off, room, err
	case Ends:
		head := real / 2 / int64(c.spec.Sector) * int64(c.spec.Sector)
		switch tail := claimed - (real - head); {
		case off < head:
			return off, head - off, nil
		case off >= tail:
			return head + off - tail, claimed - off, nil
		default:
			return lost(off), tail - off, nil
		}
	}
	switch {
	case off < real:
		return off, real - off, nil
	case c.spec.Beyond == Drop:
		return lost(off), n, nil
	}
	return off % real, real - off%real, nil
}

// beyond fills p with what dropped places read as.
func (c *Card) beyond(p []byte, off int64) {
	switch c.spec.Reads {
	case Zeros:
		clear(p)
	case FF:
		for i := range p {
			p[i] = 0xFF
		}
	case Noise:
		noise(p, uint64(off))
	case Changing:
		noise(p, mix(c.draw())+uint64(off))
	case Last:
		for n := 0; n < len(p); {
			if len(c.last) == 0 {
				clear(p)
				return
			}
			n += copy(p[n:], c.last)
		}
	}
}

// noise fills p with what a place reads as.
func noise(p []byte, place uint64) {
	for i := 0; i < len(p); i += 8 {
		v := mix(place + uint64(i))
		for j := range min(8, len(p)-i) {
			p[i+j] = byte(v >> (8 * j))
		}
	}
}

// draw gives the next number of those that chance is made of.
func (c *Card) draw() uint64 {
	c.chances++
	return mix(c.spec.Seed<<32 + c.chances)
}

// happens tells whether something happens that has a chance.
func (c *Card) happens(chance float64) bool {
	return float64(c.draw()>>11)/(1<<53) < chance
}

// mix is the finalizer of SplitMix64 (Steele, Lea, Flood: Fast Splittable Pseudorandom Number Generators, 2014).
func mix(v uint64) uint64 {
	v += 0x9e3779b97f4a7c15
	v = (v ^ v>>30) * 0xbf58476d1ce4e5b9
	v = (v ^ v>>27) * 0x94d049bb133111eb
	return v ^ v>>31
}

// faulty counts an access to the first fault of a kind in a range, and returns it if it shows.
func (c *Card) faulty(kind FaultKind, off int64, n int) *Fault {
	sector := int64(c.spec.Sector)
	for i := range c.spec.Faults {
		f := &c.spec.Faults[i]
		if f.Kind != kind || (f.Sector+f.Count)*sector <= off || f.Sector*sector >= off+int64(n) {
			continue
		}
		c.accesses[i]++
		if (f.Times == 0 || c.accesses[i] <= f.Times) && (f.Chance == 0 || c.happens(f.Chance)) {
			return f
		}
	}
	return nil
}

// flip inverts a bit in each faulty sector of p, which is at off.
func flip(p []byte, off int64, f *Fault, sector int) {
	const within = 100 // any place in the sector
	for s := f.Sector; s < f.Sector+f.Count; s++ {
		if at := s*int64(sector) + within - off; at >= 0 && at < int64(len(p)) {
			p[at] ^= 0x10
		}
	}
}
