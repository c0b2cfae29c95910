package view

import (
	"errors"
	"io/fs"
	"testing"

	"github.com/stretchr/testify/assert"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/image"
)

// TestRefusalsSayWhyAndWhatToDo has the advice that people need most, and the words of this system in it.
func TestRefusalsSayWhyAndWhatToDo(t *testing.T) {
	here := card.Local{
		Example: "/dev/sdb", Elevate: []string{"sudo"}, SwapOff: []string{"sudo", "swapoff"},
		Unmount: []string{"sudo", "umount"},
	}
	for _, c := range []struct {
		reason       guard.Reason
		text, advice string
	}{
		{
			guard.Reason{Cause: guard.Fixed, Bus: disks.NVMe},
			"it is an NVMe disk: neither a removable card nor one in an SD slot",
			"if it is the right one all the same: --fixed-disk",
		},
		{
			guard.Reason{Cause: guard.SwapInUse, Name: "/media/SALT BOOT/swap"},
			"this computer uses /media/SALT BOOT/swap as swap",
			"turn the swap off, and run the command again: sudo swapoff '/media/SALT BOOT/swap'",
		},
		{
			guard.Reason{Cause: guard.MountedAs, Name: "/dev/sda1", Of: "/data"},
			"this computer has /dev/sda1 mounted at /data", "unmount it, and run the command again: sudo umount /data",
		},
		{
			guard.Reason{Cause: guard.Protected},
			"it is write-protected",
			"slide the lock on the card's or adapter's side, and put it in again",
		},
		{guard.Reason{Cause: guard.LockedFile}, "it is write-protected", ""},
		{
			guard.Reason{
				Cause:  guard.System,
				System: []disks.SystemUse{{How: disks.Mounted, Point: "/"}, {How: disks.AtStart, Point: "/data"}},
			},
			"this computer runs from it (/ is on it, /data is on it, which is mounted at each start)",
			"no option overrides this; name the card's device",
		},
		{
			guard.Reason{
				Cause: guard.HolderOn, Holder: disks.Holder{Made: disks.Encrypted, Name: "dm-0", Title: "luks-7"},
			}, "it is in use by the encrypted volume luks-7 (dm-0)", "close or stop that first, if it is a card's",
		},
		{
			guard.Reason{Cause: guard.HolderOn, Holder: disks.Holder{Name: "loop0", File: "/x.img"}},
			"it is in use by loop0, whose file /x.img is on it", "close or stop that first, if it is a card's",
		},
		{
			guard.Reason{
				Cause: guard.InUse, Name: "/media/x",
				Programs: []guard.Program{{ID: 7, Command: "sleep", How: guard.WorksIn, File: "/media/x"}},
			}, "/media/x is in use; sleep (process 7) works in /media/x", "end or close that, and run the command " +
				"again; with --wait it waits for it",
		},
		{
			guard.Reason{Cause: guard.InUse, Name: "/media/x"},
			"/media/x is in use by a program of another user, or by the system itself",
			"end or close that, and run the command again; with --wait it waits for it",
		},
		{
			guard.Reason{Cause: guard.NotUnmounted, Name: "/x", Err: fs.ErrPermission},
			"/x can't be unmounted: you have no permission to do that", "",
		},
		{guard.Reason{Cause: guard.IsFolder}, "it is a folder, not a card", "name the card's device, such as /dev/sdb"},
		{
			guard.Reason{Cause: guard.NoHost, Err: errors.ErrUnsupported},
			"the disks of this system can't be used; here, a card is a plain file or a practice card",
			"make a practice card: zipstamp practice new FILE --claimed 64MB",
		},
	} {
		assert.Equal(t, c.text, Reason(c.reason))
		assert.Equal(t, c.advice, reasonNext(c.reason, here, []string{"zipstamp"}))
	}
	assert.NotContains(t, reasonNext(guard.Reason{Cause: guard.SwapInUse, Name: "x"}, card.Local{}, nil), ":",
		"no command where there is none")
	assert.Empty(t, reasonNext(guard.Reason{Cause: guard.NoRights}, card.Local{}, []string{"zipstamp"}))
}

// TestEveryKindHasItsWords: what the core can say, the view can put into words.
func TestEveryKindHasItsWords(t *testing.T) {
	for _, made := range []disks.Made{
		disks.Encrypted, disks.LVM, disks.RAID, disks.Mapped, disks.Multipath, disks.Bcache, disks.ZFSVolume,
		disks.ZFSPool, disks.InMemory,
	} {
		assert.NotEmpty(t, madeNames[made], made)
	}
	for _, bus := range []disks.Bus{
		disks.NVMe, disks.SATA, disks.SCSI, disks.USB, disks.EMMC, disks.FireWire, disks.Machine, disks.Network,
		disks.Other,
	} {
		assert.NotEmpty(t, fixedNames[bus], bus)
	}
	for kind, name := range strangers {
		assert.NotEqual(t, string(kind), "", name)
		assert.NotEmpty(t, unusableNext(&image.UnusableError{Why: image.IsOther, Other: image.Stranger{Kind: kind}}))
	}
}
