package windows

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/layout"
)

// Sizes and places that the made-up computers have in common.
const (
	gib  = 1 << 30
	mib  = 1 << 20
	basc = "EBD0A0A2-B9E5-4433-87C0-68B6B72699C7" // basic data
)

// inside is the disk that Windows runs from, and its volumes: one for starting, and C:.
func inside() ([]DiskAnswers, []VolumeAnswers) {
	d := disk(0, descriptorOf(busNVMe, false, "", "Tide NVMe 512", "TN512-1"), geometryOf(mediaFixed, 512, 512*gib),
		layoutOf(part{mib, 100 * mib, "C12A7328-F81F-11D2-BA4B-00A0C93EC93B", "EFI system partition"},
			part{101 * mib, 500 * gib, basc, "Basic data partition"}))
	return []DiskAnswers{d}, []VolumeAnswers{
		volume("e", extentsOf(0, mib, 100*mib), "FAT32", ""),
		volume("c", extentsOf(0, 101*mib, 500*gib), "NTFS", "Windows", `C:\`),
	}
}

var usual = []Use{
	{How: SystemFolder, Path: `C:\Windows`, Volume: `\\?\Volume{c}\`},
	{How: SystemFolder, Path: `\Device\HarddiskVolume1`, Device: u32(7, 0, 1)},
	{How: PageFile, Path: `C:\pagefile.sys`, Volume: `\\?\Volume{c}\`},
	{How: Program, Path: `C:\tools\zipstamp.exe`, Volume: `\\?\Volume{c}\`},
	{How: Home, Path: `C:\Users\wren`, Volume: `\\?\Volume{c}\`},
}

// with is a computer with more disks and volumes.
func with(more []DiskAnswers, volumes ...VolumeAnswers) Computer {
	d, v := inside()
	return Computer{Disks: append(d, more...), Volumes: append(v, volumes...), Used: usual}
}

func one(d DiskAnswers) []DiskAnswers { return []DiskAnswers{d} }

// sdReader is a card in a USB reader, with two partitions of which Windows shows one.
var sdReader = disk(3, descriptorOf(busUSB, true, "Brindle", "Card Reader", "0000001"),
	geometryOf(mediaRemovable, 512, 32e9), layoutOf(part{4 * mib, 256 * mib, "0x0C", ""}, part{
		260 * mib, 8 * gib, "0x83", "",
	}))

func edited(d DiskAnswers, change func(*DiskAnswers)) DiskAnswers {
	change(&d)
	return d
}

// computers are made-up ones, and for which causes disk 3 is refused; none: it may be written.
var computers = []struct {
	what   string
	is     Computer
	causes []guard.Cause
}{
	{
		"a card in a USB reader",
		with(one(sdReader), volume("s", extentsOf(3, 4*mib, 256*mib), "FAT32", "SALTBOOT", `E:\`)), nil,
	},
	{"two letters of one card", with(one(sdReader), volume("s", extentsOf(3, 4*mib, 256*mib), "FAT32", "SALTBOOT",
		`E:\`),
		volume("t", extentsOf(3, 260*mib, 8*gib), "", "", `F:\`)), nil},
	{
		"a card without a letter", with(one(sdReader), volume("s", extentsOf(3, 4*mib, 256*mib), "FAT32", "SALTBOOT")),
		nil,
	},
	{"a card that Windows knows nothing of", with(one(edited(sdReader, func(d *DiskAnswers) {
		d.Layout = Answer{Error: errInvalid}
	}))), nil},
	{"a stick", with(one(disk(3, descriptorOf(busUSB, true, "Tidal", "Stick 16", "TS16-77"),
		geometryOf(mediaRemovable, 512, 16e9), layoutOf()))), nil},
	{"a card in a slot on the SD bus", with(one(disk(3, descriptorOf(busSD, true, "", "SD SU32G", "b5d1"),
		geometryOf(mediaRemovable, 512, 32e9), layoutOf()))), nil},
	{"the same, of a driver that says it is fixed", with(one(disk(3, descriptorOf(busSD, false, "", "SD SU32G", "b5d1"),
		geometryOf(mediaFixed, 512, 32e9), layoutOf()))), nil},
	{"a reader that only the driver for hot plugging calls removable", with(one(edited(disk(3,
		descriptorOf(busUSB, false, "Brindle", "Reader", ""), geometryOf(mediaRemovable, 512, 32e9), layoutOf()),
		func(d *DiskAnswers) { d.Hotplug.Bytes = pad(u32(8, 1), 8) }))), nil},
	{
		"an empty slot", with(one(disk(3, descriptorOf(busUSB, true, "Brindle", "Card Reader", ""), nil, nil))),
		[]guard.Cause{guard.Empty},
	},
	{"a slot whose driver says that there is no medium", with(one(edited(sdReader, func(d *DiskAnswers) {
		d.Geometry, d.Layout = Answer{Error: errNoMedia}, Answer{}
	}))), []guard.Cause{guard.Empty}},
	{
		"a locked SD card", with(one(edited(sdReader, func(d *DiskAnswers) { d.Writable.Error = errWriteProtect }))),
		[]guard.Cause{guard.Protected},
	},
	{"a card that BitLocker has encrypted", with(one(sdReader), func() VolumeAnswers {
		v := volume("b", extentsOf(3, 4*mib, 256*mib), "", "", `E:\`)
		v.Error = errLocked
		return v
	}()), nil},
	{"an external USB disk", with(one(disk(3, descriptorOf(busUSB, false, "Tide", "Backup", "B-1"),
		geometryOf(mediaFixed, 512, 2e12), layoutOf(part{mib, 1e12, basc, "backup"}))),
		volume("x", extentsOf(3, mib, 1e12), "NTFS", "backup", `G:\`)), []guard.Cause{guard.Fixed}},
	{"a second NVMe", with(one(disk(3, descriptorOf(busNVMe, false, "", "Tide NVMe", "N-2"),
		geometryOf(mediaFixed, 512, 1e12), layoutOf()))), []guard.Cause{guard.Fixed}},
	{"a SATA disk in a frame, which says that it is removable", with(one(disk(3, descriptorOf(busSATA, true, "", "Disk",
		"S"),
		geometryOf(mediaFixed, 512, 1e12), layoutOf()))), []guard.Cause{guard.Fixed}},
	{"soldered eMMC", with(one(disk(3, descriptorOf(busMMC, false, "", "MMC", "1"), geometryOf(mediaFixed, 512, 64e9),
		layoutOf()))), []guard.Cause{guard.Fixed}},
	{"a card on the MMC bus", with(one(disk(3, descriptorOf(busMMC, true, "", "MMC", "1"),
		geometryOf(mediaRemovable, 512, 8e9), layoutOf()))), nil},
	{"a disk of a RAID controller", with(one(disk(3, descriptorOf(busRAID, false, "", "Array", "R"),
		geometryOf(mediaFixed, 512, 4e12), layoutOf()))), []guard.Cause{guard.Fixed}},
	{"a network disk", with(one(disk(3, descriptorOf(busISCSI, false, "", "LUN", "R"),
		geometryOf(mediaFixed, 512, 1e12),
		layoutOf()))), []guard.Cause{guard.Fixed}},
	{"a virtual disk's file that is mounted", with(one(disk(3, descriptorOf(busFile, false, "Msft", "Virtual Disk", ""),
		geometryOf(mediaFixed, 512, 8e9), layoutOf()))), []guard.Cause{guard.Volume}},
	{"the disk of a virtual machine", with(one(disk(3, descriptorOf(busVirtual, false, "Msft", "Virtual Disk", ""),
		geometryOf(mediaFixed, 512, 8e9), layoutOf()))), []guard.Cause{guard.Fixed}},
	{"a storage space", with(one(disk(3, descriptorOf(busSpaces, false, "Msft", "Storage Space", ""),
		geometryOf(mediaFixed, 4096, 2e12), layoutOf()))), []guard.Cause{guard.Volume}},
	{
		"a stick in a pool of storage spaces", with(one(disk(3, descriptorOf(busUSB, true, "Tidal", "Stick", "T"),
			geometryOf(mediaRemovable, 512, 64e9), layoutOf(part{mib, 60 * gib, spacesPart, "Storage pool"})))),
		[]guard.Cause{guard.HolderOn},
	},
	{"a dynamic disk", with(one(disk(3, descriptorOf(busSATA, false, "", "Disk", "S"),
		geometryOf(mediaFixed, 512, 1e12),
		layoutOf(part{mib, 1 << 39, "0x42", ""})))), []guard.Cause{guard.HolderOn, guard.Fixed}},
	{
		"a dynamic disk with a GPT", with(one(disk(3, descriptorOf(busSATA, false, "", "Disk", "S"),
			geometryOf(mediaFixed, 512, 1e12),
			layoutOf(part{mib, mib, ldmMetadata, ""}, part{2 * mib, gib, ldmData, ""})))),
		[]guard.Cause{guard.HolderOn, guard.Fixed},
	},
	{
		"a volume over two sticks", with([]DiskAnswers{sdReader, edited(sdReader, func(d *DiskAnswers) {
			d.Number, d.Device.Bytes = 4, u32(7, 4, 0)
		})}, volume("w", append(pad(u32(2), 8), append(extentsOf(3, mib, gib)[8:],
			extentsOf(4, mib, gib)[8:]...)...), "NTFS", "W", `W:\`)),
		[]guard.Cause{guard.HolderOn},
	},
	{"a floppy drive on the USB", with(one(disk(3, descriptorOf(busUSB, true, "", "Floppy", ""), geometryOf(2, 512,
		1474560),
		nil))), []guard.Cause{guard.IsUnfit}},
	{"a card that claims 16 TB", with(one(edited(sdReader, func(d *DiskAnswers) {
		d.Geometry.Bytes = geometryOf(mediaRemovable, 512, 16e12)
	}))), []guard.Cause{guard.Large}},
	{"a system that runs from a stick", Computer{Disks: one(sdReader), Used: usual, Volumes: []VolumeAnswers{
		volume("c", extentsOf(3, 4*mib, 8*gib), "NTFS", "Windows To Go", `C:\`),
	}}, []guard.Cause{guard.System}},
	{"a stick with the page file", func() Computer {
		c := with(one(sdReader), volume("p", extentsOf(3, 4*mib, 256*mib), "NTFS", "", `P:\`))
		c.Used = append(c.Used[:len(c.Used):len(c.Used)], Use{
			How: PageFile, Path: `P:\pagefile.sys`, Volume: `\\?\Volume{p}\`,
		})
		return c
	}(), []guard.Cause{guard.System}},
	{"a stick with this program", func() Computer {
		c := with(one(sdReader), volume("p", extentsOf(3, 4*mib, 256*mib), "FAT32", "", `P:\`))
		c.Used = append(c.Used[:len(c.Used):len(c.Used)], Use{
			How: Program, Path: `P:\zipstamp.exe`, Volume: `\\?\Volume{p}\`,
		})
		return c
	}(), []guard.Cause{guard.System}},
	{"a stick from which the computer was started", func() Computer {
		c := with(one(sdReader))
		c.Used = append(c.Used[:len(c.Used):len(c.Used)], Use{
			How: SystemFolder, Path: `\Device\HarddiskVolume9`, Device: u32(7, 3, 1),
		})
		return c
	}(), []guard.Cause{guard.System}},
	{"a home on another computer", func() Computer {
		c := with(one(sdReader))
		c.Used = append(c.Used[:len(c.Used):len(c.Used)], Use{How: Home, Path: `\\harbour\wren`})
		return c
	}(), nil},
	{"a computer that doesn't tell what it runs from", func() Computer {
		c := with(one(sdReader))
		c.Used = nil
		return c
	}(), []guard.Cause{guard.System}},
	{"a home whose volume can't be found", func() Computer {
		c := with(one(sdReader))
		c.Used = append(c.Used[:len(c.Used):len(c.Used)], Use{How: Home, Path: `D:\wren`, Error: 21})
		return c
	}(), []guard.Cause{guard.System}},
	{"a system's volume that doesn't tell where it is", func() Computer {
		c := with(one(sdReader))
		c.Volumes[1].Extents = Answer{Error: errNotSupported}
		return c
	}(), []guard.Cause{guard.System}},
	{"a disk that doesn't tell what it is", with(one(edited(sdReader, func(d *DiskAnswers) {
		d.Descriptor = Answer{Error: errNotSupported}
	}))), []guard.Cause{guard.System, guard.Fixed}},
	{"a disk whose size makes no sense", with(one(edited(sdReader, func(d *DiskAnswers) {
		d.Geometry.Bytes = geometryOf(mediaRemovable, 500, 32e9)
	}))), []guard.Cause{guard.System, guard.Empty}},
}

func TestComputers(t *testing.T) {
	require.GreaterOrEqual(t, len(computers), 30)
	for _, c := range computers {
		text, err := json.Marshal(c.is)
		require.NoError(t, err)
		var again Computer
		require.NoError(t, json.Unmarshal(text, &again))
		var causes []guard.Cause
		for _, d := range again.disks() {
			f := guard.Facts{Disk: d, Named: true, Asked: true}
			reasons := guard.Judge(f)
			if d.Name == "disk0" {
				assert.Equal(t, guard.System, reasons[0].Cause, "%s: the computer's own disk", c.what)
			}
			if d.Name == "disk3" {
				for _, r := range reasons {
					causes = append(causes, r.Cause)
				}
			}
		}
		assert.Equal(t, c.causes, causes, c.what)
	}
}

func TestWhatDisksAreCalled(t *testing.T) {
	all := with(one(sdReader), volume("s", extentsOf(3, 4*mib, 256*mib), "FAT32", "SALTBOOT", `E:\`),
		volume("t", extentsOf(3, 260*mib, 8*gib), "", "", `F:\`)).disks()
	d := all[1]
	assert.Equal(t,
		[]any{"disk3", `\\.\PhysicalDrive3`, "Brindle Card Reader", "0000001", int64(32e9), disks.USB, true},
		[]any{d.Name, d.Path, d.Title(), d.Serial, d.Size, d.Bus, d.Removable})
	assert.Equal(t, []any{layout.SchemeMBR, "5a17a1b5"}, []any{d.Scheme, d.ID})
	assert.Equal(t, []string{`E:\`, `F:\`}, []string{d.Mounts[0].Point, d.Mounts[1].Point})
	assert.Equal(t, disks.FileSystem{Kind: layout.FAT32Kind, Label: "SALTBOOT"}, d.Parts[0].FS)
	for text, want := range map[string]string{
		"": "", "0000": "", "TS16-77": "TS16-77", "20202020544331362D3737": "TC16-77", "00000000": "",
		"4C530000":   "4C530000",
		"E0D55EA573": "E0D55EA573",
	} {
		assert.Equal(t, want, serialNumber(text), text)
	}
}

// FuzzFacts has any answers: they are taken for facts, or refused, and nothing ends the program.
func FuzzFacts(f *testing.F) {
	for _, c := range computers {
		d, v := c.is.Disks[len(c.is.Disks)-1], VolumeAnswers{}
		if n := len(c.is.Volumes); n > 0 {
			v = c.is.Volumes[n-1]
		}
		f.Add([]byte(d.Descriptor.Bytes), []byte(d.Geometry.Bytes), []byte(d.Layout.Bytes), []byte(v.Extents.Bytes),
			[]byte(d.Hotplug.Bytes))
	}
	f.Fuzz(func(t *testing.T, descriptor, geometry, layout, extents, hotplug []byte) {
		c := with(one(DiskAnswers{
			Number: 3, Descriptor: Answer{Bytes: descriptor}, Geometry: Answer{Bytes: geometry},
			Layout: Answer{Bytes: layout}, Hotplug: Answer{Bytes: hotplug},
		}), volume("z", extents, "FAT32", "Z", `Z:\`))
		for _, d := range c.disks() {
			if d.Size < 0 || d.Sector < 512 {
				t.Fatalf("%+v", d)
			}
			if d.Name == "disk0" && len(d.System) == 0 {
				t.Fatal("the computer's own disk may be written")
			}
		}
	})
}
