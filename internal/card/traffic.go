package card

import "zipstamp/internal/card/disks"

// Traffic is what the system has counted of a disk by now, whichever program it came from. The zero value says that
// nothing is known, as of cards that are files.
func (c *Card) Traffic() disks.Traffic {
	if c.Disk == nil {
		return disks.Traffic{}
	}
	all, err := c.finder.Host.Disks()
	if err != nil {
		return disks.Traffic{}
	}
	for _, d := range all {
		if d.Key == c.Disk.Key {
			return d.Traffic
		}
	}
	return disks.Traffic{}
}

// Untouched tells whether nothing has been written to the card that its own cache could still have: nothing since it
// was put in, or nothing since the system had counted what then has. A card that is a file has no cache from one run to
// the next.
func (c *Card) Untouched(then disks.Traffic) bool {
	if c.Disk == nil {
		return true
	}
	now := c.Traffic()
	switch {
	case now.Since == "" || now.Discarded != 0 && now != then:
		return false
	case now.Written == 0:
		return true
	}
	return now == then
}

// Undefined tells whether places of the card may have been discarded since it was put in.
func (c *Card) Undefined() bool { return c.Traffic().Discarded > 0 }
