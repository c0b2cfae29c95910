package card

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"
	"time"
)

// How much a card is forgiven in a run.
const (
	triesAgain = 3               // how often an access that failed is tried again
	maxAgain   = 12              // how many times in all; a card that needs more is failing
	maxReturns = 3               // how often it may come back after a reset
	returnTime = 6 * time.Second // how long it is waited for; a reader that resets is back in one to four
)

// pauses before the tries: a second in all, in which the kernel has seen that a card was pulled out whose accesses
// fail.
var pauses = [triesAgain]time.Duration{50 * time.Millisecond, 250 * time.Millisecond, 700 * time.Millisecond}

// Hold is a card that is held for exclusive use. It is a Device that forgives a little: an access that failed is tried
// again, and a card that is gone since its reader was reset is taken up again when it is back, perhaps under another
// name, if Recognise has said how to know it.
type Hold struct {
	mu    sync.RWMutex // held for writing while the device is exchanged
	card  *Card        // as it is now
	dev   Device
	lost  error // why it can't be taken up again
	claim func(context.Context, *Card) (Device, error)

	written atomic.Int64 // bytes

	noteMu   sync.Mutex
	known    func(Device) bool
	mishaps  []Mishap
	again    int
	told     func(Mishap)
	returned int
}

// Mishap is something that went wrong and then right.
type Mishap struct {
	Op      string // "read", "write", "flush"; empty for a return
	Offset  int64  // bytes
	Err     error
	Times   int    // how often it failed, before it went right
	Waiting bool   // it is gone, and it is not yet known whether it comes back
	Name    string // of a return: the name that it has now
}

// Card is the card as it is now: after a return its name and path may be others.
func (h *Hold) Card() *Card {
	h.mu.RLock()
	defer h.mu.RUnlock()
	return h.card
}

// Recognise says how the card is known by what is on it, from now on. Without it, and after Recognise(nil), a card that
// is gone is gone.
func (h *Hold) Recognise(known func(Device) bool) {
	h.noteMu.Lock()
	defer h.noteMu.Unlock()
	h.known = known
}

// Tell has every mishap told at once, from whichever goroutine meets it.
func (h *Hold) Tell(told func(Mishap)) {
	h.noteMu.Lock()
	defer h.noteMu.Unlock()
	h.told = told
}

// Mishaps are what went wrong and then right.
func (h *Hold) Mishaps() []Mishap {
	h.noteMu.Lock()
	defer h.noteMu.Unlock()
	return append([]Mishap(nil), h.mishaps...)
}

// MishapsOf are those of a device, if it remembers them.
func MishapsOf(d Device) []Mishap {
	if f, ok := d.(ForgivingDevice); ok {
		return f.Mishaps()
	}
	return nil
}

func (h *Hold) note(m Mishap) {
	h.noteMu.Lock()
	told := h.told
	if !m.Waiting {
		h.mishaps = append(h.mishaps, m)
	}
	h.noteMu.Unlock()
	if told != nil {
		told(m)
	}
}

// Size is the claimed capacity, bytes.
func (h *Hold) Size() int64 { return h.now().Size() }

// SectorSize is the logical sector, bytes.
func (h *Hold) SectorSize() int { return h.now().SectorSize() }

// Access is how reads get past this computer's memory.
func (h *Hold) Access() Access { return h.now().Access() }

func (h *Hold) now() Device {
	h.mu.RLock()
	defer h.mu.RUnlock()
	return h.dev
}

// ReadAt reads whole sectors.
func (h *Hold) ReadAt(p []byte, off int64) (n int, err error) {
	err = h.do("read", off, func(d Device) error { n, err = d.ReadAt(p, off); return err })
	return n, err
}

// WriteAt writes whole sectors.
func (h *Hold) WriteAt(p []byte, off int64) (n int, err error) {
	err = h.do("write", off, func(d Device) error {
		n, err = d.WriteAt(p, off)
		h.written.Add(int64(n))
		return err
	})
	return n, err
}

// Written is how much was written in all, bytes, tries that failed in part included.
func (h *Hold) Written() int64 { return h.written.Load() }

// Discard has the card forget a stretch. A failure is not forgiven: nothing depends on it.
func (h *Hold) Discard(off, length int64) error {
	h.mu.RLock()
	defer h.mu.RUnlock()
	return Discard(h.dev, off, length)
}

// Rates are those of the device, where its pace is given.
func (h *Hold) Rates() (write, read float64) { return Rates(h.now()) }

// Flush returns when the device says that written data is on the medium. A failure is not forgiven: what could not be
// kept is lost, and the device may say so only once. After a return, what was on its way may be lost too, which the
// read-back finds.
func (h *Hold) Flush() error {
	for {
		h.mu.RLock()
		dev := h.dev
		err := dev.Flush()
		h.mu.RUnlock()
		if !errors.As(err, new(*GoneError)) || h.takeUp(dev, err) != nil {
			return err
		}
	}
}

// Forget drops every cache of this computer.
func (h *Hold) Forget() error { return h.do("flush", 0, Device.Forget) }

// Close lets the card go as it is.
func (h *Hold) Close() error {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.dev.Close()
}

// do does an access, and forgives.
func (h *Hold) do(op string, off int64, access func(Device) error) error {
	var failed error
	for try := 0; ; {
		h.mu.RLock()
		dev := h.dev
		err := access(dev)
		h.mu.RUnlock()
		switch {
		case err == nil:
			if failed != nil {
				h.note(Mishap{Op: op, Offset: off, Err: failed, Times: try})
			}
			return nil
		case errors.As(err, new(*GoneError)):
			if h.takeUp(dev, err) != nil {
				return err
			}
		case try < triesAgain && IsBadPlace(err) && h.mayTryAgain():
			time.Sleep(pauses[try])
			try++
			failed = err
		default:
			return err
		}
	}
}

// mayTryAgain counts against the limit.
func (h *Hold) mayTryAgain() bool {
	h.noteMu.Lock()
	defer h.noteMu.Unlock()
	h.again++
	return h.again <= maxAgain
}

// takeUp waits for a card that is gone to come back, and takes it up. Of several goroutines that find it gone, one does
// it. The error says why it can't be.
func (h *Hold) takeUp(dev Device, cause error) error {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.noteMu.Lock()
	known := h.known
	h.noteMu.Unlock()
	switch {
	case h.lost != nil:
		return h.lost
	case h.dev != dev:
		return nil // another goroutine has done it
	case known == nil || !h.card.comesBack():
		return cause
	case h.returned == maxReturns:
		dev.Close()
		h.lost = fmt.Errorf("it was gone %d times: %w", maxReturns+1, cause)
		return h.lost
	}
	h.note(Mishap{Err: cause, Waiting: true})
	dev.Close() // the kernel keeps the name as long as this is open
	ctx, cancel := context.WithTimeout(context.Background(), returnTime)
	defer cancel()
	back, fresh, err := h.await(ctx)
	if err == nil && !known(fresh) {
		release(ctx, back, fresh, Leaving{})
		err = errors.New("another card was put in")
	}
	if err != nil {
		h.lost = fmt.Errorf("%w: %w", err, cause)
		return h.lost
	}
	h.card, h.dev = back, fresh
	h.returned++
	h.note(Mishap{Err: cause, Name: back.Name})
	return nil
}

// await looks for the card until it is there and can be claimed.
func (h *Hold) await(ctx context.Context) (*Card, Device, error) {
	for {
		if back := h.card.back(); back != nil {
			dev, err := h.claim(ctx, back)
			if err == nil && dev.Size() == h.card.Size {
				return back, dev, nil
			}
			if err == nil {
				dev.Close()
			}
		}
		select {
		case <-ctx.Done():
			return nil, nil, errors.New("it did not come back")
		case <-time.After(200 * time.Millisecond):
		}
	}
}

// comesBack tells whether the card would be known again at all.
func (c *Card) comesBack() bool {
	if c.Disk != nil {
		return c.Serial != "" || c.Disk.SD != nil
	}
	_, returns := c.source.(Returner)
	return returns
}

// back finds the card again after a reset, by its identity and never by its name; nil if it isn't there. Another medium
// in the same reader is told apart by what is on it.
func (c *Card) back() *Card {
	if r, ok := c.source.(Returner); ok {
		source := r.Again()
		if source == nil {
			return nil
		}
		again := *c
		again.source = source
		return &again
	}
	all, err := c.finder.All()
	if err != nil {
		return nil
	}
	for _, one := range all {
		switch then, now := c.Identity(), one.Identity(); then.Like(now) {
		case Same:
		case MayBe: // it says nothing of itself, so it must be in the same reader
			if then.Serial == "" || then.Serial != now.Serial || c.Disk.Slot != one.Disk.Slot {
				continue
			}
		default:
			continue
		}
		one.Given = c.Given
		return one
	}
	return nil
}
