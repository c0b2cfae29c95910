package practice

import (
	"io"

	"zipstamp/internal/card/fault"
)

// maxUndo bounds what a card has in its own memory and may lose with the power, bytes.
const maxUndo = 8 << 20

// undo is what stood where was written since the last flush, the oldest first. The zero value is nothing.
type undo struct {
	held    int
	entries []cached
}

// keep remembers what stands at a place, before it is written. What is older than the card's memory is large is safe.
func (u *undo) keep(f io.ReaderAt, at int64, n int) error {
	old := make([]byte, n)
	if _, err := f.ReadAt(old, at); err != nil {
		return err
	}
	u.entries = append(u.entries, cached{off: at, data: old})
	u.held += n
	for u.held > maxUndo {
		u.held -= len(u.entries[0].data)
		u.entries = u.entries[1:]
	}
	return nil
}

// cutPower writes p and cuts the power: of all sectors that were written since the last flush, chance decides which are
// kept. The card is gone.
func (c *Card) cutPower(p []byte, off int64) error {
	if err := c.write(p, off); err != nil {
		return err
	}
	// the last first, so that of a place that was written twice an older state can come back
	for i := len(c.unsafe.entries) - 1; i >= 0; i-- {
		e := c.unsafe.entries[i]
		for at := 0; at < len(e.data); at += c.spec.Sector {
			if c.happens(0.5) {
				if _, err := c.backing.WriteAt(e.data[at:at+c.spec.Sector], e.off+int64(at)); err != nil {
					return err
				}
			}
		}
	}
	c.gone = true
	return fault.Gone
}
