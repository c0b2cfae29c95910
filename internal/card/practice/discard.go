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
	left := byte(0)
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
		left = 0xFF
	case c.spec.Discards == Around:
		end := (off + length + unit - 1) / unit * unit
		off -= off % unit
		length = min(end, c.Size()) - off
	case c.spec.Discards == LateZeros:
		c.late = append(c.late, late{off: off, length: length})
		return nil
	}
	for at := off; at < off+length; at += atOnce {
		p := bytes.Repeat([]byte{left}, int(min(atOnce, off+length-at)))
		if c.spec.Discards == LateOld {
			old := make([]byte, len(p))
			if err := c.read(old, at); err != nil {
				return fault.Of(err)
			}
			c.late = append(c.late, late{at, int64(len(old)), old})
		}
		if err := c.write(p, at); err != nil {
			return fault.Of(err)
		}
	}
	return nil
}

// unit is what a card rounds discards to that does more than it is asked for, bytes.
const unit = 4 << 20

// late is a stretch that changes when the card is taken out.
type late struct {
	off, length int64
	to          []byte // nil: zeros
}

// spare keeps what is written from changing later.
func (c *Card) spare(off, length int64) {
	var all []late
	for _, l := range c.late {
		end := l.off + l.length
		if off >= end || off+length <= l.off {
			all = append(all, l)
			continue
		}
		if l.off < off {
			all = append(all, l.part(l.off, off))
		}
		if off+length < end {
			all = append(all, l.part(off+length, end))
		}
	}
	c.late = all
}

func (l late) part(from, to int64) late {
	p := late{off: from, length: to - from}
	if l.to != nil {
		p.to = l.to[from-l.off : to-l.off]
	}
	return p
}

// doLate changes what is to change.
func (c *Card) doLate() error {
	for _, l := range c.late {
		for done := int64(0); done < l.length; {
			p := make([]byte, min(atOnce, l.length-done))
			if l.to != nil {
				copy(p, l.to[done:])
			}
			if err := c.store(p, l.off+done); err != nil {
				return err
			}
			done += int64(len(p))
		}
	}
	c.late = nil
	return nil
}
