package cardtest

import (
	"bytes"
	"math/rand/v2"
	"sync"

	"zipstamp/internal/card"
)

// Recorder is a device that notes every write, discard and flush, so that all the states can be built that a power cut
// could leave of the run.
type Recorder struct {
	card.Device
	Before []byte     // what the card held at the start
	Note   func() int // called before each write, and kept with it; may be nil

	mu  sync.Mutex
	ops []op
}

type op struct {
	off     int64
	data    []byte // nil: a flush, or a discard
	discard int64  // bytes
	note    int
}

// WriteAt notes a write.
func (r *Recorder) WriteAt(p []byte, off int64) (int, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.add(op{off: off, data: append([]byte{}, p...)})
	return r.Device.WriteAt(p, off)
}

// Discard notes a discard.
func (r *Recorder) Discard(off, length int64) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.add(op{off: off, discard: length})
	return card.Discard(r.Device, off, length)
}

// Flush notes a flush, when it is done.
func (r *Recorder) Flush() error {
	r.mu.Lock()
	defer r.mu.Unlock()
	err := r.Device.Flush()
	if err == nil {
		r.add(op{})
	}
	return err
}

func (r *Recorder) add(o op) {
	if r.Note != nil {
		o.note = r.Note()
	}
	r.ops = append(r.ops, o)
}

// Len is how much was noted.
func (r *Recorder) Len() int { return len(r.ops) }

// State is what a power cut leaves: everything up to the last flush, and of what came then any sectors.
type State struct {
	At    int // how much of the run had been noted
	Note  int // that of the last write, or of the next one
	base  []byte
	later []part

	before  []byte
	differs map[int64]bool // sectors of base that aren't as before the run
}

// part is a write of which some sectors are on the card.
type part struct {
	op
	without map[int64]bool // sectors, from its start
}

const stateSector = 512

var zeros [stateSector]byte

// ReadAt reads what the card holds.
func (s *State) ReadAt(p []byte, off int64) (int, error) {
	n := copy(p, s.base[off:])
	for _, w := range s.later {
		if w.data == nil { // a discard: what is there isn't defined
			for at := max(off, w.off); at < min(off+int64(n), w.off+w.discard); at++ {
				p[at-off] = 0
			}
			continue
		}
		from, to := max(off, w.off), min(off+int64(n), w.off+int64(len(w.data)))
		for at := from; at < to; {
			end := min((at-w.off)/stateSector*stateSector+stateSector+w.off, to)
			if !w.without[(at-w.off)/stateSector] {
				copy(p[at-off:end-off], w.data[at-w.off:])
			}
			at = end
		}
	}
	return n, nil
}

// All is the whole card.
func (s *State) All() []byte {
	p := make([]byte, len(s.base))
	_, _ = s.ReadAt(p, 0) // it is in memory
	return p
}

// Differs calls see with each sector that isn't as before the run: its place in bytes, and what it holds and held.
func (s *State) Differs(see func(off int64, holds, held []byte)) {
	now := s.pending()
	for n := range s.differs {
		if _, written := now[n]; !written {
			see(n*stateSector, s.base[n*stateSector:(n+1)*stateSector], s.before[n*stateSector:(n+1)*stateSector])
		}
	}
	for n, holds := range now {
		if held := s.before[n*stateSector : (n+1)*stateSector]; !bytes.Equal(holds, held) {
			see(n*stateSector, holds, held)
		}
	}
}

// pending is what is on the card of what came after the last flush, by sectors.
func (s *State) pending() map[int64][]byte {
	now := map[int64][]byte{}
	for _, w := range s.later {
		if w.data == nil {
			for at := range w.discard / stateSector {
				now[w.off/stateSector+at] = zeros[:]
			}
			continue
		}
		for at := range int64(len(w.data)) / stateSector {
			if !w.without[at] {
				now[w.off/stateSector+at] = w.data[at*stateSector : (at+1)*stateSector]
			}
		}
	}
	return now
}

// States calls see with the states that a power cut could leave: after each thing that was noted, all of it, and so
// many times any of what was written since the last flush, some of it torn. It gives how many there were. A state is
// valid until see returns.
func (r *Recorder) States(random *rand.Rand, times int, see func(*State)) (count int) {
	base := append([]byte{}, r.Before...)
	differs := map[int64]bool{}
	var pending []part
	show := func(i int, later []part) {
		note := 0
		if i < len(r.ops) {
			note = r.ops[i].note
		} else if i > 0 {
			note = r.ops[i-1].note
		}
		see(&State{At: i, Note: note, base: base, later: later, before: r.Before, differs: differs})
		count++
	}
	show(0, nil)
	for i, o := range r.ops {
		if o.data == nil && o.discard == 0 {
			whole := State{later: pending}
			for n, holds := range whole.pending() {
				copy(base[n*stateSector:], holds)
				if bytes.Equal(holds, r.Before[n*stateSector:(n+1)*stateSector]) {
					delete(differs, n)
				} else {
					differs[n] = true
				}
			}
			pending = nil
		} else {
			pending = append(pending, part{op: o})
		}
		show(i+1, pending)
		if len(pending) == 0 {
			continue
		}
		for range times {
			var some []part
			for _, w := range pending {
				switch random.IntN(3) {
				case 0:
				case 1:
					some = append(some, w)
				default:
					w.without = map[int64]bool{}
					for s := range int64(len(w.data)) / stateSector {
						if random.IntN(2) == 0 {
							w.without[s] = true
						}
					}
					some = append(some, w)
				}
			}
			show(i+1, some)
		}
	}
	return count
}
