package practice

// cache is the memory by which some cards answer for what was written last, whether or not they keep it. One that is
// written back also puts off the storing: what is written gets to its place when the memory needs the room.
type cache struct {
	limit   int64 // bytes
	back    bool
	held    int64
	entries []cached // oldest first
}

type cached struct {
	off   int64
	data  []byte
	dirty bool // not stored yet
}

// add remembers a write. It calls forgotten for what there is no room for any more, the oldest first, if that has not
// been stored yet.
func (c *cache) add(p []byte, off int64, forgotten func(p []byte, off int64) error) error {
	c.entries = append(c.entries, cached{off, append([]byte(nil), p...), c.back})
	c.held += int64(len(p))
	for over := c.held - c.limit; over > 0; over = c.held - c.limit {
		first := &c.entries[0]
		cut := min(over, int64(len(first.data)))
		if first.dirty {
			if err := forgotten(first.data[:cut], first.off); err != nil {
				return err
			}
		}
		first.off += cut
		first.data = first.data[cut:]
		c.held -= cut
		if len(first.data) == 0 {
			c.entries = c.entries[1:]
		}
	}
	return nil
}

// store calls do for all that has not been stored yet, the oldest first. It stays remembered.
func (c *cache) store(do func(p []byte, off int64) error) error {
	for i := range c.entries {
		e := &c.entries[i]
		if !e.dirty {
			continue
		}
		if err := do(e.data, e.off); err != nil {
			return err
		}
		e.dirty = false
	}
	return nil
}

// overlay puts what is remembered over p, which was read at off.
func (c *cache) overlay(p []byte, off int64) {
	for _, e := range c.entries {
		start, end := max(off, e.off), min(off+int64(len(p)), e.off+int64(len(e.data)))
		if start < end {
			copy(p[start-off:end-off], e.data[start-e.off:end-e.off])
		}
	}
}
