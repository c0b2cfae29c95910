package guard_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
)

// The bare devices that machines are made of.
var (
	stick   = device("sdb", 32e9, disks.USB, true)
	sdCard  = device("mmcblk0", 32e9, disks.SDSlot, false)
	nvme    = device("nvme0n1", 512e9, disks.NVMe, false)
	sata    = device("sda", 1e12, disks.SATA, false)
	usbDisk = device("sdc", 1e12, disks.USB, false)
	loop    = device("loop4", 64e6, disks.Loop, false)
	file    = guard.Facts{Disk: disks.Disk{Name: "card.img", Size: 64e6}, File: true, Named: true, Asked: true}
)

func device(name string, size int64, bus disks.Bus, removable bool) guard.Facts {
	return guard.Facts{
		Disk: disks.Disk{Name: name, Size: size, Bus: bus, Removable: removable}, Named: true, Asked: true,
	}
}

func with(f guard.Facts, change func(*guard.Facts)) guard.Facts {
	change(&f)
	return f
}

func mounts(points ...string) (all []disks.Mount) {
	for _, p := range points {
		all = append(all, disks.Mount{
			Source: "/dev/sdb1", Point: p,
			ByDesktop: strings.HasPrefix(p, "/run/media/") || strings.HasPrefix(p, "/media/"),
		})
	}
	return all
}

func swaps(paths ...string) (all []disks.Swap) {
	for _, p := range paths {
		all = append(all, disks.Swap{Path: p})
	}
	return all
}

// holds is what is built on a disk.
func holds(made disks.Made, name string) []disks.Holder {
	return []disks.Holder{{Made: made, Name: name}}
}

func runs(point string) []disks.SystemUse {
	return []disks.SystemUse{{How: disks.Mounted, Point: point}}
}

// machines are disks of made-up computers, and for which causes they are refused; none: they may be written.
var machines = []struct {
	what   string
	facts  guard.Facts
	causes []guard.Cause
}{
	{"a stick", stick, nil},
	{"a card in the laptop's slot", sdCard, nil},
	{"a stick that no path named", with(stick, func(f *guard.Facts) { f.Named = false }), nil},
	{
		"a stick that the desktop has mounted",
		with(stick, func(f *guard.Facts) { f.Mounts = mounts("/media/nell/SALTBOOT") }), nil,
	},
	{"a stick mounted by hand", with(stick, func(f *guard.Facts) { f.Mounts = mounts("/mnt/card") }), nil},
	{"a stick mounted in a home", with(stick, func(f *guard.Facts) { f.Mounts = mounts("/home/nell/card") }), nil},
	{
		"a stick with swap, and a person who is asked",
		with(stick, func(f *guard.Facts) { f.Swaps = swaps("/dev/sdb3") }), nil,
	},
	{
		"a stick with swap, in a script",
		with(stick, func(f *guard.Facts) { f.Swaps, f.Asked = swaps("/dev/sdb3"), false }),
		[]guard.Cause{inUse},
	},
	{
		"a card with a swap file, in a script",
		with(sdCard, func(f *guard.Facts) { f.Swaps, f.Asked = swaps("/media/nell/x/swap"), false }),
		[]guard.Cause{inUse},
	},
	{
		"a stick with an opened encrypted partition",
		with(stick, func(f *guard.Facts) { f.Holders = holds(disks.Encrypted, "dm-0") }),
		[]guard.Cause{inUse},
	},
	{"the same, mounted", with(stick, func(f *guard.Facts) {
		f.Holders = holds(disks.Encrypted, "dm-0")
		f.Mounts = []disks.Mount{{Source: "/dev/dm-0", Point: "/media/nell/secret", Via: "luks-7"}}
	}), []guard.Cause{inUse, inUse}},
	{
		"a stick that is a member of a RAID",
		with(stick, func(f *guard.Facts) { f.Holders = holds(disks.RAID, "md0") }),
		[]guard.Cause{inUse},
	},
	{
		"a stick in a ZFS pool", with(stick, func(f *guard.Facts) { f.Holders = holds(disks.ZFSPool, "tide") }),
		[]guard.Cause{inUse},
	},
	{
		"a stick behind bcache", with(stick, func(f *guard.Facts) { f.Holders = holds(disks.Bcache, "bcache0") }),
		[]guard.Cause{inUse},
	},
	{
		"a stick with the file of a loop device", with(stick, func(f *guard.Facts) { f.Holders = holds("", "loop0") }),
		[]guard.Cause{inUse},
	},
	{
		"a stick that another program has", with(stick, func(f *guard.Facts) { f.Held = true }),
		[]guard.Cause{guard.Held},
	},
	{
		"a stick with the lock slid", with(stick, func(f *guard.Facts) { f.ReadOnly = true }),
		[]guard.Cause{guard.Protected},
	},
	{"an empty slot of a reader", with(stick, func(f *guard.Facts) { f.Size = 0 }), []guard.Cause{guard.Empty}},
	{
		"an empty slot that says it is write-protected",
		with(stick, func(f *guard.Facts) { f.Size, f.ReadOnly = 0, true }),
		[]guard.Cause{guard.Empty},
	},
	{"a stick that claims 16 TB", with(stick, func(f *guard.Facts) { f.Size = 16e12 }), []guard.Cause{guard.Large}},
	{"the same, with --fixed-disk", with(stick, func(f *guard.Facts) { f.Size, f.FixedDisk = 16e12, true }), nil},
	{"a card of 2 TB", with(stick, func(f *guard.Facts) { f.Size = 2e12 }), nil},
	{"a board that runs from its card", with(sdCard, func(f *guard.Facts) {
		f.System, f.Mounts = runs("/"), mounts("/", "/boot/firmware")
	}), []guard.Cause{guard.System}},
	{
		"a board that runs from a stick",
		with(stick, func(f *guard.Facts) { f.System, f.Mounts = runs("/"), mounts("/") }),
		[]guard.Cause{guard.System},
	},
	{"the stick of a live system", with(stick, func(f *guard.Facts) {
		f.System, f.Holders = runs("/cdrom"), holds("", "loop0")
	}), []guard.Cause{guard.System, inUse}},
	{
		"a laptop's NVMe with the root",
		with(nvme, func(f *guard.Facts) { f.System, f.Mounts = runs("/"), mounts("/") }),
		[]guard.Cause{guard.System, guard.Fixed},
	},
	{"the same, with --fixed-disk", with(nvme, func(f *guard.Facts) {
		f.System, f.Mounts, f.FixedDisk = runs("/"), mounts("/"), true
	}), []guard.Cause{guard.System}},
	{"a root on LVM on encryption, with --fixed-disk", with(nvme, func(f *guard.Facts) {
		f.System, f.FixedDisk, f.Holders = runs("/"), true, holds(disks.Encrypted, "dm-0")
		f.Mounts = []disks.Mount{{Source: "/dev/dm-1", Point: "/", Via: "crypt"}}
		f.Swaps = swaps("/dev/dm-2")
	}), []guard.Cause{guard.System, inUse, inUse}},
	{"a second NVMe, unused", nvme, []guard.Cause{guard.Fixed}},
	{"the same, with --fixed-disk", with(nvme, func(f *guard.Facts) { f.FixedDisk = true }), nil},
	{
		"a SATA disk with data, with --fixed-disk",
		with(sata, func(f *guard.Facts) { f.FixedDisk, f.Mounts = true, mounts("/data") }),
		[]guard.Cause{inUse},
	},
	{
		"a SATA disk with swap, with --fixed-disk",
		with(sata, func(f *guard.Facts) { f.FixedDisk, f.Swaps = true, swaps("/dev/sda2") }),
		[]guard.Cause{inUse},
	},
	{
		"a SATA member of a RAID", with(sata, func(f *guard.Facts) { f.Holders = holds(disks.RAID, "md127") }),
		[]guard.Cause{inUse, guard.Fixed},
	},
	{
		"the same, with --fixed-disk",
		with(sata, func(f *guard.Facts) { f.FixedDisk, f.Holders = true, holds(disks.RAID, "md127") }),
		[]guard.Cause{inUse},
	},
	{
		"a SATA disk in a ZFS pool that only the kernel knows of",
		with(sata, func(f *guard.Facts) { f.FixedDisk, f.Held = true, true }),
		[]guard.Cause{guard.Held},
	},
	{"an external USB disk", usbDisk, []guard.Cause{guard.Fixed}},
	{
		"the same, mounted by the desktop, with --fixed-disk",
		with(usbDisk, func(f *guard.Facts) { f.FixedDisk, f.Mounts = true, mounts("/run/media/nell/backup") }), nil,
	},
	{
		"an external disk of 8 TB, with --fixed-disk",
		with(usbDisk, func(f *guard.Facts) { f.FixedDisk, f.Size = true, 8e12 }), nil,
	},
	{"a board's own eMMC", device("mmcblk1", 16e9, disks.EMMC, false), []guard.Cause{guard.Fixed}},
	{
		"its boot area",
		with(device("mmcblk1boot0", 4e6, disks.EMMC, false), func(f *guard.Facts) {
			f.Unfit, f.FixedDisk = disks.BootArea, true
		}),
		[]guard.Cause{guard.IsUnfit},
	},
	{
		"an optical drive",
		with(device("sr0", 7e8, disks.SATA, true), func(f *guard.Facts) { f.Unfit = disks.Optical }),
		[]guard.Cause{guard.IsUnfit},
	},
	{
		"an empty optical drive",
		with(device("sr0", 0, disks.SATA, true), func(f *guard.Facts) { f.Unfit = disks.Optical }),
		[]guard.Cause{guard.IsUnfit},
	},
	{
		"a RAID array, with --fixed-disk",
		with(device("md0", 1e12, disks.Volume, false), func(f *guard.Facts) { f.Made, f.FixedDisk = disks.RAID, true }),
		[]guard.Cause{guard.Volume},
	},
	{
		"an encrypted volume on a stick",
		with(device("dm-0", 8e9, disks.Volume, false), func(f *guard.Facts) {
			f.Made, f.FixedDisk = disks.Encrypted, true
		}),
		[]guard.Cause{guard.Volume},
	},
	{
		"compressed memory in use as swap",
		with(device("zram0", 4e9, disks.Memory, false), func(f *guard.Facts) {
			f.Made, f.Swaps = disks.InMemory, swaps("/dev/zram0")
		}),
		[]guard.Cause{guard.Volume, inUse},
	},
	{"a network disk", device("nbd0", 8e9, disks.Network, false), []guard.Cause{guard.Fixed}},
	{"the second disk of a virtual machine", device("vdb", 8e9, disks.Machine, false), []guard.Cause{guard.Fixed}},
	{"a loop device by its path", loop, nil},
	{
		"a loop device that the program found", with(loop, func(f *guard.Facts) { f.Named = false }),
		[]guard.Cause{guard.Unnamed},
	},
	{"a loop device with a mount", with(loop, func(f *guard.Facts) { f.Mounts = mounts("/mnt/x") }), nil},
	{
		"a loop device with the root of a snap",
		with(loop, func(f *guard.Facts) { f.System, f.Mounts = runs("/usr/lib/x"), mounts("/usr/lib/x") }),
		[]guard.Cause{guard.System},
	},
	{"a plain file", file, nil},
	{"an empty file", with(file, func(f *guard.Facts) { f.Size = 0 }), []guard.Cause{guard.Empty}},
	{
		"a file that nobody may write", with(file, func(f *guard.Facts) { f.ReadOnly = true }),
		[]guard.Cause{guard.Protected},
	},
	{"a swap file in use", with(file, func(f *guard.Facts) { f.Swaps = swaps("/swapfile") }), []guard.Cause{inUse}},
	{"a file of 4 TB", with(file, func(f *guard.Facts) { f.Size = 4e12 }), nil},
}

// inUse stands for all causes of something that is in use.
const inUse guard.Cause = "in use"

// group is the cause of a reason, but for what is in use, and for files.
func group(r guard.Reason) guard.Cause {
	switch {
	case guard.IsUse(r) && r.Cause != guard.Held:
		return inUse
	case guard.IsProtected(r):
		return guard.Protected
	case r.Cause == guard.EmptyFile:
		return guard.Empty
	}
	return r.Cause
}

func TestMachines(t *testing.T) {
	require.GreaterOrEqual(t, len(machines), 40)
	for _, m := range machines {
		var got []guard.Cause
		for _, r := range guard.Judge(m.facts) {
			got = append(got, group(r))
		}
		assert.Equal(t, m.causes, got, m.what)
	}
}

// TestNoFlagFreesWhatTheComputerUses tries all that a user can say, on all machines.
func TestNoFlagFreesWhatTheComputerUses(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := rapid.SampledFrom(machines).Draw(t, "machine").facts
		f.Named, f.Asked, f.FixedDisk = rapid.Bool().Draw(t, "named"), rapid.Bool().Draw(t, "asked"), rapid.Bool().Draw(
			t, "fixed disk",
		)
		switch rapid.IntRange(0, 3).Draw(t, "use") {
		case 0:
			f.System = runs("/")
		case 1:
			f.Holders = holds(disks.RAID, "md0")
		case 2:
			f.Held = true
		case 3:
			f.Swaps, f.Asked = swaps("/dev/sdb3"), false
		}
		if reasons := guard.Judge(f); !slices.ContainsFunc(reasons, func(r guard.Reason) bool {
			return r.Cause == guard.System || guard.IsUse(r)
		}) {
			t.Fatalf("%+v may be written", f)
		}
	})
}
