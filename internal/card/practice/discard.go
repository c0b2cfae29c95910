package practice

import (
	"bytes"
	"errors"

	"zipstamp/internal/card/fault"
)

// atOnce is how much of a discard is done at a time, bytes.
const atOnce = 1 << 20

// Discard does with a stretch what the card does with discards. It counts as neither written nor read.
func (c *Card) Discard(off, length int64) error {
	sector := int64(c.spec.Sector)
	if off < 0 || length < 0 || off%sector != 0 || length%sector != 0 || off > c.Size()-length {
		return fault.Misused
	}
	if c.spec.Discards == NoneToDo {
		return errors.ErrUnsupported
	}
	c.pace.wait(int(length), c.spec.DiscardRate, c.spec.Latency)
	c.mu.Lock()
	defer c.mu.Unlock()
	left := make([]byte, min(length, atOnce))
	switch {
	case c.gone:
		return fault.Gone
	case c.spec.ReadOnly:
		return fault.Locked
	case c.spec.Discards == Refused:
		return fault.BadPlace
	case c.spec.Discards == Ignored:
		return nil
	case c.spec.Discards == ToFF:
		left = bytes.Repeat([]byte{0xFF}, len(left))
	}
	for ; length > 0; off, length = off+int64(len(left)), length-int64(len(left)) {
		left = left[:min(int64(len(left)), length)]
		if err := c.write(left, off); err != nil {
			return fault.Of(err)
		}
	}
	return nil
}
