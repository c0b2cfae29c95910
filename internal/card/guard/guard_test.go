package guard_test

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zipstamp/internal/card/guard"
)

// The bare devices that machines are made of.
var (
	stick   = guard.Facts{Name: "sdb", Size: 32e9, Removable: true, Named: true, Asked: true}
	sdCard  = guard.Facts{Name: "mmcblk0", Size: 32e9, SDSlot: true, Named: true, Asked: true}
	nvme    = guard.Facts{Name: "nvme0n1", Size: 512e9, Kind: "an NVMe disk", Named: true, Asked: true}
	sata    = guard.Facts{Name: "sda", Size: 1e12, Kind: "a SATA disk", Named: true, Asked: true}
	usbDisk = guard.Facts{Name: "sdc", Size: 1e12, Kind: "a USB disk", Named: true, Asked: true}
	loop    = guard.Facts{Name: "loop4", Size: 64e6, Loop: true, Named: true, Asked: true}
	file    = guard.Facts{Name: "card.img", Size: 64e6, File: true, Named: true, Asked: true}
)

func with(f guard.Facts, change func(*guard.Facts)) guard.Facts {
	change(&f)
	return f
}

func mounts(points ...string) (all []guard.Mount) {
	for _, p := range points {
		all = append(all, guard.Mount{Source: "/dev/sdb1", Point: p})
	}
	return all
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
	{"a stick that the desktop has mounted", with(stick, func(f *guard.Facts) { f.Mounts = mounts("/media/nell/SALTBOOT") }), nil},
	{"a stick mounted by hand", with(stick, func(f *guard.Facts) { f.Mounts = mounts("/mnt/card") }), nil},
	{"a stick mounted in a home", with(stick, func(f *guard.Facts) { f.Mounts = mounts("/home/nell/card") }), nil},
	{"a stick with swap, and a person who is asked", with(stick, func(f *guard.Facts) { f.Swaps = []string{"/dev/sdb3"} }), nil},
	{"a stick with swap, in a script", with(stick, func(f *guard.Facts) { f.Swaps, f.Asked = []string{"/dev/sdb3"}, false }), []guard.Cause{guard.InUse}},
	{"a card with a swap file, in a script", with(sdCard, func(f *guard.Facts) { f.Swaps, f.Asked = []string{"/media/nell/x/swap"}, false }), []guard.Cause{guard.InUse}},
	{"a stick with an opened encrypted partition", with(stick, func(f *guard.Facts) { f.Holders = []string{"the encrypted volume luks-7 (dm-0)"} }), []guard.Cause{guard.InUse}},
	{"the same, mounted", with(stick, func(f *guard.Facts) {
		f.Holders = []string{"the encrypted volume luks-7 (dm-0)"}
		f.Mounts = []guard.Mount{{Source: "/dev/dm-0", Point: "/media/nell/secret", Volume: true}}
	}), []guard.Cause{guard.InUse, guard.InUse}},
	{"a stick that is a member of a RAID", with(stick, func(f *guard.Facts) { f.Holders = []string{"the RAID array md0"} }), []guard.Cause{guard.InUse}},
	{"a stick in a ZFS pool", with(stick, func(f *guard.Facts) { f.Holders = []string{"the ZFS pool tide"} }), []guard.Cause{guard.InUse}},
	{"a stick behind bcache", with(stick, func(f *guard.Facts) { f.Holders = []string{"the volume of bcache bcache0"} }), []guard.Cause{guard.InUse}},
	{"a stick with the file of a loop device", with(stick, func(f *guard.Facts) { f.Holders = []string{"loop0, whose file /media/nell/x.img is on it"} }), []guard.Cause{guard.InUse}},
	{"a stick that another program has", with(stick, func(f *guard.Facts) { f.Held = true }), []guard.Cause{guard.Held}},
	{"a stick with the lock slid", with(stick, func(f *guard.Facts) { f.ReadOnly = true }), []guard.Cause{guard.Protected}},
	{"an empty slot of a reader", with(stick, func(f *guard.Facts) { f.Size = 0 }), []guard.Cause{guard.Empty}},
	{"an empty slot that says it is write-protected", with(stick, func(f *guard.Facts) { f.Size, f.ReadOnly = 0, true }), []guard.Cause{guard.Empty}},
	{"a stick that claims 16 TB", with(stick, func(f *guard.Facts) { f.Size = 16e12 }), []guard.Cause{guard.Large}},
	{"the same, with --fixed-disk", with(stick, func(f *guard.Facts) { f.Size, f.FixedDisk = 16e12, true }), nil},
	{"a card of 2 TB", with(stick, func(f *guard.Facts) { f.Size = 2e12 }), nil},
	{"a board that runs from its card", with(sdCard, func(f *guard.Facts) {
		f.System, f.Mounts = []string{"/ is on it"}, mounts("/", "/boot/firmware")
	}), []guard.Cause{guard.System}},
	{"a board that runs from a stick", with(stick, func(f *guard.Facts) { f.System, f.Mounts = []string{"/ is on it"}, mounts("/") }), []guard.Cause{guard.System}},
	{"the stick of a live system", with(stick, func(f *guard.Facts) {
		f.System, f.Holders = []string{"/cdrom is on it"}, []string{"loop0, whose file /cdrom/live.squashfs is on it"}
	}), []guard.Cause{guard.System, guard.InUse}},
	{"a laptop's NVMe with the root", with(nvme, func(f *guard.Facts) { f.System, f.Mounts = []string{"/ is on it"}, mounts("/") }), []guard.Cause{guard.System, guard.Fixed}},
	{"the same, with --fixed-disk", with(nvme, func(f *guard.Facts) {
		f.System, f.Mounts, f.FixedDisk = []string{"/ is on it"}, mounts("/"), true
	}), []guard.Cause{guard.System}},
	{"a root on LVM on encryption, with --fixed-disk", with(nvme, func(f *guard.Facts) {
		f.System, f.FixedDisk, f.Holders = []string{"/ is on it"}, true, []string{"the encrypted volume crypt (dm-0)"}
		f.Mounts = []guard.Mount{{Source: "/dev/dm-1", Point: "/", Volume: true}}
		f.Swaps = []string{"/dev/dm-2"}
	}), []guard.Cause{guard.System, guard.InUse, guard.InUse}},
	{"a second NVMe, unused", nvme, []guard.Cause{guard.Fixed}},
	{"the same, with --fixed-disk", with(nvme, func(f *guard.Facts) { f.FixedDisk = true }), nil},
	{"a SATA disk with data, with --fixed-disk", with(sata, func(f *guard.Facts) { f.FixedDisk, f.Mounts = true, mounts("/data") }), []guard.Cause{guard.InUse}},
	{"a SATA disk with swap, with --fixed-disk", with(sata, func(f *guard.Facts) { f.FixedDisk, f.Swaps = true, []string{"/dev/sda2"} }), []guard.Cause{guard.InUse}},
	{"a SATA member of a RAID", with(sata, func(f *guard.Facts) { f.Holders = []string{"the RAID array md127"} }), []guard.Cause{guard.InUse, guard.Fixed}},
	{"the same, with --fixed-disk", with(sata, func(f *guard.Facts) { f.FixedDisk, f.Holders = true, []string{"the RAID array md127"} }), []guard.Cause{guard.InUse}},
	{"a SATA disk in a ZFS pool that only the kernel knows of", with(sata, func(f *guard.Facts) { f.FixedDisk, f.Held = true, true }), []guard.Cause{guard.Held}},
	{"an external USB disk", usbDisk, []guard.Cause{guard.Fixed}},
	{"the same, mounted by the desktop, with --fixed-disk", with(usbDisk, func(f *guard.Facts) { f.FixedDisk, f.Mounts = true, mounts("/run/media/nell/backup") }), nil},
	{"an external disk of 8 TB, with --fixed-disk", with(usbDisk, func(f *guard.Facts) { f.FixedDisk, f.Size = true, 8e12 }), nil},
	{"a board's own eMMC", guard.Facts{Name: "mmcblk1", Size: 16e9, Kind: "a board's own eMMC", Named: true, Asked: true}, []guard.Cause{guard.Fixed}},
	{"its boot area", guard.Facts{Name: "mmcblk1boot0", Size: 4e6, Unfit: "a boot area of the eMMC", FixedDisk: true, Asked: true}, []guard.Cause{guard.Unfit}},
	{"an optical drive", guard.Facts{Name: "sr0", Size: 7e8, Removable: true, Unfit: "an optical drive", Asked: true}, []guard.Cause{guard.Unfit}},
	{"an empty optical drive", guard.Facts{Name: "sr0", Removable: true, Unfit: "an optical drive", Asked: true}, []guard.Cause{guard.Unfit}},
	{"a RAID array, with --fixed-disk", guard.Facts{Name: "md0", Size: 1e12, Made: "a RAID array", FixedDisk: true, Named: true, Asked: true}, []guard.Cause{guard.Volume}},
	{"an encrypted volume on a stick", guard.Facts{Name: "dm-0", Size: 8e9, Made: "an encrypted volume", FixedDisk: true, Named: true, Asked: true}, []guard.Cause{guard.Volume}},
	{"compressed memory in use as swap", guard.Facts{Name: "zram0", Size: 4e9, Made: "a disk in this computer's memory", Swaps: []string{"/dev/zram0"}, Asked: true}, []guard.Cause{guard.Volume, guard.InUse}},
	{"a network disk", guard.Facts{Name: "nbd0", Size: 8e9, Kind: "a network disk", Named: true, Asked: true}, []guard.Cause{guard.Fixed}},
	{"the second disk of a virtual machine", guard.Facts{Name: "vdb", Size: 8e9, Kind: "the disk of a virtual machine", Named: true, Asked: true}, []guard.Cause{guard.Fixed}},
	{"a loop device by its path", loop, nil},
	{"a loop device that the program found", with(loop, func(f *guard.Facts) { f.Named = false }), []guard.Cause{guard.Unnamed}},
	{"a loop device with a mount", with(loop, func(f *guard.Facts) { f.Mounts = mounts("/mnt/x") }), nil},
	{"a loop device with the root of a snap", with(loop, func(f *guard.Facts) { f.System, f.Mounts = []string{"/usr/lib/x is on it"}, mounts("/usr/lib/x") }), []guard.Cause{guard.System}},
	{"a plain file", file, nil},
	{"an empty file", with(file, func(f *guard.Facts) { f.Size = 0 }), []guard.Cause{guard.Empty}},
	{"a file that nobody may write", with(file, func(f *guard.Facts) { f.ReadOnly = true }), []guard.Cause{guard.Protected}},
	{"a swap file in use", with(file, func(f *guard.Facts) { f.Swaps = []string{"/swapfile"} }), []guard.Cause{guard.InUse}},
	{"a file of 4 TB", with(file, func(f *guard.Facts) { f.Size = 4e12 }), nil},
}

func TestMachines(t *testing.T) {
	require.GreaterOrEqual(t, len(machines), 40)
	for _, m := range machines {
		var got []guard.Cause
		for _, r := range guard.Judge(m.facts) {
			got = append(got, r.Cause)
			assert.NotEmpty(t, r.Text, m.what)
		}
		assert.Equal(t, m.causes, got, m.what)
	}
}

// TestNoFlagFreesWhatTheComputerUses tries all that a user can say, on all machines.
func TestNoFlagFreesWhatTheComputerUses(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := rapid.SampledFrom(machines).Draw(t, "machine").facts
		f.Named, f.Asked, f.FixedDisk = rapid.Bool().Draw(t, "named"), rapid.Bool().Draw(t, "asked"), rapid.Bool().Draw(t, "fixed disk")
		switch rapid.IntRange(0, 3).Draw(t, "use") {
		case 0:
			f.System = []string{"/ is on it"}
		case 1:
			f.Holders = []string{"the RAID array md0"}
		case 2:
			f.Held = true
		case 3:
			f.Swaps, f.Asked = []string{"/dev/sdb3"}, false
		}
		if reasons := guard.Judge(f); !slices.ContainsFunc(reasons, func(r guard.Reason) bool {
			return r.Cause == guard.System || r.Cause == guard.InUse || r.Cause == guard.Held
		}) {
			t.Fatalf("%+v may be written", f)
		}
	})
}

// TestWhatToDo has the advice that a person needs most.
func TestWhatToDo(t *testing.T) {
	first := func(f guard.Facts) guard.Reason { return guard.Judge(f)[0] }
	assert.Equal(t, "it is an NVMe disk: neither a removable card nor one in an SD slot", first(nvme).Text)
	assert.Contains(t, first(nvme).Next, "--fixed-disk")
	swap := first(with(stick, func(f *guard.Facts) { f.Swaps, f.Asked = []string{"/media/SALT BOOT/swap"}, false }))
	assert.Equal(t, "turn the swap off, and run the command again: sudo swapoff '/media/SALT BOOT/swap'", swap.Next)
	assert.Contains(t, first(with(sata, func(f *guard.Facts) { f.FixedDisk, f.Mounts = true, mounts("/data") })).Next, "umount /data")
	assert.Contains(t, first(with(stick, func(f *guard.Facts) { f.ReadOnly = true })).Next, "slide the lock")
	assert.Contains(t, first(with(stick, func(f *guard.Facts) { f.System = []string{"/ is on it"} })).Next, "no option overrides this")
}
