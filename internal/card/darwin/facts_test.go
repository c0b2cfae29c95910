package darwin

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"howett.net/plist"

	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/layout"
)

// dict is a dictionary of a property list.
type dict = map[string]any

func text(of any) string {
	b, err := plist.MarshalIndent(of, plist.XMLFormat, "\t")
	if err != nil {
		panic(err)
	}
	return string(b)
}

// info is what diskutil says of a whole disk, with what differs.
func info(id, bus string, size int64, more dict) dict {
	d := dict{
		"DeviceIdentifier": id, "DeviceNode": "/dev/" + id, "BusProtocol": bus, "TotalSize": size, "Size": size,
		"DeviceBlockSize": 512, "WholeDisk": true, "ParentWholeDisk": id, "VirtualOrPhysical": "Physical",
		"Internal": false, "RemovableMedia": false, "Removable": false, "Ejectable": false, "WritableMedia": true,
		"MediaName": "Media", "Content": "FDisk_partition_scheme", "SystemImage": false, "OSInternalMedia": false,
	}
	for k, v := range more {
		d[k] = v
	}
	return d
}

// partOf is a partition, as diskutil lists it.
func partOf(id, content, name, point string) dict {
	d := dict{"DeviceIdentifier": id, "Content": content, "Size": 256 << 20}
	if name != "" {
		d["VolumeName"] = name
	}
	if point != "" {
		d["MountPoint"] = point
	}
	return d
}

// entry is a whole disk, as diskutil lists it.
func entry(id string, more dict) dict {
	d := dict{"DeviceIdentifier": id, "Content": "", "Size": int64(32e9)}
	for k, v := range more {
		d[k] = v
	}
	return d
}

// The disk that the Mac runs from: a container on a partition of it.
var (
	insideList = []dict{
		entry("disk0", dict{
			"Content": "GUID_partition_scheme", "OSInternal": true,
			"Partitions": []dict{partOf("disk0s1", "Apple_APFS_ISC", "", ""), partOf("disk0s2", "Apple_APFS", "", "")},
		}),
		entry("disk3", dict{
			"APFSPhysicalStores": []dict{{"DeviceIdentifier": "disk0s2"}},
			"APFSVolumes": []dict{
				partOf("disk3s1", "", "Macintosh HD", "/"), partOf("disk3s5", "", "Data", "/System/Volumes/Data"),
			},
		}),
	}
	insideInfo = map[string]dict{
		"disk0": info("disk0", "Apple Fabric", 500e9, dict{
			"Internal": true, "OSInternalMedia": true, "MediaName": "APPLE SSD AP0512Q", "DeviceBlockSize": 4096,
			"Content": "GUID_partition_scheme",
		}),
		"disk3": info("disk3", "Apple Fabric", 494e9, dict{
			"Internal": true, "VirtualOrPhysical": "Virtual", "DeviceBlockSize": 4096, "Content": "EF57347C-0000",
		}),
	}
	usual = []Use{
		{Path: "/", Device: "/dev/disk3s1s1"},
		{Path: "/System/Volumes/Data", Device: "/dev/disk3s5"},
		{Path: "/Users/wren", Device: "/dev/disk3s5"},
		{Path: "/usr/local/bin/zipstamp", Device: "/dev/disk3s5"},
	}
)

// with is a Mac with more disks.
func with(about map[string]dict, list ...dict) Computer {
	c := Computer{Info: map[string]string{}, Since: map[string]int64{}, Used: usual}
	whole := []string{"disk0", "disk3"}
	for _, d := range list {
		whole = append(whole, d["DeviceIdentifier"].(string))
	}
	c.List = text(dict{
		"AllDisks": whole, "WholeDisks": whole,
		"AllDisksAndPartitions": append(insideList[:len(insideList):len(insideList)],
			list...), "VolumesFromDisks": []string{},
	})
	for _, from := range []map[string]dict{insideInfo, about} {
		for id, d := range from {
			c.Info[id], c.Since[id] = text(d), 7
		}
	}
	return c
}

// card is a Mac with disk4, of which diskutil says so.
func card4(bus string, more dict, list ...dict) Computer {
	if len(list) == 0 {
		list = []dict{entry("disk4", nil)}
	}
	return with(map[string]dict{"disk4": info("disk4", bus, 32e9, more)}, list...)
}

var (
	removable = dict{"RemovableMedia": true, "Ejectable": true, "MediaName": "Brindle Card Reader Media"}
	saltboot  = entry("disk4", dict{"Content": "FDisk_partition_scheme", "Partitions": []dict{
		partOf("disk4s1", "Windows_FAT_32", "SALTBOOT", "/Volumes/SALTBOOT"), partOf("disk4s2", "Linux", "", ""),
	}})
)

func also(a, b dict) dict {
	all := dict{}
	for _, d := range []dict{a, b} {
		for k, v := range d {
			all[k] = v
		}
	}
	return all
}

func used(c Computer, more ...Use) Computer {
	c.Used = append(c.Used[:len(c.Used):len(c.Used)], more...)
	return c
}

// computers are made-up Macs, and for which causes disk4 is refused; none: it may be written.
var computers = []struct {
	what   string
	is     Computer
	causes []guard.Cause
}{
	{"a card in a USB reader", card4("USB", removable, saltboot), nil},
	{"a card with nothing on it", card4("USB", also(removable, dict{"Content": ""})), nil},
	{"a stick", card4("USB", dict{"RemovableMedia": true, "Removable": true, "MediaName": "Tidal Stick 16"}), nil},
	{"a card in the Mac's own slot", card4("Secure Digital", dict{
		"Internal": true, "RemovableMedia": true, "MediaName": "Built In SDXC Reader",
	}, saltboot), nil},
	{"a card whose file system has no partition table", card4("USB", removable,
		entry("disk4", dict{"Content": "msdos", "VolumeName": "TIDES", "MountPoint": "/Volumes/TIDES"})), nil},
	{
		"a locked SD card", card4("Secure Digital", dict{"RemovableMedia": true, "WritableMedia": false}, saltboot),
		[]guard.Cause{guard.Protected},
	},
	{
		"an empty reader", card4("USB", also(removable, dict{"TotalSize": 0, "Size": 0, "DeviceBlockSize": 0})),
		[]guard.Cause{guard.Empty},
	},
	{"an external USB disk", card4("USB", dict{"MediaName": "Backup"}), []guard.Cause{guard.Fixed}},
	{"a Time Machine disk", card4("USB", dict{"MediaName": "Backup"}, entry("disk4", dict{"Partitions": []dict{
		partOf("disk4s1", "EFI", "EFI", ""), partOf("disk4s2", "Apple_HFS", "Time Machine", "/Volumes/Time Machine"),
	}})), []guard.Cause{guard.Fixed}},
	{"a Thunderbolt disk", card4("PCI-Express", dict{"RemovableMedia": false}), []guard.Cause{guard.Fixed}},
	{
		"one that says that it is removable", card4("PCI-Express", dict{"RemovableMedia": true}),
		[]guard.Cause{guard.Fixed},
	},
	{"a SATA disk", card4("SATA", nil), []guard.Cause{guard.Fixed}},
	{"a FireWire disk", card4("FireWire", dict{"RemovableMedia": true}), []guard.Cause{guard.Fixed}},
	{"a bus that nobody knows", card4("Tide Bus", dict{"RemovableMedia": true}), []guard.Cause{guard.Fixed}},
	{"a soldered card", card4("Secure Digital", dict{"Internal": true}), []guard.Cause{guard.Fixed}},
	{
		"a disk image", card4("Disk Image", also(removable, dict{"VirtualOrPhysical": "Virtual"})),
		[]guard.Cause{guard.Volume},
	},
	{"a disk image that says it is physical", card4("Disk Image", removable), []guard.Cause{guard.Volume}},
	{
		"an optical drive", card4("USB", also(removable, dict{"OpticalDeviceType": "CD-ROM"})),
		[]guard.Cause{guard.IsUnfit},
	},
	{
		"an audio disc", card4("USB", also(removable, dict{"Content": "CD_partition_scheme"})),
		[]guard.Cause{guard.IsUnfit},
	},
	{"a RAID set", card4("USB", also(removable, dict{"RAIDMaster": true})), []guard.Cause{guard.Volume}},
	{"a stick in a RAID set", card4("USB", also(removable, dict{"RAIDSlice": true})), []guard.Cause{guard.HolderOn}},
	{"a container on a stick", with(map[string]dict{
		"disk4": info("disk4", "USB", 32e9, removable),
		"disk5": info("disk5", "USB", 32e9, dict{"VirtualOrPhysical": "Virtual", "RemovableMedia": true}),
	}, entry("disk4", dict{"Partitions": []dict{partOf("disk4s2", "Apple_APFS", "", "")}}), entry("disk5", dict{
		"APFSPhysicalStores": []dict{{"DeviceIdentifier": "disk4s2"}},
		"APFSVolumes":        []dict{partOf("disk5s1", "", "Tides", "/Volumes/Tides")},
	})), []guard.Cause{guard.MountedAs}},
	{"the same, not mounted", with(map[string]dict{
		"disk4": info("disk4", "USB", 32e9, removable),
		"disk5": info("disk5", "USB", 32e9, dict{"VirtualOrPhysical": "Virtual", "RemovableMedia": true}),
	}, entry("disk4", dict{"Partitions": []dict{partOf("disk4s2", "Apple_APFS", "", "")}}), entry("disk5", dict{
		"APFSPhysicalStores": []dict{{"DeviceIdentifier": "disk4s2"}},
	})), nil},
	{
		"a stick that claims 16 TB",
		card4("USB", also(removable, dict{"TotalSize": int64(16e12), "Size": int64(16e12)})),
		[]guard.Cause{guard.Large},
	},
	{"a Mac that runs from a stick", used(with(map[string]dict{
		"disk4": info("disk4", "USB", 64e9, removable),
		"disk5": info("disk5", "USB", 64e9, dict{"VirtualOrPhysical": "Virtual"}),
	}, entry("disk4", dict{"Partitions": []dict{partOf("disk4s2", "Apple_APFS", "", "")}}), entry("disk5", dict{
		"APFSPhysicalStores": []dict{{"DeviceIdentifier": "disk4s2"}},
	})), Use{Path: "/", Device: "/dev/disk5s1s1"}), []guard.Cause{guard.System}},
	{
		"a home on a stick", used(card4("USB", removable, saltboot), Use{Path: "/Users/nell", Device: "/dev/disk4s1"}),
		[]guard.Cause{guard.System},
	},
	{"a home on another computer", used(card4("USB", removable, saltboot), Use{Path: "/Users/nell"}), nil},
	{"an installer's system", card4("USB", also(removable, dict{"SystemImage": true})), []guard.Cause{guard.System}},
	{"a Mac that doesn't tell what it runs from", func() Computer {
		c := card4("USB", removable, saltboot)
		c.Used = nil
		return c
	}(), []guard.Cause{guard.System}},
	{
		"a path of the system that can't be found",
		used(card4("USB", removable, saltboot), Use{Path: "/x", Error: "no"}),
		[]guard.Cause{guard.System},
	},
	{
		"a device of the system that makes no sense", used(card4("USB", removable, saltboot), Use{
			Path: "/", Device: "/dev/md0",
		}),
		[]guard.Cause{guard.System},
	},
	{"a disk that diskutil says nothing of", with(nil, entry("disk4", nil)), []guard.Cause{guard.System, guard.Empty}},
	{"a disk that diskutil takes for another", with(map[string]dict{"disk4": info("disk9", "USB", 32e9, removable)},
		entry("disk4", nil)), []guard.Cause{guard.System, guard.Empty}},
	{
		"sectors that make no sense", card4("USB", also(removable, dict{"DeviceBlockSize": 513})),
		[]guard.Cause{guard.System},
	},
}

func TestComputers(t *testing.T) {
	require.GreaterOrEqual(t, len(computers), 30)
	for _, c := range computers {
		report, err := json.Marshal(c.is)
		require.NoError(t, err)
		var again Computer
		require.NoError(t, json.Unmarshal(report, &again))
		all, err := again.disks()
		require.NoError(t, err, c.what)
		var causes []guard.Cause
		for _, d := range all {
			reasons := guard.Judge(guard.Facts{Disk: d, Named: true, Asked: true})
			switch d.Name {
			case "disk0", "disk3":
				assert.Equal(t, guard.System, reasons[0].Cause, "%s: the Mac's own disk", c.what)
			case "disk4":
				for _, r := range reasons {
					causes = append(causes, r.Cause)
				}
			}
		}
		if len(c.causes) == 1 && c.causes[0] == guard.System {
			require.NotEmpty(t, causes, c.what)
			causes = causes[:1] // what else there is doesn't matter
		}
		assert.Equal(t, c.causes, causes, c.what)
	}
}

func TestWhatDisksAreCalled(t *testing.T) {
	all, err := computers[0].is.disks()
	require.NoError(t, err)
	d := all[2]
	assert.Equal(t, []any{"disk4", "/dev/disk4", "Brindle Card Reader", int64(32e9), 512, disks.USB, layout.SchemeMBR},
		[]any{
			d.Name, d.Path, d.Title(), d.Size, d.Sector, d.Bus, d.Scheme,
		})
	assert.Equal(t, []disks.Mount{{
		Source: "/dev/disk4s1", Name: "disk4s1", Point: "/Volumes/SALTBOOT", Kind: "Windows_FAT_32", ByDesktop: true,
	}}, d.Mounts)
	assert.Equal(t, disks.FileSystem{Kind: layout.FAT32Kind, Label: "SALTBOOT"}, d.Parts[0].FS)
	assert.Equal(t, []string{"disk4s1", "disk4s2"}, []string{d.Parts[0].Key, d.Parts[1].Key})
}

// FuzzFacts has diskutil print anything: it is taken for facts, or refused, and the Mac's own disk is never free.
func FuzzFacts(f *testing.F) {
	for _, c := range computers {
		f.Add(c.is.List, c.is.Info["disk4"])
	}
	f.Fuzz(func(t *testing.T, list, about string) {
		c := card4("USB", removable, saltboot)
		c.Info["disk4"] = about
		all, err := c.disks()
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range all {
			if d.Size < 0 || d.Name == "disk0" && len(d.System) == 0 {
				t.Fatalf("%+v", d)
			}
		}
		c.List = list
		if all, err = c.disks(); err != nil {
			return
		}
		for _, d := range all {
			if d.Size < 0 {
				t.Fatal(d)
			}
		}
	})
}
