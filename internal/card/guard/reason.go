package guard

import (
	"strings"

	"zipstamp/internal/card/disks"
)

// Reason is why a card is refused. Cause says which of the other fields belong to it.
type Reason struct {
	Cause
	Name     string   // what it is about
	Of       string   // what that belongs to
	Names    []string // several
	Err      error    // what the system says
	N        int64    // a number, a size in bytes
	Was      int64    // likewise, before
	System   []disks.SystemUse
	Holder   disks.Holder
	Bus      disks.Bus
	Made     disks.Made
	Unfit    disks.Unfit
	Programs []Program
}

// Program is one that keeps a card busy.
type Program struct {
	ID      int
	Command string
	How     How
	File    string
}

// How a program uses a file system.
type How string

// The ways.
const (
	WorksIn How = "works in"
	RootIn  How = "has as its root"
	RunFrom How = "is run from"
	HasOpen How = "has open"
	Mapped  How = "has mapped"
)

// Cause is the kind of a reason.
type Cause string

// The causes that Judge gives.
const (
	System     Cause = "system"         // the computer runs from it: System
	SwapInUse  Cause = "swap in use"    // Name is the partition or file
	HolderOn   Cause = "in use"         // by what is built on it: Holder
	MountedAs  Cause = "mounted"        // Name is the device, Of the folder; it is not as a card is mounted
	Held       Cause = "held"           // another program has it for itself alone
	Volume     Cause = "volume"         // made of other disks, or of memory: Made
	IsUnfit    Cause = "unfit"          // no disk for images: Unfit
	Fixed      Cause = "fixed"          // not removable, and not in an SD slot: Bus; --fixed-disk lifts it
	Large      Cause = "large"          // larger than any card; likewise
	Unnamed    Cause = "unnamed"        // only by its path
	Empty      Cause = "empty"          // no medium
	EmptyFile  Cause = "empty file"     // Name
	Protected  Cause = "protected"      // write-protected
	LockedFile Cause = "protected file" // likewise, a file or loop device
)

// The causes for which a card can't be found.
const (
	NotThere    Cause = "not there"
	SystemSays  Cause = "system says" // Err
	IsFolder    Cause = "folder"
	NoDevice    Cause = "no device"         // Name says what it is: a pipe, a socket
	IsPart      Cause = "partition"         // number N of the card Of
	NotListed   Cause = "not listed"        // the system no longer knows it
	BadSpec     Cause = "bad practice card" // Err
	NamesNone   Cause = "names none"        // Of is what it should name: label, serial number
	NoneNamed   Cause = "none named"        // no card has Name as its Of
	Ambiguous   Cause = "ambiguous"         // Names have Name as their Of
	FileAndDisk Cause = "file and disk"     // the name is that of a disk, and of a file here
	OtherHost   Cause = "network drive"     // it is a folder of another computer
	DiskUnknown Cause = "disk unknown"      // the system doesn't say on which disk it is
	NoHost      Cause = "no host"           // this system's disks can't be used: Err
)

// The causes for which a card can't be had.
const (
	NoRights      Cause = "no rights" // to write it
	NoRightToRead Cause = "no right to read"
	Busy          Cause = "busy"    // another program works on it
	Changed       Cause = "changed" // its size: N bytes, and it was Was
	OtherSerial   Cause = "other serial number"
	PutInAgain    Cause = "put in again" // or another one was
	TakenOut      Cause = "taken out"
	InUse         Cause = "busy file system"     // at Name, by Programs
	UsedByUs      Cause = "used by this command" // Programs has how
	MountedElse   Cause = "mounted elsewhere"    // at Name, for other programs only
	NotUnmounted  Cause = "not unmounted"        // Name; Err
	SwapStays     Cause = "swap stays on"        // Name; Err
)

// Errors of a file that isn't apart from the card: Name is the file, Of what it is to the run.
const (
	IsTheCard  Cause = "is the card"
	BehindCard Cause = "is behind the card"
	LiesOnCard Cause = "lies on the card"
)

// String is the reason in short, for logs; view has the words for people.
func (r Reason) String() string {
	text := string(r.Cause)
	for _, detail := range append([]string{r.Name, r.Of}, r.Names...) {
		if detail != "" {
			text += " " + detail
		}
	}
	if r.Err != nil {
		text += ": " + r.Err.Error()
	}
	return strings.TrimSpace(text)
}
