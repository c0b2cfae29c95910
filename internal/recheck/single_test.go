package recheck

import (
	"context"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/practice"
	"zipstamp/internal/digest"
	"zipstamp/internal/layout"
	"zipstamp/internal/testbed"
)

// Where the partitions of the trials are, bytes.
const (
	trialFAT, trialFATEnd = 4 << 20, 44 << 20
	trialExt, trialEnd    = 44 << 20, 64 << 20
)

// trialImage is a system with a FAT32 and an ext file system.
func trialImage(t *testing.T, mkfs string) []byte {
	testbed.NeedTool(t, "sh", "mkfs.ext4", "mkfs.vfat", "mcopy", "sfdisk", "debugfs", "e2fsck", "resize2fs",
		"fsck.vfat")
	dir := t.TempDir()
	out, err := exec.Command("sh", "-ec", fmt.Sprintf(`cd %s
		export MTOOLS_SKIP_CHECK=1
		mkdir -p files/etc files/var/log files/usr/lib
		for i in $(seq 40); do head -c $((i * 3000)) /dev/urandom > files/usr/lib/lib$i.so; done
		for i in 1 2 3 4 5 6; do head -c 9000 /dev/urandom > files/var/log/tide$i; done
		truncate -s 64M disk.img
		printf 'label: dos\nlabel-id: 0x5a17a001\n8192,81920,c\n90112,,83\n' | sfdisk -q disk.img
		truncate -s 40M boot.img; mkfs.vfat -F 32 -s 1 -n SALTBOOT boot.img >/dev/null
		mmd -i boot.img ::overlays
		for i in $(seq 12); do head -c $((i * 9000)) /dev/urandom > o$i.dtbo
		mcopy -i boot.img o$i.dtbo ::overlays; done
		head -c 300000 /dev/urandom > kernel8.img; echo quiet > cmdline.txt; echo tides > notes.txt
		mcopy -i boot.img kernel8.img cmdline.txt notes.txt ::
		%s -d files root.img 20M
		dd if=boot.img of=disk.img bs=1M seek=4 conv=notrunc status=none
		dd if=root.img of=disk.img bs=1M seek=44 conv=notrunc status=none`, dir, mkfs)).CombinedOutput()
	require.NoError(t, err, "%s", out)
	img, err := os.ReadFile(filepath.Join(dir, "disk.img"))
	require.NoError(t, err)
	return img
}

// use does something to a part of a disk by a program that knows its file system.
func use(t *testing.T, img []byte, from, to int, command string) {
	dir := t.TempDir()
	path := filepath.Join(dir, "part")
	require.NoError(t, os.WriteFile(path, img[from:to], 0o600))
	cmd := exec.Command("sh", "-ec", command)
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "MTOOLS_SKIP_CHECK=1")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	changed, err := os.ReadFile(path)
	require.NoError(t, err)
	copy(img[from:to], changed)
}

// states are what a card has been through when something on it is changed.
var states = map[string]func(t *testing.T, img []byte){
	"stamped": func(*testing.T, []byte) {},
	"started": func(t *testing.T, img []byte) {
		use(t, img, trialExt, trialEnd,
			"printf 'ssv mnt_count 7\nssv wtime 20400101000000\n' | debugfs -w -f - part >/dev/null 2>&1")
	},
	"grown": func(*testing.T, []byte) {},
	"used": func(t *testing.T, img []byte) {
		use(t, img, trialExt, trialEnd,
			`head -c 50000 /dev/urandom > new; printf 'ssv mnt_count 9\nssv wtime 20400101000000
write new /var/log/new\nrm /var/log/tide2\nsif /var/log mtime 20400101000000\nsif /var/log ctime 20400101000000
sif /usr/lib/lib7.so atime 20400101000000\nmkdir /home\nsif / mtime 20400101000000\nsif / ctime 20400101000000
' | debugfs -w -f - part >/dev/null 2>&1`)
		use(t, img, trialFAT, trialFATEnd,
			`head -c 70000 /dev/urandom > log.txt; mcopy -i part log.txt ::log.txt; echo more > notes.txt
mdel -i part ::notes.txt; mcopy -i part notes.txt ::notes.txt
mmd -i part ::tides; mcopy -i part log.txt ::tides/log.txt`)
	},
}

// grow makes a card larger, and its last partition and file system with it, as a first start does.
func grow(t *testing.T, img []byte) []byte {
	const end = 96 << 20
	img = append(img, make([]byte, end-len(img))...)
	binary.LittleEndian.PutUint32(img[446+16+12:], (end-trialExt)/512)
	use(t, img, trialExt, end, "e2fsck -fy part >/dev/null 2>&1 || true; resize2fs part >/dev/null 2>&1")
	return img
}

// where says what a place on a card is, and whether damage there must be found: not in what has been written since the
// stamp, nor where nothing is.
func where(t *testing.T, img, now []byte, at int) (what string, must bool) {
	switch {
	case at < trialFAT:
		return "table", false
	case at < trialFATEnd:
		v, err := layout.OpenFAT(memory(now[trialFAT:trialFATEnd]))
		require.NoError(t, err)
		check, err := v.Check()
		require.NoError(t, err)
		require.Empty(t, check.Faults)
		in := int64(at - trialFAT)
		for _, f := range check.Files {
			all, err := v.Extents(f.FATFile)
			require.NoError(t, err)
			for _, e := range all {
				if in >= e.Offset && in < e.End() {
					return "file " + f.Path, string(now[at:at+1]) == string(img[at:at+1]) &&
						!written(img, now, trialFAT, e)
				}
			}
		}
		if in < v.Data() {
			return "FAT", true
		}
		for _, e := range check.Folders {
			if in >= e.Offset && in < e.End() {
				return "folder", true
			}
		}
		return "free", false
	}
	v, err := layout.OpenExt(memory(now[trialExt:]), int64(len(now))-trialExt)
	require.NoError(t, err)
	nodes, err := v.Nodes()
	require.NoError(t, err)
	in := int64(at - trialExt)
	for _, n := range nodes {
		for _, e := range n.Extents {
			if in >= e.Offset && in < e.End() {
				return "file " + n.Path, !n.Own && !n.Folder && !written(img, now, trialExt, e)
			}
		}
	}
	return "ext", false
}

// written tells whether a stretch isn't as in the image.
func written(img, now []byte, start int64, e layout.Extent) bool {
	return string(img[start+e.Offset:start+e.End()]) != string(now[start+e.Offset:start+e.End()])
}

// TestSingleChanges changes one place after another on cards that were stamped, started and used: no damage that shows
// is excused, and no use is called damage.
func TestSingleChanges(t *testing.T) {
	seed, trials := testbed.Seed(t), testbed.Trials(2, 12)
	counts := map[string]int{}
	kinds := []string{"mkfs.ext4 -q -F", "mkfs.ext4 -q -F -O ^metadata_csum", "mkfs.ext3 -q -F"}
	if !testbed.Long() {
		kinds = kinds[:2]
	}
	for i, mkfs := range kinds {
		img := trialImage(t, mkfs)
		for state, do := range states {
			card := append([]byte(nil), img...)
			do(t, card)
			if state == "grown" {
				card = grow(t, card)
			}
			verdict := func(card []byte) (string, *Report) {
				dir := t.TempDir()
				defer os.RemoveAll(dir) // there are many
				d := insert(t, dir, card, practice.Spec{})
				defer d.Close()
				f, contents := imageOf(t, dir, img, false)
				defer f.Close()
				rep, err := Job{Device: d, Image: f, Contents: contents}.Run(context.Background())
				require.NoError(t, err)
				switch {
				case rep.Same():
					return "same", rep
				case rep.Started() && rep.Unsure() > 0:
					return "unsure", rep
				case rep.Started():
					return "use", rep
				}
				return "damage", rep
			}
			clean, rep := verdict(card)
			want := "use"
			if state == "stamped" {
				want = "same"
			}
			require.Equal(t, want, clean, "%s, %s: %+v", mkfs, state, rep.Areas)
			random := rand.New(rand.NewPCG(seed, uint64(i)<<8+uint64(state[1])))
			for range trials {
				bad := append([]byte(nil), card...)
				at := change(bad, random)
				if string(bad) == string(card) {
					continue
				}
				what, must := where(t, img, card, at)
				if !must {
					must = referenceFinds(t, bad)
				}
				got, rep := verdict(bad)
				counts[fmt.Sprintf("%s: must show %v: %s", state, must, got)]++
				switch {
				case state == "stamped":
					assert.Equal(t, "damage", got, "%s: at %d, %s: %+v", mkfs, at, what, rep.Areas)
				case must:
					assert.Equal(t, "damage", got, "%s, %s: at %d, %s: %+v", mkfs, state, at, what, rep.Areas)
				}
			}
		}
	}
	t.Log(counts)
}

// change changes a sector in one of several ways, mostly where much depends on it.
func change(p []byte, random *rand.Rand) (at int) {
	switch random.IntN(4) {
	case 0:
		at = trialFAT + random.IntN(700<<10) // boot sectors, tables, the root and some files
	case 1:
		at = trialExt + random.IntN(2<<20)
	default:
		at = trialFAT + random.IntN(trialEnd-trialFAT)
	}
	sector := p[at/512*512:][:512]
	switch random.IntN(4) {
	case 0, 1:
		p[at] ^= 1 << random.IntN(8)
	case 2:
		clear(sector)
	case 3:
		for i := range sector {
			sector[i] = byte(random.Uint32())
		}
	}
	return at
}

// referenceFinds tells whether the reference programs find something wrong in a file system.
func referenceFinds(t *testing.T, p []byte) bool {
	dir := t.TempDir()
	defer os.RemoveAll(dir)
	path := filepath.Join(dir, "part")
	require.NoError(t, os.WriteFile(path, p[trialExt:], 0o600))
	if exec.Command("e2fsck", "-fn", path).Run() != nil {
		return true
	}
	require.NoError(t, os.WriteFile(path, p[trialFAT:trialFATEnd], 0o600))
	return exec.Command("fsck.vfat", "-n", path).Run() != nil
}

// memory is a disk in memory.
type memory []byte

func (m memory) ReadAt(p []byte, off int64) (int, error) { return copy(p, m[off:]), nil }

// TestAnotherSystem rechecks cards against images that they were never stamped with.
func TestAnotherSystem(t *testing.T) {
	two, three := trialImage(t, "mkfs.ext4 -q -F"), trialImage(t, "mkfs.ext4 -q -F")
	run := func(holds []byte, known *Known) *Report {
		dir := t.TempDir()
		d := insert(t, dir, holds, practice.Spec{})
		defer d.Close()
		f, contents := imageOf(t, dir, two, false)
		defer f.Close()
		rep, err := Job{Device: d, Image: f, Contents: contents, Known: known}.Run(context.Background())
		require.NoError(t, err)
		return rep
	}
	rep := run(three, nil)
	assert.Contains(t, rep.Holds, "the file system of partition 1 is")
	assert.False(t, rep.Started())
	used := append([]byte(nil), two...)
	states["used"](t, used)
	used[440] ^= 0x55 // the number of the disk, which a first start may change
	rep = run(used, nil)
	assert.Empty(t, rep.Holds)
	assert.True(t, rep.Started())
	blocks := func(img []byte) *Known {
		k := &Known{Name: "pondweed-3.img"}
		for at := 0; at < len(img); at += digest.BlockSize {
			k.Blocks = append(k.Blocks,
				digest.SumPart([]digest.Block{digest.SumBlock(img[at : at+digest.BlockSize])}, 1))
		}
		return k
	}
	assert.Empty(t, run(used, blocks(two)).Holds)
	rep = run(used, blocks(three))
	assert.Equal(t, "pondweed-3.img", rep.Holds)
	assert.False(t, rep.Started())
	assert.True(t, run(two, blocks(three)).Same(), "what is the image is the image")
}
