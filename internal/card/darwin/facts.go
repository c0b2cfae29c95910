// Package darwin is the card.Host of macOS.
//
// What disks there are is asked of diskutil, which is part of the system and prints property lists; it also unmounts
// and ejects. It runs behind a seam (System). What its answers say is found out by functions that call nothing, so that
// the answers of any computer give the same facts anywhere: computers that somebody reports become test cases.
package darwin

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"howett.net/plist"

	"zipstamp/internal/card/disks"
	"zipstamp/internal/layout"
)

// Computer is all that the system answers of its disks.
type Computer struct {
	List string            `json:"list"` // of diskutil list -plist
	Info map[string]string `json:"info"` // of diskutil info -plist, by whole disk
	// when the node of a whole disk was made, in nanoseconds: it is made anew when a disk is attached
	Since map[string]int64 `json:"since"`
	Used  []Use            `json:"used"` // what the running system uses; nil if that could not be found out
}

// Use is a path that the running system, or this program, uses.
type Use struct {
	Path   string `json:"path"`
	Device string `json:"device"` // /dev/disk3s1s1; empty: it is on none
	Error  string `json:"error,omitempty"`
}

// listing is what diskutil list prints, as far as it is needed.
type listing struct {
	WholeDisks []string
	All        []listedDisk `plist:"AllDisksAndPartitions"`
}

type listedDisk struct {
	Identifier string `plist:"DeviceIdentifier"`
	Content    string
	Size       int64
	OSInternal bool
	VolumeName string
	MountPoint string
	Partitions []listedPart
	Volumes    []listedPart `plist:"APFSVolumes"`
	Stores     []store      `plist:"APFSPhysicalStores"`
}

// store is a partition that a container is on.
type store struct {
	Identifier string `plist:"DeviceIdentifier"`
}

type listedPart struct {
	Identifier string `plist:"DeviceIdentifier"`
	Content    string
	Size       int64
	VolumeName string
	MountPoint string
}

// about is what diskutil info prints of a whole disk, as far as it is needed. What is missing is its zero value.
type about struct {
	Identifier     string `plist:"DeviceIdentifier"`
	BusProtocol    string
	Content        string
	BlockSize      int64 `plist:"DeviceBlockSize"`
	Size           int64
	TotalSize      int64
	MediaName      string
	RegistryName   string `plist:"IORegistryEntryName"`
	Virtual        string `plist:"VirtualOrPhysical"`
	Internal       bool
	RemovableMedia bool
	Removable      bool
	WritableMedia  *bool
	Whole          bool `plist:"WholeDisk"`
	OSInternal     bool `plist:"OSInternalMedia"`
	SystemImage    bool
	RAIDMaster     bool
	RAIDSlice      bool
	Optical        string `plist:"OpticalDeviceType"`
	Filesystem     string `plist:"FilesystemType"`
	VolumeName     string
	MountPoint     string
}

// decode reads a property list. The library may panic on what it doesn't expect, so that is an error here.
func decode(text string, into any) (err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("the system's answer is not well formed (%v)", p)
		}
	}()
	_, err = plist.Unmarshal([]byte(text), into)
	return err
}

var buses = map[string]disks.Bus{
	"USB": disks.USB, "Secure Digital": disks.SDSlot, "SATA": disks.SATA, "PCI-Express": disks.NVMe, "PCI": disks.NVMe,
	"Apple Fabric": disks.NVMe, "FireWire": disks.FireWire, "SAS": disks.SCSI, "SCSI": disks.SCSI,
	"Fibre Channel Interface": disks.SCSI, "Disk Image": disks.Volume, "Virtual Interface": disks.Machine,
}

// kinds are the contents of partitions, and file systems, as diskutil calls them.
var kinds = map[string]layout.FSKind{
	"DOS_FAT_12": layout.FAT12Kind, "DOS_FAT_16": layout.FAT16Kind, "DOS_FAT_32": layout.FAT32Kind,
	"Windows_FAT_16": layout.FAT16Kind, "Windows_FAT_32": layout.FAT32Kind, "msdos": layout.FATKind,
	"exfat": layout.ExFATKind, "ntfs": layout.NTFSKind, "ExFAT": layout.ExFATKind,
}

var identifier = regexp.MustCompile(`^disk(\d{1,6})((?:s\d{1,4})*)$`)

// wholeOf is the whole disk of a device: disk4 of /dev/disk4s1; empty for what is none.
func wholeOf(device string) string {
	m := identifier.FindStringSubmatch(strings.TrimPrefix(strings.TrimPrefix(device, "/dev/"), "r"))
	if m == nil {
		return ""
	}
	return "disk" + m[1]
}

// disks are the facts of all disks that there are. A disk of which the answers make no sense is refused, as one that
// the system may run from; so are all, if it can't be told from which it does.
func (c Computer) disks() ([]disks.Disk, error) {
	var list listing
	if err := decode(c.List, &list); err != nil {
		return nil, err
	}
	stores := list.stores()
	system, sure := c.system(stores)
	var all []disks.Disk
	for _, id := range list.WholeDisks {
		if identifier.FindStringSubmatch(id) == nil || wholeOf(id) != id {
			continue
		}
		d := c.diskOf(id, list)
		for _, u := range system[id] {
			d.System = append(d.System, disks.SystemUse{How: disks.Mounted, Point: u})
		}
		if !sure {
			d.System = append(d.System, disks.SystemUse{How: disks.Unknown})
		}
		all = append(all, d)
	}
	return all, nil
}

// stores are the disks that containers are on, by the container.
func (l listing) stores() map[string][]string {
	stores := map[string][]string{}
	for _, d := range l.All {
		for _, s := range d.Stores {
			stores[d.Identifier] = append(stores[d.Identifier], wholeOf(s.Identifier))
		}
	}
	return stores
}

// system finds what of the system is on each whole disk, through containers too. It returns false where that can't be
// told.
func (c Computer) system(stores map[string][]string) (on map[string][]string, sure bool) {
	on, sure = map[string][]string{}, c.Used != nil
	for _, u := range c.Used {
		whole := wholeOf(u.Device)
		switch {
		case u.Error != "", whole == "" && strings.HasPrefix(u.Device, "/dev/"):
			sure = false
			continue
		case whole == "":
			continue // on another computer, or in memory
		}
		seen := map[string]bool{}
		for todo := []string{whole}; len(todo) > 0; todo = todo[1:] {
			if d := todo[0]; !seen[d] {
				seen[d] = true
				on[d] = append(on[d], u.Path)
				todo = append(todo, stores[d]...)
			}
		}
	}
	return on, sure
}

func (c Computer) diskOf(id string, list listing) disks.Disk {
	d := disks.Disk{Name: id, Path: "/dev/" + id, Key: id, Bus: disks.Other, Sector: 512}
	refuse := func() disks.Disk {
		d.System = append(d.System, disks.SystemUse{How: disks.Unknown})
		return d
	}
	var a about
	if text, ok := c.Info[id]; !ok || decode(text, &a) != nil || a.Identifier != id || !a.Whole {
		return refuse()
	}
	if bus, ok := buses[a.BusProtocol]; ok {
		d.Bus = bus
	}
	d.Size = max(a.TotalSize, a.Size)
	switch {
	case a.BlockSize >= 512 && a.BlockSize <= 4096 && a.BlockSize&(a.BlockSize-1) == 0 && d.Size >= 0:
		d.Sector = int(a.BlockSize)
	case d.Size != 0:
		return refuse()
	}
	d.Size = d.Size / int64(d.Sector) * int64(d.Sector)
	d.Model = modelOf(a)
	d.ReadOnly = a.WritableMedia != nil && !*a.WritableMedia
	d.Insertion = fmt.Sprint(c.Since[id], " ", d.Model)
	if d.Bus == disks.USB {
		d.USB = &disks.USBDevice{Name: d.Model}
	}
	switch {
	case a.BusProtocol == "Disk Image":
		d.Made = disks.VirtualDisk
	case a.Optical != "" || strings.HasPrefix(a.Content, "CD_") || strings.HasPrefix(a.Content, "DVD_"):
		d.Unfit = disks.Optical
	case a.RAIDMaster:
		d.Made = disks.RAID
	case a.Virtual == "Virtual":
		d.Made = disks.Container
	}
	if a.RAIDSlice {
		d.Holders = append(d.Holders, disks.Holder{Made: disks.RAID, Name: id})
	}
	// a card, and nothing that only may be one
	d.Removable = (a.RemovableMedia || a.Removable) && (d.Bus == disks.USB || d.Bus == disks.SDSlot) &&
		a.Virtual == "Physical"
	if d.Bus == disks.SDSlot && !d.Removable {
		d.Bus = disks.EMMC // soldered
	}
	if a.OSInternal || a.SystemImage {
		d.System = append(d.System, disks.SystemUse{How: disks.Started})
	}
	addParts(&d, a, list)
	return d
}

// modelOf is what the disk is called, without what the system adds.
func modelOf(a about) string {
	for _, name := range []string{a.MediaName, a.RegistryName} {
		name = strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(name), "Media"))
		if name != "" {
			return strings.Join(strings.Fields(name), " ")
		}
	}
	return ""
}

var schemes = map[string]layout.Scheme{
	"FDisk_partition_scheme": layout.SchemeMBR, "GUID_partition_scheme": layout.SchemeGPT,
}

// addParts notes partitions, what is mounted of them, and the volumes of containers that are on the disk.
func addParts(d *disks.Disk, a about, list listing) {
	d.Scheme = schemes[a.Content]
	mount := func(device, point, kind, via string) {
		if point != "" {
			d.Mounts = append(d.Mounts, disks.Mount{
				Source: "/dev/" + device, Name: device, Point: point, Kind: kind, Via: via,
				ByDesktop: strings.HasPrefix(point, "/Volumes/"),
			})
		}
	}
	for _, one := range list.All {
		if one.Identifier == d.Name {
			for i, p := range one.Partitions {
				d.Parts = append(d.Parts, disks.Part{
					Name: p.Identifier, Path: "/dev/" + p.Identifier, Key: p.Identifier, Index: i + 1, Size: p.Size,
					FS: disks.FileSystem{Kind: kinds[p.Content], Label: p.VolumeName},
				})
				mount(p.Identifier, p.MountPoint, p.Content, "")
			}
			if len(one.Partitions) == 0 && one.VolumeName+one.MountPoint != "" {
				d.FS = disks.FileSystem{Kind: kinds[one.Content], Label: one.VolumeName}
				mount(d.Name, one.MountPoint, one.Content, "")
			}
		}
		if slices.ContainsFunc(one.Stores, func(s store) bool { return wholeOf(s.Identifier) == d.Name }) {
			for _, v := range one.Volumes {
				mount(v.Identifier, v.MountPoint, "apfs", one.Identifier)
			}
		}
	}
}
