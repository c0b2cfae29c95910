package recheck

import (
	"context"
	"encoding/binary"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/practice"
	"zipstamp/internal/layout"
	"zipstamp/internal/testbed"
)

// extStart is where the second partition of the system starts, bytes.
const extStart = 32 << 20

// system makes an image as boards have: a boot partition (FAT) and one for the system (ext4).
func system(t *testing.T) []byte {
	testbed.NeedTool(t, "sh", "mkfs.ext4", "mkfs.vfat", "mcopy", "sfdisk", "debugfs")
	dir := t.TempDir()
	out, err := exec.Command("sh", "-ec", fmt.Sprintf(`cd %s
		mkdir -p files/etc files/var/log; echo "high water" > files/etc/tides
		head -c 400000 /dev/urandom > files/etc/table; echo start > files/var/log/boot
		truncate -s 56M disk.img
		printf 'label: dos\nlabel-id: 0x5a17a001\n2048,61440,c\n65536,,83\n' | sfdisk -q disk.img
		head -c 440 /dev/urandom | dd of=disk.img conv=notrunc status=none
		truncate -s 30M boot.img; mkfs.vfat -F 16 boot.img >/dev/null
		head -c 300000 /dev/urandom > kernel.img; echo quiet > cmdline.txt; mcopy -i boot.img kernel.img cmdline.txt ::
		mkfs.ext4 -q -F -d files root.img 24M
		dd if=boot.img of=disk.img bs=1M seek=1 conv=notrunc status=none
		dd if=root.img of=disk.img bs=1M seek=32 conv=notrunc status=none`, dir)).CombinedOutput()
	require.NoError(t, err, "%s", out)
	img, err := os.ReadFile(filepath.Join(dir, "disk.img"))
	require.NoError(t, err)
	return img
}

// debugfs does something to the system's ext4 file system, as a board would, and gives what it prints.
func debugfs(t *testing.T, img []byte, commands string) string {
	path := filepath.Join(t.TempDir(), "root.img")
	require.NoError(t, os.WriteFile(path, img[extStart:], 0o600))
	out, err := exec.Command("sh", "-ec", "printf '"+commands+"' | debugfs -w -f - "+path+" 2>&1").CombinedOutput()
	require.NoError(t, err, "%s", out)
	changed, err := os.ReadFile(path)
	require.NoError(t, err)
	copy(img[extStart:], changed)
	return string(out)
}

// TestWhatAStartExplains changes a stamped card in one place after another, as boards do and as damage does.
func TestWhatAStartExplains(t *testing.T) {
	img := system(t)
	fileAt := func(name string) int64 {
		f, err := os.CreateTemp(t.TempDir(), "")
		require.NoError(t, err)
		defer f.Close()
		_, err = f.Write(img[extStart:])
		require.NoError(t, err)
		v, err := layout.OpenExt(f, 1<<62)
		require.NoError(t, err)
		nodes, err := v.Nodes()
		require.NoError(t, err)
		for _, n := range nodes {
			if n.Path == name {
				return extStart + n.Extents[0].Offset
			}
		}
		t.Fatal("no file " + name)
		return 0
	}
	mount := "ssv mnt_count 7\\nssv wtime 20400101000000\\n"
	table, tides := fileAt("/etc/table"), fileAt("/etc/tides")
	flip := func(at int64) func([]byte) { return func(p []byte) { p[at] ^= 0x40 } }
	both := func(do ...func([]byte)) func([]byte) {
		return func(p []byte) {
			for _, d := range do {
				d(p)
			}
		}
	}
	mounted := func(p []byte) { debugfs(t, p, mount) }
	kernel := int64(1<<20 + 200<<10)
	for what, c := range map[string]struct {
		change func([]byte)
		want   string // "use", "damage", "unsure"
		name   string // of an area: what it is, and the path
	}{
		"nothing": {func([]byte) {}, "same", ""},
		"a start": {mounted, "use", "tables"},
		"a start that writes a file": {func(p []byte) {
			debugfs(t, p, mount+"sif /etc/tides mtime 20400101000000\\nsif /etc/tides ctime 20400101000000\\n")
			p[tides] ^= 1
		}, "use", "file /etc/tides"},
		"a new file": {
			func(p []byte) {
				debugfs(
					t, p, mount+"write /etc/hostname /new\\nsif / mtime 20400101000000\\n",
				)
			}, "use", "tables",
		},
		"the number of the disk": {flip(441), "use", "partition table"},
		"the last partition grows": {
			func(p []byte) { binary.LittleEndian.PutUint32(p[446+16+12:], 60000) }, "use", "partition table",
		},
		"boot code":            {flip(100), "damage", "boot code"},
		"type of a partition":  {func(p []byte) { p[446+16+4] = 0x82 }, "damage", "partition table"},
		"start of a partition": {func(p []byte) { p[446+8] = 1 }, "damage", "partition table"},
		"the first partition grows": {
			func(p []byte) { binary.LittleEndian.PutUint32(p[446+12:], 61441) }, "damage", "partition table",
		},
		"data of a file, never mounted": {flip(table), "damage", "partition"},
		"data of a file, after a start": {both(mounted, flip(table+5000)), "damage", "file /etc/table"},
		"a bitmap, never mounted": {
			func(p []byte) { p[extStart+groupBlock(p, 0)] ^= 1 }, "damage", "partition",
		},
		"the superblock": {flip(extStart + 1024 + 0x78), "damage", "superblock"},
		"an inode, after a start": {
			both(mounted, func(p []byte) { p[extStart+groupBlock(p, 8)+11*256+40+20] ^= 1 }), "damage", "inode /etc",
		},
		"the kernel":                       {flip(kernel), "damage", "file kernel.img"},
		"the kernel, with a start of ext4": {both(mounted, flip(kernel)), "damage", "file kernel.img"},
		"between table and partition":      {flip(600 << 10), "damage", "outside"},
	} {
		t.Run(what, func(t *testing.T) {
			changed := append([]byte(nil), img...)
			c.change(changed)
			dir := t.TempDir()
			d := insert(t, dir, changed, practice.Spec{})
			defer d.Close()
			f, contents := imageOf(t, dir, img, false)
			defer f.Close()
			rep, err := Job{Device: d, Image: f, Contents: contents}.Run(context.Background())
			require.NoError(t, err)
			got := "damage"
			switch {
			case rep.Same():
				got = "same"
			case rep.Started() && rep.Unsure() > 0:
				got = "unsure"
			case rep.Started():
				got = "use"
			}
			assert.Equal(t, c.want, got, "%+v", rep.Areas)
			names := []string{""}
			for _, a := range rep.Areas {
				names = append(names, strings.TrimSpace(string(a.What)+" "+a.Path))
			}
			assert.Contains(t, names, c.name)
		})
	}
}

// groupBlock is where something of the first group is, bytes, by its place in the group's descriptor: 0 for the bitmap
// of blocks, 8 for the inodes.
func groupBlock(p []byte, at int) int {
	block := 1024 << binary.LittleEndian.Uint32(p[extStart+1024+24:])
	descriptors := block
	if block == 1024 {
		descriptors = 2048
	}
	return int(binary.LittleEndian.Uint32(p[extStart+descriptors+at:])) * block
}
