package practice

// cache is the memory by which some cards answer for what was written last, whether or not they keep it.
type cache struct {
	limit   int64 // bytes
	held    int64
	entries []cached // oldest first
}

type cached struct {
	off  int64
	data []byte
}

// add remembers a write, and lets go of the oldest ones.
func (c *cache) add(p []byte, off int64) {
	if c.limit == 0 {
		return
	}
	if over := int64(len(p)) - c.limit; over > 0 {
		p, off = p[over:], off+over
	}
	c.entries = append(c.entries, cached{off, append([]byte(nil), p...)})
	c.held += int64(len(p))
	for over := c.held - c.limit; over > 0; over = c.held - c.limit {
		first := &c.entries[0]
		cut := min(over, int64(len(first.data)))
		first.off += cut
		first.data = first.data[cut:]
		c.held -= cut
		if len(first.data) == 0 {
			c.entries = c.entries[1:]
		}
	}
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
