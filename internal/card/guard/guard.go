// Package guard decides whether a disk or a file may be written. It is given plain facts and gives reasons; it reads nothing and
// knows no option that overrides what protects the computer itself.
package guard

import (
	"fmt"
	"strings"

	"zipstamp/internal/shell"
)

// MaxCard is the size of the largest card there is, bytes: the limit of SDXC (SD Physical Layer Simplified Specification 9.10, section
// 3.3.2). A disk that claims more is hardly a card, and if it is one, it lies.
const MaxCard = 2 << 40

// Facts are what is known of something that is to be written.
type Facts struct {
	Name      string // sdb, good.card
	File      bool   // a plain file or a practice card, and no device
	Named     bool   // by an explicit path, and not found by the program
	Size      int64  // bytes
	ReadOnly  bool
	Removable bool   // as the kernel says
	SDSlot    bool   // a card in an SD slot
	Loop      bool   // a loop device
	Kind      string // of a disk that is none of these: "an NVMe disk", "a network disk", "the disk of a virtual machine"
	Made      string // what it is, where it is made of other disks or of memory: "a RAID array"
	Unfit     string // what it is, where it is no disk for images: "an optical drive"

	System  []string // what of the running system is on it, each as a clause
	Mounts  []Mount
	Swaps   []string // in use: partitions or files
	Holders []string // what is built on it and in use
	Held    bool     // the kernel refuses exclusive use, and nothing of the above says why

	FixedDisk bool // the user says that a fixed disk is meant
	Asked     bool // a person is asked, and sees all of this, before anything is done
}

// Mount is a mounted file system.
type Mount struct {
	Source, Point string
	Volume        bool // on the disk by way of a volume
}

// Cause is the kind of a reason.
type Cause string

// The causes.
const (
	System    Cause = "system"    // the computer runs from it
	InUse     Cause = "in use"    // by mounts that aren't a card's, swap, or what is built on it
	Held      Cause = "held"      // by another program, exclusively
	Volume    Cause = "volume"    // made of other disks, or of memory
	Unfit     Cause = "unfit"     // no disk for images
	Fixed     Cause = "fixed"     // not removable, and not in an SD slot; --fixed-disk lifts it
	Large     Cause = "large"     // larger than any card; likewise
	Unnamed   Cause = "unnamed"   // only by its path
	Empty     Cause = "empty"     // no medium
	Protected Cause = "protected" // write-protected
)

// Reason speaks against writing something.
type Reason struct {
	Cause Cause
	Text  string // a clause: "it is write-protected"
	Next  string // what to do about it; may be empty
}

// Judge gives the reasons for which something must not be written, the weightiest first; none if it may be. A mounted card
// may be: it is freed when its user has agreed.
func Judge(f Facts) []Reason {
	var all []Reason
	add := func(c Cause, next, text string, args ...any) {
		all = append(all, Reason{c, fmt.Sprintf(text, args...), next})
	}
	if len(f.System) > 0 {
		add(System, "no option overrides this; name the card's device", "this computer runs from it (%s)", strings.Join(f.System, ", "))
	}
	if f.Made != "" {
		add(Volume, "name the card's own device", "it is %s, not a card", f.Made)
	}
	if f.Unfit != "" {
		add(Unfit, "name the card's device", "it is %s, not a card", f.Unfit)
	}
	card := f.File || f.Loop || f.Removable || f.SDSlot
	for _, s := range f.Swaps {
		if !card || f.File || !f.Asked {
			add(InUse, "turn the swap off, and run the command again: sudo swapoff "+shell.Quote(s), "this computer uses %s as swap", s)
		}
	}
	for _, h := range f.Holders {
		add(InUse, "close or stop that first, if it is a card's", "it is in use by %s", h)
	}
	if f.Held {
		add(Held, "wait until that has ended, or end it, and run the command again", "another program has it for itself alone")
	}
	for _, m := range f.Mounts {
		if len(f.System) == 0 && (m.Volume || !card && !isDesktopPoint(m.Point)) {
			add(InUse, "unmount it, and run the command again: sudo umount "+shell.Quote(m.Point), "this computer has %s mounted at %s", m.Source, m.Point)
		}
	}
	switch nothing := f.Made == "" && f.Unfit == ""; {
	case !nothing:
	case f.Size == 0 && f.File:
		add(Empty, fmt.Sprintf("make a practice card: zipstamp practice new %s.practice --claimed 64MB", f.Name), "it is empty; a file that stands for a card has the card's size")
	case f.Size == 0:
		add(Empty, "put the card in, and run the command again", "there is no card in the reader")
	case !card && !f.FixedDisk:
		add(Fixed, "if it is the right one all the same: --fixed-disk", "it is %s: neither a removable card nor one in an SD slot", f.Kind)
	case f.Size > MaxCard && !f.File && !f.Loop && !f.FixedDisk:
		add(Large, "if it is the right one all the same: --fixed-disk", "it says that it is larger than any card there is")
	}
	if f.Loop && !f.Named && f.Size > 0 {
		add(Unnamed, "name it by its path", "it is a loop device, which only its path names")
	}
	if f.ReadOnly && f.Size > 0 {
		next := ""
		if !f.File && !f.Loop {
			next = "slide the lock on the card's or adapter's side, and put it in again"
		}
		add(Protected, next, "it is write-protected")
	}
	return all
}

// isDesktopPoint tells the places where desktops mount what is plugged in.
func isDesktopPoint(point string) bool {
	return strings.HasPrefix(point, "/media/") || strings.HasPrefix(point, "/run/media/")
}
