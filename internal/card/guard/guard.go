// Package guard decides whether a disk or a file may be written. It is given plain facts and gives reasons; it reads
// nothing and knows no option that overrides what protects the computer itself. The reasons are data: others put them
// into words.
package guard

import (
	"slices"

	"zipstamp/internal/card/disks"
)

// MaxCard is the size of the largest card there is, bytes: the limit of SDXC (SD Physical Layer Simplified
// Specification 9.10, section 3.3.2). A disk that claims more is hardly a card, and if it is one, it lies.
const MaxCard = 2 << 40

// Facts are what is known of something that is to be written.
type Facts struct {
	disks.Disk // a file has only its size, and whether it may be written

	File  bool // a plain file or a practice card, and no device
	Named bool // by an explicit path, and not found by the program
	Held  bool // the system refuses exclusive use, and nothing else says why

	FixedDisk bool // the user says that a fixed disk is meant
	Asked     bool // a person is asked, and sees all of this, before anything is done
}

// Judge gives the reasons for which something must not be written, the weightiest first; none if it may be. A mounted
// card may be: it is freed when its user has agreed.
func Judge(f Facts) []Reason {
	var all []Reason
	add := func(r Reason) { all = append(all, r) }
	if len(f.System) > 0 {
		add(Reason{Cause: System, System: f.System})
	}
	if f.Made != "" {
		add(Reason{Cause: Volume, Made: f.Made})
	}
	if f.Unfit != "" {
		add(Reason{Cause: IsUnfit, Unfit: f.Unfit})
	}
	card := f.File || f.IsCardLike()
	for _, s := range f.Swaps {
		if !card || f.File || !f.Asked {
			add(Reason{Cause: SwapInUse, Name: s.Path})
		}
	}
	for _, h := range f.Holders {
		add(Reason{Cause: HolderOn, Holder: h})
	}
	if f.Held {
		add(Reason{Cause: Held})
	}
	for _, m := range f.Mounts {
		if len(f.System) == 0 && (m.Via != "" || !card && !m.ByDesktop) {
			add(Reason{Cause: MountedAs, Name: m.Source, Of: m.Point})
		}
	}
	switch nothing := f.Made == "" && f.Unfit == ""; {
	case !nothing:
	case f.Size == 0 && f.File:
		add(Reason{Cause: EmptyFile, Name: f.Name})
	case f.Size == 0:
		add(Reason{Cause: Empty})
	case !card && !f.FixedDisk:
		add(Reason{Cause: Fixed, Bus: f.Bus})
	case f.Size > MaxCard && !f.File && f.Bus != disks.Loop && !f.FixedDisk:
		add(Reason{Cause: Large})
	}
	if f.Bus == disks.Loop && !f.Named && f.Size > 0 {
		add(Reason{Cause: Unnamed})
	}
	if f.ReadOnly && f.Size > 0 {
		cause := Protected
		if f.File || f.Bus == disks.Loop {
			cause = LockedFile
		}
		add(Reason{Cause: cause})
	}
	return all
}

// IsProtected tells whether a reason says no more than that something is write-protected.
func IsProtected(r Reason) bool { return r.Cause == Protected || r.Cause == LockedFile }

// IsUse tells whether a reason says no more than that something is in use, as a card may be too.
func IsUse(r Reason) bool {
	return slices.Contains([]Cause{SwapInUse, HolderOn, MountedAs, Held}, r.Cause)
}
