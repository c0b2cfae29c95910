package card

import (
	"os"
	"path/filepath"
	"slices"

	"github.com/moby/sys/mountinfo"

	"zipstamp/internal/card/disks"
)

// Touches says how a file, or the place where one is to be made, is not apart from the card, as a clause: it is the card, it is what keeps the card, or it lies on the card. Loop devices
// are followed to their files, and these to the disks that they are on. Empty: it is apart.
func (c *Card) Touches(path string) string {
	if c.Is(path) {
		return "is the card itself"
	}
	all, _ := disks.Tree{Root: "/"}.List() // where disks can't be listed, there are no loop devices either
	at := c.Disk
	if at == nil {
		at = carrier(c.Path, all)
	}
	for range len(all) + 1 { // from the card down to what carries it
		if at == nil || at.Bus != disks.Loop || at.Backing == "" {
			break
		}
		if sameFile(path, at.Backing) {
			return "is the file behind the card"
		}
		at = carrier(at.Backing, all)
	}
	if c.Disk != nil && lies(path, c.Disk) {
		return "lies on the card"
	}
	return ""
}

// Apart refuses a card that isn't apart from a file. what says what the file is to the run.
func (c *Card) Apart(what, path string) error {
	if how := c.Touches(path); how != "" {
		return &RefusedError{Card: c.Given, Reasons: []string{what + " (" + path + ") " + how}, Next: "name another card, or keep that somewhere else"}
	}
	return nil
}

func sameFile(a, b string) bool {
	one, err := os.Stat(a)
	if err != nil {
		return false
	}
	two, err := os.Stat(b)
	return err == nil && os.SameFile(one, two)
}

// mountOf is where the file system is mounted that a file is on, or will be.
func mountOf(path string) string {
	path, err := filepath.Abs(path)
	if err != nil {
		return ""
	}
	for {
		if real, err := filepath.EvalSymlinks(path); err == nil {
			path = real
			break
		}
		parent := filepath.Dir(path)
		if parent == path {
			break
		}
		path = parent
	}
	mounts, err := mountinfo.GetMounts(mountinfo.ParentsFilter(path))
	if err != nil || len(mounts) == 0 {
		return ""
	}
	return slices.MaxFunc(mounts, func(a, b *mountinfo.Info) int { return len(a.Mountpoint) - len(b.Mountpoint) }).Mountpoint
}

// lies tells whether a file is on a file system of the disk, or on one that its files carry.
func lies(path string, d *disks.Disk) bool {
	at := mountOf(path)
	return at != "" && slices.ContainsFunc(d.Mounts, func(m disks.Mount) bool { return m.Point == at })
}

// carrier is the loop device that carries a file, if one does.
func carrier(path string, all []disks.Disk) *disks.Disk {
	for i := range all {
		if all[i].Bus == disks.Loop && lies(path, &all[i]) {
			return &all[i]
		}
	}
	return nil
}
