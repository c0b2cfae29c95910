package card

import (
	"slices"

	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
)

// Touches says how a file, or the place where one is to be made, is not apart from the card: it is the card, it is what
// keeps the card, or it lies on the card. Loop devices are followed to their files, and these to the disks that they
// are on. Empty: it is apart.
func (c *Card) Touches(path string) guard.Cause {
	if c.Is(path) {
		return guard.IsTheCard
	}
	all, _ := c.finder.Host.Disks() // where disks can't be listed, there are no loop devices either
	at := c.Disk
	if at == nil {
		at = c.carrier(c.Path, all)
	}
	for range len(all) + 1 { // from the card down to what carries it
		if at == nil || at.Bus != disks.Loop || at.Backing == "" {
			break
		}
		if sameFile(path, at.Backing) {
			return guard.BehindCard
		}
		at = c.carrier(at.Backing, all)
	}
	if c.Disk != nil && c.lies(path, c.Disk) {
		return guard.LiesOnCard
	}
	return ""
}

// Apart refuses a card that isn't apart from a file. what says what the file is to the run.
func (c *Card) Apart(what, path string) error {
	if how := c.Touches(path); how != "" {
		return refuse(c.Given, guard.Reason{Cause: how, Name: path, Of: what})
	}
	return nil
}

// lies tells whether a file is on a file system of the disk, or on one that its files carry.
func (c *Card) lies(path string, d *disks.Disk) bool {
	at, err := c.finder.Host.Under(path)
	return err == nil && at.Point != "" && slices.ContainsFunc(d.Mounts, func(m disks.Mount) bool {
		return m.Point == at.Point
	})
}

// carrier is the loop device that carries a file, if one does.
func (c *Card) carrier(path string, all []disks.Disk) *disks.Disk {
	for i := range all {
		if all[i].Bus == disks.Loop && c.lies(path, &all[i]) {
			return &all[i]
		}
	}
	return nil
}
