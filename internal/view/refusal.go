package view

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/shell"
)

// What software makes, in words.
var madeNames = map[disks.Made]string{
	disks.Encrypted: "an encrypted volume", disks.LVM: "an LVM volume", disks.RAID: "a RAID array",
	disks.Mapped: "a mapped volume", disks.Multipath: "one way of several to another disk",
	disks.Bcache: "a bcache volume", disks.ZFSVolume: "a ZFS volume", disks.ZFSPool: "a ZFS pool",
	disks.InMemory: "a disk in this computer's memory", disks.VirtualDisk: "a file that is shown as a disk",
	disks.StorageSpace: "a storage space", disks.DynamicDisk: "a dynamic disk",
	disks.Striped: "a volume that is on several disks", disks.Container: "a container of volumes",
}

var unfitNames = map[disks.Unfit]string{
	disks.BootArea: "a boot area of the eMMC", disks.Optical: "an optical drive", disks.Floppy: "a floppy drive",
	disks.Tape: "a tape drive", disks.Enclosure: "an enclosure",
}

// fixedNames are kinds of fixed disks, in words.
var fixedNames = map[disks.Bus]string{
	disks.NVMe: "an NVMe disk", disks.SATA: "a SATA disk", disks.SCSI: "a SCSI disk", disks.USB: "a USB disk",
	disks.EMMC: "the board's own eMMC", disks.FireWire: "a FireWire disk",
	disks.Machine: "the disk of a virtual machine", disks.Network: "a network disk",
	disks.Other: "a disk of an unknown kind",
}

// systemUse is what of the running system is on a disk.
func systemUse(u disks.SystemUse) string {
	switch u.How {
	case disks.AtStart:
		return u.Point + " is on it, which is mounted at each start"
	case disks.Started:
		return "this computer was started from it"
	case disks.Unknown:
		return "it can't be told whether the system is on it"
	}
	return u.Point + " is on it"
}

// holderName is what is built on a disk.
func holderName(h disks.Holder) string {
	switch {
	case h.File != "":
		return fmt.Sprintf("%s, whose file %s is on it", h.Name, h.File)
	case h.Made == "":
		return h.Name
	}
	title := h.Name
	if h.Title != "" {
		title = fmt.Sprintf("%s (%s)", h.Title, h.Name)
	}
	return "the " + strings.TrimPrefix(strings.TrimPrefix(madeNames[h.Made], "an "), "a ") + " " + title
}

// programUse is how a program uses a file or folder.
func programUse(p guard.Program) string {
	switch p.How {
	case guard.HasOpen:
		return "has " + p.File + " open"
	case guard.Mapped:
		return "has " + p.File + " mapped"
	}
	return fmt.Sprintf("%s %s", p.How, p.File)
}

// programClause is what a program does with a file system.
func programClause(p guard.Program) string {
	return fmt.Sprintf("%s (process %d) %s", p.Command, p.ID, programUse(p))
}

// reasonClauses are a reason for which a card is refused, each a clause: "it is write-protected".
func reasonClauses(r guard.Reason) []string {
	if r.Cause == guard.InUse {
		all := []string{r.Name + " is in use"}
		for _, p := range r.Programs {
			all = append(all, programClause(p))
		}
		if len(all) == 1 {
			all[0] += " by a program of another user, or by the system itself"
		}
		return all
	}
	return []string{reasonClause(r)}
}

func reasonClause(r guard.Reason) string {
	switch r.Cause {
	case guard.System:
		var uses []string
		for _, u := range r.System {
			uses = append(uses, systemUse(u))
		}
		if len(r.System) == 1 && r.System[0].How == disks.Unknown {
			return "it can't be told whether this computer runs from it"
		}
		return fmt.Sprintf("this computer runs from it (%s)", strings.Join(uses, ", "))
	case guard.SwapInUse:
		return fmt.Sprintf("this computer uses %s as swap", r.Name)
	case guard.HolderOn:
		return "it is in use by " + holderName(r.Holder)
	case guard.MountedAs:
		return fmt.Sprintf("this computer has %s mounted at %s", r.Name, r.Of)
	case guard.Held:
		return "another program has it for itself alone"
	case guard.Volume:
		return fmt.Sprintf("it is %s, not a card", madeNames[r.Made])
	case guard.IsUnfit:
		return fmt.Sprintf("it is %s, not a card", unfitNames[r.Unfit])
	case guard.Fixed:
		return fmt.Sprintf("it is %s: neither a removable card nor one in an SD slot", fixedNames[r.Bus])
	case guard.Large:
		return "it says that it is larger than any card there is"
	case guard.Unnamed:
		return "it is a loop device, which can be chosen only by its path"
	case guard.Empty:
		return "there is no card in the reader"
	case guard.EmptyFile:
		return "it is empty; a file that stands for a card has the card's size"
	case guard.Protected, guard.LockedFile:
		return "it is write-protected"
	case guard.NotThere:
		return "there is no such card"
	case guard.IsFolder:
		return "it is a folder, not a card"
	case guard.NoDevice:
		return fmt.Sprintf("it is a %s, not a card", r.Name)
	case guard.IsPart:
		return fmt.Sprintf("it is partition %d of the card %s, and an image is for a whole card", r.N, r.Of)
	case guard.NotListed:
		return "this computer no longer knows such a disk"
	case guard.BadSpec:
		return "it is a practice card that can't be used: " + r.Err.Error()
	case guard.NamesNone:
		return "it names no " + r.Of
	case guard.NoneNamed:
		return fmt.Sprintf("there is no card with the %s %s", r.Of, r.Name)
	case guard.FileAndDisk:
		return "that is a file here, and the name of a disk too"
	case guard.OtherHost:
		return "it is a folder of another computer, not a card"
	case guard.DiskUnknown:
		return "this computer doesn't say which disk it is on"
	case guard.Ambiguous:
		return fmt.Sprintf("%d disks have the %s %s: %s", len(r.Names), r.Of, r.Name, strings.Join(r.Names, ", "))
	case guard.NoHost:
		return noHost(r.Err)
	case guard.NoRights:
		return "you have no permission to write it"
	case guard.NoRightToRead:
		return "you have no permission to read it"
	case guard.Busy:
		return "another program is working on it"
	case guard.Changed:
		return fmt.Sprintf("it is no longer the card that was chosen: its size changed from %s to %s", exact(r.Was),
			exact(r.N))
	case guard.OtherSerial:
		return "it is no longer the card that was chosen: its serial number changed"
	case guard.PutInAgain:
		return "it is no longer the card that was chosen: it was taken out and put in again, or another one was"
	case guard.TakenOut:
		return "it was taken out"
	case guard.UsedByUs:
		return "this command itself " + programUse(r.Programs[0])
	case guard.MountedElse:
		return r.Name + " is mounted for other programs only, in a container or the like"
	case guard.NotUnmounted:
		return notFreed(r.Name+" can't be unmounted", r.Err)
	case guard.SwapStays:
		return notFreed("the swap "+r.Name+" can't be turned off", r.Err)
	case guard.IsTheCard:
		return fmt.Sprintf("%s (%s) is the card itself", r.Of, r.Name)
	case guard.BehindCard:
		return fmt.Sprintf("%s (%s) is the file behind the card", r.Of, r.Name)
	case guard.LiesOnCard:
		return fmt.Sprintf("%s (%s) lies on the card", r.Of, r.Name)
	}
	return r.Err.Error()
}

// noHost says why the disks of this computer can't be used.
func noHost(err error) string {
	if errors.Is(err, errors.ErrUnsupported) {
		return "the disks of this system can't be used; here, a card is a plain file or a practice card"
	}
	return err.Error()
}

func notFreed(what string, err error) string {
	if errors.Is(err, fs.ErrPermission) {
		return what + ": you have no permission to do that"
	}
	return what + ": " + err.Error()
}

// reasonNext is what to do about a reason; empty if there is nothing to say. again is the command line as it was typed.
func reasonNext(r guard.Reason, here card.Local, again []string) string {
	run := func(start []string, word string) string {
		if len(start) == 0 {
			return ""
		}
		return ": " + shell.Command(append(append([]string{}, start...), word)...)
	}
	device := "name the card's device"
	if here.Example != "" {
		device += ", such as " + here.Example
	}
	cause := r.Cause
	if cause == guard.NotUnmounted && here.Administrator && errors.Is(r.Err, fs.ErrPermission) {
		cause = guard.NoRights
	}
	switch cause {
	case guard.System:
		return "no option overrides this; name the card's device"
	case guard.SwapInUse:
		return "turn the swap off, and run the command again" + run(here.SwapOff, r.Name)
	case guard.HolderOn:
		return "close or stop that first, if it is a card's"
	case guard.MountedAs:
		if here.OnlyCards { // it is none, and no option makes it one
			return device
		}
		return "unmount it, and run the command again" + run(here.Unmount, r.Of)
	case guard.Held, guard.Busy:
		return "wait until that has ended, or end it, and run the command again"
	case guard.Volume:
		return "name the card's own device"
	case guard.IsUnfit:
		return device
	case guard.Fixed, guard.Large:
		if here.OnlyCards {
			return device
		}
		return "if it is the right one all the same: --fixed-disk"
	case guard.Unnamed, guard.NoHost:
		if r.Cause == guard.NoHost {
			return "make a practice card: zipstamp practice new FILE --claimed 64MB"
		}
		return "name it by its path"
	case guard.Empty:
		return "put the card in, and run the command again"
	case guard.EmptyFile:
		return "make a practice card: " + shell.Command("zipstamp", "practice", "new", r.Name+".practice", "--claimed",
			"64MB")
	case guard.Protected:
		return "slide the lock on the card's or adapter's side, and put it in again"
	case guard.NotThere:
		return "put the card in, and check its name"
	case guard.IsFolder, guard.NoDevice, guard.OtherHost, guard.DiskUnknown:
		return device
	case guard.IsPart:
		return "name the whole card: " + r.Of
	case guard.NotListed:
		return "put the card in again, and see what zipstamp cards shows"
	case guard.BadSpec:
		return "docs/formats.md describes practice cards"
	case guard.NamesNone:
		return "see what zipstamp cards shows"
	case guard.NoneNamed:
		return "put the card in, and see what zipstamp cards shows"
	case guard.FileAndDisk:
		return "write ./NAME for the file, or the disk's whole path, as zipstamp cards shows it"
	case guard.Ambiguous:
		return "name one of them by its path"
	case guard.NoRights, guard.NoRightToRead:
		if here.Privacy && os.Geteuid() == 0 { // who has all rights, and is refused all the same
			return "allow it for your terminal, in System Settings, Privacy & Security: Files and Folders, Removable " +
				"Volumes, or " +
				"Full Disk Access; then open a new terminal"
		}
		if len(here.Elevate) > 0 && len(again) > 0 {
			command := append(append([]string{}, here.Elevate...), program(again[0]))
			return "run it with more rights: " + shell.Command(append(command, again[1:]...)...)
		}
		if here.Administrator {
			return "open a terminal as administrator (in the Start menu, right-click it, and choose \"Run as " +
				"administrator\"), and run the command again there"
		}
	case guard.Changed, guard.OtherSerial, guard.PutInAgain:
		return "see what zipstamp cards shows, and choose again"
	case guard.TakenOut:
		return "put the card in again, and run the command again"
	case guard.InUse:
		return "end or close that, and run the command again; with --wait it waits for it"
	case guard.UsedByUs:
		return "go to a folder that is not on the card, and take no file from it; then run the command again"
	case guard.MountedElse:
		return "unmount it there, and run the command again"
	case guard.IsTheCard, guard.BehindCard, guard.LiesOnCard:
		return "name another card, or keep that somewhere else"
	}
	return ""
}

// Reason is a reason for which a card is refused, in words: "it is write-protected".
func Reason(r guard.Reason) string { return strings.Join(reasonClauses(r), "; ") }

// refusedText is a card that is refused, in words.
func refusedText(e *card.RefusedError) string {
	var why []string
	for _, r := range e.Why {
		why = append(why, reasonClauses(r)...)
	}
	text := e.Card + " is refused: " + strings.Join(why, "; ")
	if len(e.Unmounted) > 0 {
		text += fmt.Sprintf("; %s was unmounted already, and is mounted again when you reinsert the card",
			strings.Join(e.Unmounted, ", "))
	}
	return text
}

// Refusal is a card, or what stands for one, that a command refuses for a reason of its own.
type Refusal struct {
	Card string
	Why  string // a clause
	Next string // what to do; may be empty
	Err  error  // may be nil
}

func (e *Refusal) Error() string { return e.Card + " is refused: " + e.Why }

func (e *Refusal) Unwrap() error { return e.Err }
