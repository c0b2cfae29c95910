// Package disks finds out what the disks of a computer are, and what it uses them for.
//
// All of it comes from the kernel's own files (sysfs and procfs), and the names of file systems from udev's database where there is
// one, since a user without rights can't read the disks. Nothing is opened but files, so that a copied tree of
// them gives the same answer as the computer they come from.
package disks

import (
	"fmt"
	"strings"

	"zipstamp/internal/card/register"
)

// Number is a device's major and minor number.
type Number struct{ Major, Minor uint32 }

func (n Number) String() string { return fmt.Sprintf("%d:%d", n.Major, n.Minor) }

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
	Loop     Bus = "loop device"
	Volume   Bus = "volume" // made of other disks: device mapper, RAID, bcache
	Memory   Bus = "memory"
	Other    Bus = "other"
)

// Disk is a whole disk, and what it is used for. Sizes are in bytes.
type Disk struct {
	Name      string // sdb
	Path      string // /dev/sdb
	Number    Number
	Seq       uint64 // counts every disk and medium since the start; 0 where the kernel doesn't tell (before Linux 5.15)
	Size      int64  // 0: no medium
	Sector    int    // logical
	ReadOnly  bool
	Removable bool // the medium is, or the whole stick
	Bus       Bus
	Unfit     string // what it is, where it is no disk for images at all: "an optical drive"
	Backing   string // the file of a loop device
	Made      string // what it is made of, where it is made by software: "a RAID array"

	Maker, Model, Serial string // as the disk says
	USB                  *USBDevice
	Slot, Slots          int          // of a reader with several; 0 of 0 for others
	SD                   *register.SD // of a card in an SD slot

	Scheme  string // of the partition table, by udev: "gpt", "dos"; empty where it isn't known
	ID      string // of the partition table, likewise
	FS      Names  // of a disk without partitions
	Parts   []Part
	Mounts  []Mount
	Swaps   []Swap
	Holders []string // what is built on it and in use, each as "the encrypted volume luks-1 (dm-0)"
	System  []string // what of the running system is on it, each as a clause
}

// USBDevice is what the device says that a disk is reached through: a stick, or a reader.
type USBDevice struct {
	Folder       string // in sysfs
	Port         string // where it is plugged in: 2-1.4
	Vendor       string // idVendor, idProduct
	Product      string
	Manufacturer string
	Name         string
	Serial       string
	Speed        int // Mbit/s; 0 where it isn't known
}

// Part is a partition.
type Part struct {
	Name   string
	Path   string
	Index  int
	Number Number
	Start  int64
	Size   int64
	FS     Names
}

// Names are what udev knows of a file system. All may be empty.
type Names struct{ Kind, Label, PartName string }

// Mount is a mounted file system.
type Mount struct {
	Source string // the device, as /dev/sdb1
	Point  string
	Kind   string
	Via    string // the volume, where it is on the disk by way of one
}

// Swap is swap in use.
type Swap struct {
	Path string // the partition or file
	On   string // the mount point of the file system that a file is on; empty for a partition
	Via  string // as for Mount
}

// Title is maker and model in one.
func (d Disk) Title() string {
	if d.SD != nil && d.Model != "" {
		return d.Model
	}
	return strings.TrimSpace(d.Maker + " " + d.Model)
}

// Identity is by what a disk is known again.
type Identity struct {
	Number Number
	Seq    uint64
	Size   int64
	Serial string
	Port   string // of USB
	CID    string // of a card in an SD slot: maker, product, serial
	Unit   int    // slot of a reader
}

// Identity of the disk as it is now.
func (d Disk) Identity() Identity {
	i := Identity{Number: d.Number, Seq: d.Seq, Size: d.Size, Serial: d.Serial, Unit: d.Slot}
	if d.USB != nil {
		i.Port = d.USB.Port
	}
	if d.SD != nil {
		c := d.SD.CID
		i.CID = fmt.Sprintf("%02x-%s-%s-%08x", c.Maker, c.OEM, c.Product, c.Serial)
	}
	return i
}

// Changed says how a disk differs from what it was when it was chosen; empty if it is the same one, with the same medium.
func (i Identity) Changed(now Identity) string {
	switch {
	case i.Number != now.Number:
		return fmt.Sprintf("its device number changed from %v to %v", i.Number, now.Number)
	case i.Serial != now.Serial || i.CID != now.CID:
		return "its serial number changed"
	case i.Size != now.Size:
		return fmt.Sprintf("its size changed from %d to %d bytes", i.Size, now.Size)
	case i.Seq != now.Seq:
		return "it was taken out and put in again, or another one was"
	}
	return ""
}

// Returned tells whether a disk is one that was here before under perhaps another name: the same serial number and size, and, where
// the serial number is only that of a reader, the same slot. One without a serial number is never known again.
func (i Identity) Returned(now Identity) bool {
	if i.CID != "" {
		return i.CID == now.CID && i.Size == now.Size
	}
	return i.Serial != "" && i.Serial == now.Serial && i.Size == now.Size && i.Unit == now.Unit
}
