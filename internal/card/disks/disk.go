// Package disks has what is known of a computer's disks, in words of no system: what each is, and what the computer
// uses it for. Hosts fill it in.
package disks

import (
	"slices"
	"strings"

	"zipstamp/internal/card/register"
	"zipstamp/internal/layout"
)

// Bus is how a disk is reached.
type Bus string

// The buses, and what stands for one where a disk is made by software.
const (
	USB      Bus = "USB"
	SDSlot   Bus = "SD slot"
	EMMC     Bus = "eMMC"
	NVMe     Bus = "NVMe"
	SATA     Bus = "SATA"
	SCSI     Bus = "SCSI"
	FireWire Bus = "FireWire"
	Machine  Bus = "virtual machine" // the disk of one
	Network  Bus = "network"
	Loop     Bus = "loop device" // a file that the system shows as a disk
	Volume   Bus = "volume"      // made of other disks
	Memory   Bus = "memory"
	Other    Bus = "other"
)

// Made is what software makes of other disks, of files or of memory.
type Made string

// What is made.
const (
	Encrypted Made = "encrypted volume"
	LVM       Made = "LVM volume"
	RAID      Made = "RAID array"
	Mapped    Made = "mapped volume" // by the system's mapper of devices, in a way that isn't known
	Multipath Made = "one way of several to another disk"
	Bcache    Made = "bcache volume"
	ZFSVolume Made = "ZFS volume"
	ZFSPool   Made = "ZFS pool"
	InMemory  Made = "disk in memory"

	VirtualDisk  Made = "virtual disk" // a file that the system shows as a disk
	StorageSpace Made = "storage space"
	DynamicDisk  Made = "dynamic disk"
	Striped      Made = "volume of several disks"
	Container    Made = "container of volumes" // APFS
)

// Unfit is what a disk is that is none for images.
type Unfit string

// What is unfit.
const (
	BootArea  Unfit = "boot area" // of an eMMC
	Optical   Unfit = "optical drive"
	Floppy    Unfit = "floppy drive"
	Tape      Unfit = "tape drive"
	Enclosure Unfit = "enclosure"
)

// Disk is a whole disk, and what it is used for. Sizes are in bytes.
type Disk struct {
	Name      string // as people type it
	Path      string // as the system opens it
	Key       string // by which the host knows it as long as it is there; two disks never have the same
	Insertion string // differs each time that a disk or a medium is put in, as far as the system tells
	Traffic   Traffic
	Size      int64 // 0: no medium
	Sector    int   // logical
	ReadOnly  bool
	Removable bool // the medium is, or the whole stick
	Bus       Bus
	Unfit     Unfit  // empty: it is a disk for images
	Made      Made   // empty: it is a real disk
	Backing   string // the file of a loop device
	Number    string // of that file on its file system, which tells it from another one under the same name

	Maker, Model, Serial string // as the disk says
	USB                  *USBDevice
	Slot, Slots          int          // of a reader with several; 0 of 0 for others
	SD                   *register.SD // of a card in an SD slot

	Scheme  layout.Scheme // of the partition table, where the system knows it; empty where it doesn't
	ID      string        // of the partition table, likewise
	FS      FileSystem    // of a disk without partitions
	Parts   []Part
	Mounts  []Mount
	Swaps   []Swap
	Holders []Holder    // what is built on it and in use
	System  []SystemUse // what of the running system is on it
}

// Traffic is what the system has counted of a disk since it appeared, bytes, whichever program it came from. The zero
// value says that nothing is known.
type Traffic struct {
	Since     string `json:"since"` // tells this appearance of the disk from all others
	Written   int64  `json:"written"`
	Discarded int64  `json:"discarded"`
}

// USBDevice is what the device says that a disk is reached through: a stick, or a reader.
type USBDevice struct {
	Port         string // where it is plugged in
	Vendor       string // idVendor, idProduct
	Product      string
	Manufacturer string
	Name         string
	Serial       string
	Speed        int // Mbit/s; 0 where it isn't known
}

// Part is a partition.
type Part struct {
	Name  string
	Path  string
	Index int
	Key   string
	Start int64
	Size  int64
	FS    FileSystem
}

// FileSystem is what the system knows of a file system. All may be empty.
type FileSystem struct {
	Kind            layout.FSKind
	Label, PartName string
}

// Mount is a mounted file system.
type Mount struct {
	Source string // the device's path
	Name   string // the device's name, as people know it
	Point  string // the folder, or the letter
	Kind   string // as the system calls it
	Via    string // the volume, where it is on the disk by way of one

	ByDesktop bool // the point is one at which the desktop mounts what is plugged in
}

// Swap is swap in use.
type Swap struct {
	Path string // the partition or file
	On   string // the mount point of the file system that a file is on; empty for a partition
	Via  string // as for Mount
}

// Holder is what is built on a disk, and in use.
type Holder struct {
	Made  Made   // empty: it is not known what it is
	Name  string // the system's
	Title string // that of people; may be empty
	File  string // of a loop device: its file, which is on the disk
}

// SystemUse is what of the running system is on a disk.
type SystemUse struct {
	How   How
	Point string // the mount point; empty for Started
}

// How a disk is used by the running system.
type How string

// The uses.
const (
	Mounted How = "mounted"          // a folder of the system is on it
	AtStart How = "mounted at start" // a folder is on it that is mounted at each start
	Started How = "started from"     // the computer was
	Unknown How = "unknown"          // it can't be told whether something of it is
)

// Title is maker and model in one.
func (d Disk) Title() string {
	if d.SD != nil && d.Model != "" {
		return d.Model
	}
	return strings.TrimSpace(d.Maker + " " + d.Model)
}

// CID is what an SD card's own register says that it is: maker, OEM, product, serial number. Empty for others.
func (d Disk) CID() string {
	if d.SD == nil {
		return ""
	}
	return d.SD.CID.String()
}

// InUse lists the mounted file systems, the last mounted first, as they have to be unmounted.
func (d Disk) InUse() []Mount {
	mounts := slices.Clone(d.Mounts)
	slices.Reverse(mounts)
	return mounts
}

// IsCardLike tells whether the disk may be a card, as opposed to a fixed disk: it can be taken out, or stands in an SD
// slot, or for one.
func (d Disk) IsCardLike() bool { return d.Removable || d.Bus == SDSlot || d.Bus == Loop }
