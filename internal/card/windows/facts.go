package windows

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"zipstamp/internal/card/disks"
	"zipstamp/internal/layout"
)

var le = binary.LittleEndian

// Bus types, STORAGE_BUS_TYPE (Windows Driver Kit, ntddstor.h).
const (
	busSCSI    = 1
	busATAPI   = 2
	busATA     = 3
	bus1394    = 4
	busUSB     = 7
	busRAID    = 8
	busISCSI   = 9
	busSAS     = 10
	busSATA    = 11
	busSD      = 12
	busMMC     = 13
	busVirtual = 14
	busFile    = 15 // a virtual disk whose file is mounted
	busSpaces  = 16
	busNVMe    = 17
)

var buses = map[uint32]disks.Bus{
	busSCSI: disks.SCSI, busATAPI: disks.SATA, busATA: disks.SATA, bus1394: disks.FireWire, busUSB: disks.USB,
	busRAID: disks.SCSI, busISCSI: disks.Network, busSAS: disks.SCSI, busSATA: disks.SATA, busSD: disks.SDSlot,
	busMMC: disks.EMMC, busVirtual: disks.Machine, busFile: disks.Volume, busSpaces: disks.Volume, busNVMe: disks.NVMe,
}

// Media types, MEDIA_TYPE (winioctl.h). Others are those of floppy disks.
const (
	mediaUnknown   = 0
	mediaRemovable = 11
	mediaFixed     = 12
)

// descriptor is what a disk says of itself: STORAGE_DEVICE_DESCRIPTOR (ntddstor.h).
type descriptor struct {
	removable              bool
	bus                    uint32
	maker, product, serial string
}

var errShort = errors.New("the system's answer is too short")

func parseDescriptor(b []byte) (d descriptor, err error) {
	if len(b) < 36 {
		return d, errShort
	}
	text := func(at uint32) string {
		if at == 0 || at == 0xFFFFFFFF || int64(at) >= int64(len(b)) {
			return ""
		}
		s, _, _ := bytes.Cut(b[at:], []byte{0})
		return printable(s)
	}
	return descriptor{
		removable: b[10] != 0, bus: le.Uint32(b[28:]), maker: text(le.Uint32(b[12:])), product: text(le.Uint32(b[16:])),
		serial: serialNumber(text(le.Uint32(b[24:]))),
	}, nil
}

// printable is a text of a device, which may hold anything.
func printable(b []byte) string {
	return strings.TrimSpace(strings.Map(func(r rune) rune {
		if r < ' ' || r > '~' {
			return -1
		}
		return r
	}, string(b)))
}

var hexSerial = regexp.MustCompile(`^([0-9A-Fa-f]{2}){4,}$`)

// serialNumber is a serial number as people know it. Some drivers write its characters as hex; those of numbers that
// nobody gave are zeros.
func serialNumber(s string) string {
	if hexSerial.MatchString(s) {
		plain, err := hex.DecodeString(s)
		if text := strings.TrimSpace(string(plain)); err == nil && isWord(text) {
			s = text
		}
	}
	if strings.Trim(s, "0 .") == "" {
		return ""
	}
	return s
}

// isWord tells whether a text has nothing but letters, digits and what stands between them.
func isWord(s string) bool {
	return s != "" && strings.TrimFunc(s, func(r rune) bool {
		return r >= '0' && r <= '9' || r >= 'A' && r <= 'Z' || r >= 'a' && r <= 'z' || strings.ContainsRune("-_ .", r)
	}) == ""
}

// geometry is DISK_GEOMETRY_EX (winioctl.h).
type geometry struct {
	media  uint32
	sector int
	size   int64
}

func parseGeometry(b []byte) (g geometry, err error) {
	if len(b) < 32 {
		return g, errShort
	}
	g = geometry{le.Uint32(b[8:]), int(le.Uint32(b[20:])), int64(le.Uint64(b[24:]))}
	if g.size < 0 || g.sector < 512 || g.sector > 4096 || g.sector&(g.sector-1) != 0 {
		return geometry{}, fmt.Errorf("the system's answer makes no sense: %d bytes in sectors of %d", g.size, g.sector)
	}
	return g, nil
}

// extent is a DISK_EXTENT (winioctl.h).
type extent struct {
	disk uint32
	layout.Extent
}

// extentsMost bounds how many parts of disks a volume has: ours.
const extentsMost = 1024

func parseExtents(b []byte) (all []extent, err error) {
	if len(b) < 8 {
		return nil, errShort
	}
	count := le.Uint32(b)
	if count > extentsMost || len(b) < 8+24*int(count) {
		return nil, errShort
	}
	for i := range int(count) {
		e := b[8+24*i:]
		all = append(all, extent{le.Uint32(e), layout.Extent{
			Offset: int64(le.Uint64(e[8:])), Length: int64(le.Uint64(e[16:])),
		}})
	}
	return all, nil
}

// diskDevice is FILE_DEVICE_DISK, the type of a device number (winioctl.h).
const diskDevice = 7

// errNoExtents says that a volume doesn't tell which disks it is on.
var errNoExtents = errors.New("the volume doesn't tell which disks it is on")

// extents are the parts of disks that a volume is on. Where it only tells its disk, they have no bytes. A volume
// without a medium is on none.
func (v VolumeAnswers) extents() ([]extent, error) {
	switch v.Extents.Error {
	case errNotReady, errNoMedia:
		return nil, nil
	case 0:
		all, err := parseExtents(v.Extents.Bytes)
		if err != nil || len(all) > 0 {
			return all, err
		}
	}
	if b := v.Device.Bytes; len(b) >= 8 && le.Uint32(b) == diskDevice {
		return []extent{{disk: le.Uint32(b[4:])}}, nil
	}
	if v.Extents.Error != 0 {
		return nil, errorText(v.Extents.Error)
	}
	return nil, errNoExtents
}

// Partition types that belong to something that is made of disks.
const (
	ldmMBR      = 0x42
	ldmMetadata = "5808C8AA-7E8F-42E0-85D2-E1E90434CFB3"
	ldmData     = "AF9B60A0-1431-4F62-BC68-3311714A69AD"
	spacesPart  = "E75CAF8F-F680-4CEE-AFA3-B001E56EFC2D"
)

// partition is PARTITION_INFORMATION_EX (winioctl.h).
type partition struct {
	number int
	layout.Extent
	made disks.Made // what it is a part of
	name string
}

// Constants of DRIVE_LAYOUT_INFORMATION_EX (winioctl.h).
const (
	layoutHead     = 48
	layoutEntry    = 144
	styleMBR       = 0
	styleGPT       = 1
	partitionsMost = 1024
)

func parseLayout(b []byte) (scheme layout.Scheme, id string, parts []partition, err error) {
	if len(b) < layoutHead {
		return "", "", nil, errShort
	}
	style, count := le.Uint32(b), le.Uint32(b[4:])
	if count > partitionsMost || len(b) < layoutHead+layoutEntry*int(count) {
		return "", "", nil, errShort
	}
	scheme = layout.NoTable
	switch style {
	case styleMBR:
		if sign := le.Uint32(b[8:]); sign != 0 || count > 0 {
			scheme = layout.SchemeMBR
			if sign != 0 {
				id = fmt.Sprintf("%08x", sign)
			}
		}
	case styleGPT:
		scheme, id = layout.SchemeGPT, strings.ToLower(guid(b[8:24]))
	}
	for i := range int(count) {
		e := b[layoutHead+layoutEntry*i:][:layoutEntry]
		p := partition{
			number: int(le.Uint32(e[24:])),
			Extent: layout.Extent{Offset: int64(le.Uint64(e[8:])), Length: int64(le.Uint64(e[16:]))},
		}
		switch le.Uint32(e) {
		case styleMBR:
			if e[32] == 0 || p.number == 0 { // not in use, or one that holds others
				continue
			}
			if e[32] == ldmMBR {
				p.made = disks.DynamicDisk
			}
		case styleGPT:
			switch guid(e[32:48]) {
			case ldmMetadata, ldmData:
				p.made = disks.DynamicDisk
			case spacesPart:
				p.made = disks.StorageSpace
			}
			p.name = utf16Name(e[72:144])
		}
		parts = append(parts, p)
	}
	return scheme, id, parts, nil
}

// guid writes a GUID as UEFI 2.10, appendix A has it.
func guid(b []byte) string {
	return fmt.Sprintf("%08X-%04X-%04X-%X-%X", le.Uint32(b), le.Uint16(b[4:]), le.Uint16(b[6:]), b[8:10], b[10:16])
}

func utf16Name(b []byte) string {
	var s strings.Builder
	for ; len(b) >= 2; b = b[2:] {
		u := le.Uint16(b)
		if u == 0 {
			break
		}
		s.WriteRune(rune(u)) // partitions are named in letters of the basic plane
	}
	return strings.ToValidUTF8(s.String(), "")
}

// fileSystems are those that Windows names otherwise.
var fileSystems = map[string]layout.FSKind{
	"FAT": layout.FATKind, "FAT32": layout.FAT32Kind, "EXFAT": layout.ExFATKind, "NTFS": layout.NTFSKind,
	"CDFS": layout.ISOKind,
}

// Disks are the facts of all disks that there are. A disk of which the answers make no sense is refused, as one that
// the system may run from; so are all, if it can't be told from which it does.
func (c Computer) disks() []disks.Disk {
	var all []disks.Disk
	for _, a := range c.Disks {
		all = append(all, c.diskOf(a))
	}
	return all
}

// name is what people call a disk: disk3.
func name(number int) string { return fmt.Sprintf("disk%d", number) }

// device is what it is opened by.
func device(number int) string { return fmt.Sprintf(`\\.\PhysicalDrive%d`, number) }

func (c Computer) diskOf(a DiskAnswers) disks.Disk {
	d := disks.Disk{Name: name(a.Number), Path: device(a.Number), Key: name(a.Number), Bus: disks.Other, Sector: 512}
	unsure := c.Used == nil
	about, err := parseDescriptor(a.Descriptor.Bytes)
	if a.Descriptor.Error != 0 || err != nil {
		unsure = true
	}
	d.Maker, d.Model, d.Serial = about.maker, about.product, about.serial
	if bus, ok := buses[about.bus]; ok {
		d.Bus = bus
	}
	if about.bus == busFile {
		d.Made = disks.VirtualDisk
	} else if about.bus == busSpaces {
		d.Made = disks.StorageSpace
	}
	hot := len(a.Hotplug.Bytes) >= 8 && a.Hotplug.Bytes[4] != 0 // MediaRemovable
	g, err := parseGeometry(a.Geometry.Bytes)
	switch {
	case a.Geometry.Error == errNotReady || a.Geometry.Error == errNoMedia:
	case a.Geometry.Error != 0 || err != nil:
		unsure = true
	default:
		d.Size, d.Sector = g.size, g.sector
		if g.media != mediaUnknown && g.media != mediaRemovable && g.media != mediaFixed {
			d.Unfit = disks.Floppy
		}
	}
	// a card, and nothing that only may be one: the disk says that its medium can be taken out, and it is on a bus of
	// readers and sticks
	d.Removable = (about.removable || hot) && slices.Contains([]uint32{busUSB, busSD, busMMC}, about.bus)
	if about.bus == busMMC && d.Removable {
		d.Bus = disks.SDSlot
	}
	if d.Bus == disks.USB {
		d.USB = &disks.USBDevice{Manufacturer: about.maker, Name: about.product, Serial: about.serial}
	}
	d.ReadOnly = a.Writable.Error == errWriteProtect
	d.Insertion = fmt.Sprintf("%s %s %s", d.Maker, d.Model, d.Serial) // another device may get the same number
	if len(a.Changes.Bytes) >= 4 {
		d.Insertion += fmt.Sprintf(" %d", le.Uint32(a.Changes.Bytes))
	}
	c.addParts(&d, a)
	if !c.addVolumes(&d, uint32(a.Number)) {
		unsure = true
	}
	if unsure {
		d.System = append(d.System, disks.SystemUse{How: disks.Unknown})
	}
	return d
}

func (c Computer) addParts(d *disks.Disk, a DiskAnswers) {
	scheme, id, parts, err := parseLayout(a.Layout.Bytes)
	if a.Layout.Error != 0 || err != nil {
		return // it has no table that Windows knows
	}
	d.Scheme, d.ID = scheme, id
	for _, p := range parts {
		d.Parts = append(d.Parts, disks.Part{
			Name: fmt.Sprintf("%s partition %d", d.Name, p.number), Index: p.number, Start: p.Offset, Size: p.Length,
			FS: disks.FileSystem{PartName: p.name},
		})
		if p.made != "" && !slices.ContainsFunc(d.Holders, func(h disks.Holder) bool { return h.Made == p.made }) {
			d.Holders = append(d.Holders, disks.Holder{Made: p.made, Name: d.Name})
		}
	}
}

// addVolumes adds the volumes that are on a disk, and what of the system is on them. It returns false where it can't be
// told whether a volume is on it that the system uses.
func (c Computer) addVolumes(d *disks.Disk, number uint32) (sure bool) {
	sure = true
	for _, v := range c.Volumes {
		extents, err := v.extents()
		if err != nil && c.isUsed(v.Name) {
			sure = false // it may be here
		}
		at := slices.IndexFunc(extents, func(e extent) bool { return e.disk == number })
		if at < 0 {
			continue
		}
		if slices.ContainsFunc(extents, func(e extent) bool { return e.disk != number }) {
			d.Holders = append(d.Holders, disks.Holder{Made: disks.Striped, Name: strings.Join(letters(v), ", ")})
		}
		addFileSystem(d, v, extents[at].Extent)
		for _, p := range v.Paths {
			d.Mounts = append(d.Mounts, disks.Mount{
				Source: v.Name, Name: strings.TrimSuffix(p, `\`), Point: p, Kind: v.Kind, ByDesktop: true,
			})
		}
		for _, u := range c.Used {
			if u.Volume != v.Name {
				continue
			}
			if u.How == PageFile {
				d.Swaps = append(d.Swaps, disks.Swap{Path: u.Path, On: strings.Join(letters(v), ", ")})
			}
			d.System = append(d.System, disks.SystemUse{How: disks.Mounted, Point: u.Path})
		}
	}
	for _, u := range c.Used {
		if len(u.Device) >= 8 && le.Uint32(u.Device[4:]) == number {
			d.System = append(d.System, disks.SystemUse{How: disks.Started})
		}
		if u.Error != 0 || u.Volume != "" && !slices.ContainsFunc(c.Volumes, func(v VolumeAnswers) bool {
			return v.Name == u.Volume
		}) {
			sure = false
		}
	}
	return sure
}

// addFileSystem notes what is in a volume.
func addFileSystem(d *disks.Disk, v VolumeAnswers, at layout.Extent) {
	fs := disks.FileSystem{Kind: fileSystems[strings.ToUpper(v.Kind)], Label: v.Label}
	if v.Error == errLocked {
		fs.Kind = layout.BitLocker
	}
	for i := range d.Parts {
		if p := &d.Parts[i]; p.Start == at.Offset && at.Length > 0 {
			fs.PartName = p.FS.PartName
			p.FS, p.Path, p.Key = fs, strings.TrimSuffix(v.Name, `\`), v.Name
			return
		}
	}
	if at.Offset == 0 {
		d.FS = fs
	}
}

func (c Computer) isUsed(volume string) bool {
	return slices.ContainsFunc(c.Used, func(u Use) bool { return u.Volume == volume })
}

// letters are the drive letters of a volume, without the backslash; a folder where it is mounted in one.
func letters(v VolumeAnswers) (all []string) {
	for _, p := range v.Paths {
		all = append(all, strings.TrimSuffix(p, `\`))
	}
	return all
}
