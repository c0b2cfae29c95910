package view

import (
	"bufio"
	"bytes"
	"context"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/card/register"
	"zipstamp/internal/layout"
	"zipstamp/internal/receipt"
)

// listedOf makes a listed disk of what the computer knows.
func listedOf(d disks.Disk, reasons ...guard.Reason) Listed {
	c := &card.Card{Path: d.Path, Name: d.Name, Kind: card.Block, Size: d.Size, ReadOnly: d.ReadOnly, Disk: &d}
	return Listed{Card: c, Reasons: reasons}
}

func inSlot(t *testing.T) Listed {
	t.Helper()
	cid, err := register.ParseCID("27534d42524e444c3010a1b2c3018400")
	require.NoError(t, err)
	l := listedOf(disks.Disk{
		Name: "mmcblk0", Path: "/dev/mmcblk0", Bus: disks.SDSlot, Size: 31914459136, Model: "BRNDL",
		Serial: "0x10a1b2c3",
		SD: &register.SD{
			CID: cid, CSD: register.CSD{Family: "SDHC or SDXC"}, Spec: "4", Marks: []string{"Class 10", "A2"},
		},
		Mounts: []disks.Mount{{Source: "/dev/mmcblk0p1", Name: "mmcblk0p1", Point: "/media/wren/SALT\x1b[31m"}},
		Swaps:  []disks.Swap{{Path: "/dev/mmcblk0p3"}},
	})
	l.Contents = &layout.Disk{
		Kind: layout.KindDisk, Table: layout.Table{Scheme: layout.SchemeGPT},
		Parts: []layout.Content{
			{Part: layout.Part{Number: 1, Length: 268e6}, FileSystem: layout.FileSystem{Kind: "FAT32", Label: "SALT"}},
			{Part: layout.Part{Number: 2, Length: 31e9}},
		},
	}
	l.Last = &receipt.Document{
		Image: receipt.Image{Path: "/home/wren/saltmarsh-os.img.xz"},
		Ended: time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC),
	}
	l.Remarks = []register.Remark{{What: register.OtherLength, Says: 31914459136, Is: 2000398934016}}
	return l
}

func shown(t *testing.T, width int, show func(*Screen)) string {
	t.Helper()
	var out bytes.Buffer
	v := NewScreen(Streams{Out: &out, Err: &out})
	v.width, v.errWidth = width, width
	show(v)
	for line := range strings.Lines(out.String()) {
		assert.LessOrEqual(t, len([]rune(strings.TrimRight(line, "\n"))), width, line)
	}
	return strings.Join(strings.Fields(out.String()), " ")
}

func TestCardsAreDescribed(t *testing.T) {
	locked := listedOf(disks.Disk{
		Name: "sdb", Path: "/dev/sdb", Bus: disks.USB, Size: 8e9, ReadOnly: true, Maker: "Creek", Model: "SD Slot",
		Serial: "1", Slot: 3, Slots: 4, USB: &disks.USBDevice{Name: "Reader"},
		FS: disks.FileSystem{Kind: layout.ExFATKind, Label: "CAMERA"},
	},
		guard.Reason{Cause: guard.Protected})
	liar := listedOf(disks.Disk{Name: "sdc", Path: "/dev/sdc", Bus: disks.USB, Size: 16e12}, guard.Reason{
		Cause: guard.Large,
	})
	own := listedOf(disks.Disk{
		Name: "nvme0n1", Path: "/dev/nvme0n1", Bus: disks.NVMe, Size: 512e9, Model: "Saltworks P31",
	},
		guard.Reason{Cause: guard.System, System: []disks.SystemUse{{How: disks.Mounted, Point: "/"}}}, guard.Reason{
			Cause: guard.Fixed, Bus: disks.NVMe,
		})
	blank := listedOf(disks.Disk{Name: "sdd", Path: "/dev/sdd", Bus: disks.USB, Size: 8e9})
	blank.Contents = &layout.Disk{Kind: layout.KindBlank}
	blank.Card.Disk.Mounts = []disks.Mount{{Source: `\\?\Volume{5a}\`, Name: "E:", Point: `E:\`}}
	for _, width := range []int{40, 80, 100} {
		all := shown(t, width, func(v *Screen) { v.Cards([]Listed{inSlot(t), locked, liar, own, blank}, true) })
		for _, says := range []string{
			"Found 2 writable cards; another one is write-protected.",
			"/dev/mmcblk0 31.9 GB (31,914,459,136 bytes), SD slot, BRNDL, serial 0x10a1b2c3",
			"made in April 2024, maker 0x27 SM, revision 3.0, SDHC or SDXC, SD 4, Class 10 A2",
			"odd: its registers say 31,914,459,136 bytes, but the reader says 2,000,398,934,016",
			"holds, by its GPT, 1: FAT32 SALT (268 MB); 2: no known file system (31.0 GB)",
			"/dev/mmcblk0p3 is in use as swap", "last stamped with saltmarsh-os.img.xz, on 20 November 2026",
			"/dev/sdb 8.00 GB (8,000,000,000 bytes), USB, Creek SD Slot, slot 3 of 4 of Reader, serial 1 " +
				"write-protected",
			"holds exFAT CAMERA", "holds nothing: it starts with zeros", "mounted as E:",
			"/dev/nvme0n1 512 GB (512,000,000,000 bytes), NVMe, Saltworks P31 this computer runs from it (/ is on " +
				"it) it is an NVMe disk",
			"/dev/sdc 16.0 TB (16,000,000,000,000 bytes), USB it says that it is larger",
		} {
			if width > 40 || len(says) < 40 {
				assert.Contains(t, all, says, "%d columns", width)
			}
		}
		assert.NotContains(t, all, "\x1b", "a label is shown, and not obeyed")
	}
	assert.Contains(t, shown(t, 80, func(v *Screen) { v.Cards(nil, true) }),
		"No writable card found. Put a card in and look again, or wait for it: zipstamp cards --arrive There are no "+
			"other disks.")
	for want, cards := range map[string][]Listed{
		"Found 1 writable card.":                                        {blank},
		"Found 3 writable cards.":                                       {blank, blank, inSlot(t)},
		"Found no writable card, but 1 card that is write-protected.":   {locked},
		"Found no writable card, but 2 cards that are write-protected.": {locked, locked},
		"Found 1 writable card; 2 more are write-protected.":            {blank, locked, locked},
		"Found 2 writable cards; another one is write-protected.":       {blank, locked, blank},
	} {
		assert.Equal(t, want, cardsSentence(cards))
	}
}

func TestChoosingACard(t *testing.T) {
	listed := []Listed{inSlot(t), listedOf(disks.Disk{Name: "sdb", Path: "/dev/sdb", Bus: disks.USB, Size: 8e9})}
	for typed, want := range map[string]int{
		"1\n": 0, "2\n": 1, "sdb\n": 1, "/dev/mmcblk0\n": 0, "\n": -1, "": -1, "sdx\nsdb\n": 1, "3\n\n": -1,
	} {
		var out bytes.Buffer
		v := NewScreen(Streams{Out: &out, Err: &out})
		v.typed = bufio.NewReader(strings.NewReader(typed))
		got, err := v.Choose(context.Background(), listed)
		require.NoError(t, err)
		assert.Equal(t, want, got, "%q", typed)
	}
}

// TestPlanOfSeveralCards shows what a person must see before all of it is lost.
func TestPlanOfSeveralCards(t *testing.T) {
	a := &answer{}
	tested := inSlot(t)
	tested.Tested = &receipt.Document{
		Verdict: "counterfeit", Ended: time.Date(2026, 11, 26, 9, 0, 0, 0, time.Local),
		Gauge: &receipt.Gauge{Loss: &receipt.CardLoss{Exact: true}, Holds: 8e9},
	}
	planCard(a, tested)
	text := ""
	for _, f := range a.facts {
		text += f.Label + " " + strings.ReplaceAll(f.Text, "\n", " ") + " "
	}
	for _, says := range []string{
		"path /dev/mmcblk0", "now holds, by its GPT", "last stamped with", "in use mmcblk0p1 is mounted at",
		"/dev/mmcblk0p3 is in use as swap", "odd its registers say",
		"tested on 26 November 2026, 09:00: counterfeit, holds 8.00 GB",
	} {
		assert.Contains(t, text, says)
	}
	notes := strings.Join(new(Screen).planNotes(Plan{Cards: []Listed{inSlot(t)}}), " ")
	assert.Contains(t, notes, "What is mounted will be unmounted first.")
	assert.Contains(t, notes, "Swap will be turned off first")
}

func TestMishapsAreSaid(t *testing.T) {
	gone := &card.GoneError{Card: "sdb", Err: context.DeadlineExceeded}
	for want, m := range map[string]card.Mishap{
		"sdb is gone (context deadline exceeded); waiting a moment for it to come back ...": {Err: gone, Waiting: true},
		"sdb is back, as sdc; going on.":                                  {Err: gone, Name: "sdc"},
		"sdb is back; going on.":                                          {Err: gone, Name: "sdb"},
		"sdb failed to write at 4.19 MB, and succeeded when tried again.": {Op: "write", Offset: 4194304},
	} {
		assert.Equal(t, want, MishapSentence("sdb", m))
	}
}
