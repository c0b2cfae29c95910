//go:build linux

package linux_test

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/linux"
	"zipstamp/internal/card/register"
	"zipstamp/internal/layout"
)

// plant makes the files of a computer below a temporary folder. The description has "cd FOLDER", "block NAME" (the
// folder is the disk NAME), "FILE: text" or "FILE:" with indented lines, and "LINK -> target".
func plant(t *testing.T, description string) linux.Tree {
	t.Helper()
	text, err := os.ReadFile(filepath.Join("testdata", description))
	require.NoError(t, err)
	root := t.TempDir()
	dir, open := "", ""
	put := func(name, text string) {
		path := filepath.Join(root, dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		f, err := os.OpenFile(path, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o644)
		require.NoError(t, err)
		defer f.Close()
		_, err = f.WriteString(text)
		require.NoError(t, err)
	}
	link := func(target, path string) {
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.Symlink(target, path))
	}
	for line := range strings.Lines(string(text)) {
		line = strings.TrimRight(line, "\n")
		switch name, target, isLink := strings.Cut(line, " -> "); {
		case line == "" || line[0] == '#':
		case line[0] == '\t':
			put(open, line[1:]+"\n")
		case strings.HasPrefix(line, "cd "):
			dir = line[3:]
			require.NoError(t, os.MkdirAll(filepath.Join(root, dir), 0o755))
		case strings.HasPrefix(line, "block "):
			link("../"+strings.TrimPrefix(dir, "sys/"), filepath.Join(root, "sys/block", line[6:]))
		case isLink:
			link(target, filepath.Join(root, dir, name))
		default:
			if name, value, one := strings.Cut(line, ": "); one {
				put(name, value+"\n")
			} else {
				open = strings.TrimSuffix(line, ":")
				put(open, "")
			}
		}
	}
	return linux.Tree{Root: root}
}

// list lists the disks by name.
func list(t *testing.T, description string) map[string]disks.Disk {
	t.Helper()
	all, err := plant(t, description).List()
	require.NoError(t, err)
	byName := map[string]disks.Disk{}
	for _, d := range all {
		byName[d.Name] = d
	}
	return byName
}

func TestLaptop(t *testing.T) {
	all := list(t, "laptop.tree")
	require.Len(t, all, 7)
	own := all["nvme0n1"]
	assert.Equal(t, disks.NVMe, own.Bus)
	assert.Equal(t, "Saltworks P31 512GB", own.Title())
	assert.Equal(t, int64(1000215216*512), own.Size)
	assert.ElementsMatch(t, []disks.SystemUse{
		{How: disks.Mounted, Point: "/"}, {How: disks.Mounted, Point: "/boot/efi"},
	}, own.System)
	assert.Contains(t, own.Mounts, disks.Mount{
		Source: "/dev/dm-1", Name: "dm-1", Point: "/", Kind: "ext4", Via: "crypt-main",
	})
	assert.Equal(t, []disks.Holder{{Made: disks.Encrypted, Name: "dm-0", Title: "crypt-main"}}, own.Holders)
	assert.Equal(t, []disks.Swap{{Path: "/dev/dm-2", Via: "crypt-main"}}, own.Swaps)
	assert.Equal(t, disks.LVM, all["dm-1"].Made)
	assert.Equal(t, "marsh-root", all["dm-1"].Title())
	assert.Equal(t, []disks.SystemUse{{How: disks.Mounted, Point: "/"}}, all["dm-1"].System)
	assert.Equal(t, disks.InMemory, all["zram0"].Made)
	assert.Equal(t, []disks.Swap{{Path: "/dev/zram0"}}, all["zram0"].Swaps)

	card := all["mmcblk0"]
	assert.Equal(t, disks.SDSlot, card.Bus)
	assert.Equal(t, "BRNDL", card.Title())
	assert.Equal(t, "0x10a1b2c3", card.Serial)
	require.NotNil(t, card.SD)
	assert.Equal(t, "April 2024", card.SD.CID.Made())
	assert.Equal(t, []string{"Class 10", "U3", "V30", "A2"}, card.SD.Marks)
	assert.Empty(t, card.SD.Remarks(card.Size, time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC)))
	assert.Empty(t, card.System)
	assert.Equal(t, []disks.Mount{
		{Source: "/dev/mmcblk0p1", Name: "mmcblk0p1", Point: "/media/wren/SALT BOOT", Kind: "vfat", ByDesktop: true},
	}, card.Mounts)
	assert.Equal(t, layout.SchemeMBR, card.Scheme)
	assert.Equal(t, "5a17a001", card.ID)
	require.Len(t, card.Parts, 2)
	assert.Equal(t, disks.Part{
		Name: "mmcblk0p1", Path: "/dev/mmcblk0p1", Index: 1, Key: "179:1", Start: 8192 * 512, Size: 524288 * 512,
		FS: disks.FileSystem{Kind: layout.FATKind, Label: "SALT BOOT"},
	}, card.Parts[0])

	stick := all["sda"]
	assert.True(t, stick.ReadOnly)
	assert.Equal(t, "Tidal Stick 16", stick.Title())
	assert.Equal(t, "TS16-77", stick.Serial)
	assert.Equal(t, "1-2", stick.USB.Port)
	assert.Equal(t, 480, stick.USB.Speed)
	assert.Zero(t, stick.Slots)
}

func TestDesktopWithAReader(t *testing.T) {
	all := list(t, "desktop.tree")
	for _, name := range []string{"sda", "sdb"} {
		assert.ElementsMatch(t, []disks.SystemUse{
			{How: disks.Mounted, Point: "/"},
			{How: disks.Mounted, Point: "/home"},
			{How: disks.Mounted, Point: "/opt/tides"},
		}, all[name].System, "%s is half of the root's btrfs", name)
		assert.Equal(t, []disks.Swap{{Path: "/var/swap file", On: "/"}}, all[name].Swaps, name)
		assert.Equal(t, []disks.Holder{{Name: "loop0", File: "/var/lib/marsh/tides.squashfs"}}, all[name].Holders, name)
	}
	assert.Equal(t, []disks.Holder{{Made: disks.ZFSPool, Name: "tide"}}, all["sdc"].Holders)
	assert.Equal(t, disks.Optical, all["sr0"].Unfit)
	for slot, name := range []string{"sdd", "sde", "sdf", "sdg"} {
		d := all[name]
		assert.Equal(t, []int{slot + 1, 4}, []int{d.Slot, d.Slots}, name)
		assert.Equal(t, "00000001", d.Serial, name)
	}
	card := all["sdf"]
	assert.Equal(t, int64(15523840*512), card.Size)
	assert.Equal(t, "Eight-in-One Reader", card.USB.Name)
	assert.Equal(t, disks.FileSystem{Kind: layout.ExFATKind, Label: "CAMERA"}, card.FS)
	assert.Zero(t, all["sdd"].Size)
	assert.Equal(t, disks.USB, all["sdh"].Bus)
	assert.False(t, all["sdh"].Removable)
	assert.Equal(t, "/run/media/wren/backup", all["sdh"].Mounts[0].Point)
	assert.Equal(t, disks.Network, all["nbd0"].Bus)
	assert.Equal(t, disks.Loop, all["loop0"].Bus)
}

func TestBoardThatRunsFromItsCard(t *testing.T) {
	all := list(t, "board.tree")
	own := all["mmcblk0"]
	assert.ElementsMatch(t, []disks.SystemUse{
		{How: disks.Mounted, Point: "/"}, {How: disks.Mounted, Point: "/boot/firmware"},
	}, own.System)
	assert.Equal(t, []register.Remark{{What: register.NoCID}}, own.SD.Remarks(own.Size, time.Now()))
	assert.Equal(t, disks.EMMC, all["mmcblk1"].Bus)
	assert.Equal(t, disks.BootArea, all["mmcblk1boot0"].Unfit)
	assert.Equal(t, []disks.Swap{{Path: "/dev/sda1"}}, all["sda"].Swaps)
	assert.Empty(t, all["sda"].System)
}

func TestRootInAContainerAndOnALiveStick(t *testing.T) {
	all := list(t, "container.tree")
	assert.Equal(t, []disks.SystemUse{{How: disks.Started}}, all["nvme0n1"].System)
	assert.Empty(t, all["sda"].System)
	all = list(t, "live.tree")
	assert.Contains(t, all["sda"].System, disks.SystemUse{How: disks.Mounted, Point: "/"})
	assert.Contains(t, all["loop0"].System, disks.SystemUse{How: disks.Mounted, Point: "/"})
	assert.Equal(t, []disks.Holder{{Name: "loop0", File: "/live/medium/live/root.squashfs"}}, all["sda"].Holders)
	assert.Empty(t, all["sdb"].System)
}

func TestServer(t *testing.T) {
	all := list(t, "raid.tree")
	for _, name := range []string{"sda", "sdb"} {
		assert.Equal(t, []disks.SystemUse{{How: disks.Mounted, Point: "/"}}, all[name].System, name)
		assert.Equal(t, []disks.Holder{{Made: disks.RAID, Name: "md0"}}, all[name].Holders, name)
	}
	assert.Equal(t, disks.RAID, all["md0"].Made)
	assert.Equal(t, []disks.Holder{{Made: disks.Bcache, Name: "bcache0"}}, all["sdc"].Holders)
	assert.Equal(t, []disks.SystemUse{{How: disks.Mounted, Point: "/srv/archive"}}, all["sdc"].System)
	assert.Equal(t, disks.Network, all["sdd"].Bus)
	assert.Equal(t, disks.Machine, all["vda"].Bus)
	assert.Empty(t, all["vda"].Title())
	assert.Equal(t, "/guests", all["vda"].Mounts[0].Point, "as the first process sees it")
	assert.Equal(t, "Nobody Storage 4096GB", all["sde"].Title())
}

func TestThisComputer(t *testing.T) {
	all, err := linux.Tree{Root: "/"}.List()
	require.NoError(t, err)
	for _, d := range all {
		assert.NotEmpty(t, d.Bus, d.Name)
		assert.NotZero(t, d.Key, d.Name)
	}
	_, err = linux.Tree{Root: t.TempDir()}.List()
	assert.ErrorContains(t, err, "sysfs is not mounted")
	t.Log(fmt.Sprint(len(all), " disks"))
}
