package layout

import (
	"bytes"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/testbed"
)

// contents are a disk's.
func contents(t testing.TB, mib int64, commands string) []byte {
	t.Helper()
	data, err := io.ReadAll(io.NewSectionReader(disk(t, mib, commands), 0, mib<<20))
	require.NoError(t, err)
	return data
}

func faultsOfExt(t testing.TB, data []byte) []ExtFault {
	t.Helper()
	v, err := OpenExt(bytes.NewReader(data), int64(len(data)))
	if err != nil || !v.SumRight {
		return []ExtFault{{What: "superblock"}}
	}
	nodes, err := v.Nodes()
	if err != nil {
		return []ExtFault{{What: err.Error()}}
	}
	faults, err := v.Check(nodes)
	require.NoError(t, err)
	for _, n := range nodes {
		if !n.SumRight {
			faults = append(faults, ExtFault{n.At, "inode"})
		}
	}
	return faults
}

// TestExtIsAsTheReferenceSays checks file systems that the reference made and used, whole ones and ones with a bit
// flipped in what the reference finds.
func TestExtIsAsTheReferenceSays(t *testing.T) {
	testbed.NeedTool(t, "e2fsck", "debugfs")
	use := `; for f in a b c d e f g h; do head -c 70000 /dev/urandom >$f; printf "write $f $f\nmkdir dir$f\n` +
		`cd dir$f\nwrite $f $f\ncd /\n" >>s; done; printf "rm a\nrm dirb/b\nmkdir dirh/x\n" >>s; ` +
		`debugfs -w -f s disk >/dev/null 2>&1`
	found, all := 0, 0
	for i, make := range []string{
		"mkfs.ext4 -q -F disk", "mkfs.ext4 -q -F -O ^metadata_csum,uninit_bg disk",
		"mkfs.ext4 -q -F -O ^metadata_csum,^uninit_bg disk", "mkfs.ext2 -q -F disk", "mkfs.ext3 -q -F -b 1024 disk",
		"mkfs.ext4 -q -F -b 1024 -O ^64bit,^sparse_super,^resize_inode disk",
		"mkfs.ext4 -q -F -O sparse_super2,^resize_inode disk",
		"mkfs.ext4 -q -F -b 1024 disk 20M; truncate -s 40M disk; resize2fs disk >/dev/null 2>&1",
	} {
		data := contents(t, 40, make+use)
		require.Empty(t, faultsOfExt(t, data), make)
		random := rand.New(rand.NewPCG(8, uint64(i)))
		v, err := OpenExt(bytes.NewReader(data), int64(len(data)))
		require.NoError(t, err)
		tables, err := v.Metadata()
		require.NoError(t, err)
		if nodes, err := v.Nodes(); err == nil { // the blocks that are kept for more descriptors
			i := slices.IndexFunc(nodes, func(n *ExtNode) bool { return n.Number == extResize })
			if i >= 0 && len(nodes[i].Extents) > 0 {
				e := nodes[i].Extents[0]
				tables = append(tables, Extent{e.Offset, min(e.Length, 8*v.block)})
			}
		}
		path := filepath.Join(t.TempDir(), "bad")
		for range 12 {
			e := tables[random.IntN(len(tables))]
			at, bit := e.Offset+random.Int64N(e.Length), byte(1)<<random.IntN(8)
			data[at] ^= bit
			require.NoError(t, os.WriteFile(path, data, 0o600))
			out, err := exec.Command("e2fsck", "-fn", path).CombinedOutput()
			if err != nil {
				all++
				if len(faultsOfExt(t, data)) > 0 {
					found++
				} else {
					t.Logf("%s: at %d: %s", make, at, out)
				}
			}
			data[at] ^= bit
		}
	}
	assert.Equal(t, all, found, "what the reference finds")
	assert.Greater(t, all, 20)
}

// TestFATIsAsTheReferenceSays does the same with FAT.
func TestFATIsAsTheReferenceSays(t *testing.T) {
	testbed.NeedTool(t, "fsck.vfat", "mcopy", "mmd", "mdel")
	use := "; for f in a b c d 'long name of e' f g h; do head -c 70000 /dev/urandom >\"$f\";" +
		" mmd -i disk \"::dir $f\"; mcopy -i disk \"$f\" ::; mcopy -i disk \"$f\" \"::dir $f/\"; done;" +
		" mdel -i disk ::b; mmd -i disk '::dir a/below'; head -c 0 /dev/urandom >empty;" +
		" mcopy -i disk empty '::dir a/below/'"
	found, all := 0, 0
	for i, make := range []struct {
		mib  int64
		with string
	}{
		{8, "mkfs.vfat -F 12 -n SALTBOOT disk >/dev/null"},
		{24, "mkfs.vfat -F 16 disk >/dev/null"},
		{48, "mkfs.vfat -F 32 -s 1 -n SALTBOOT disk >/dev/null"},
		{48, "mkfs.vfat -F 32 -s 1 -f 1 disk >/dev/null"},
	} {
		data := contents(t, make.mib, make.with+use)
		faults := func() []string {
			v, err := OpenFAT(bytes.NewReader(data))
			if err != nil {
				return []string{err.Error()}
			}
			c, err := v.Check()
			require.NoError(t, err)
			return c.Faults
		}
		require.Empty(t, faults(), make.with)
		v, err := OpenFAT(bytes.NewReader(data))
		require.NoError(t, err)
		check, err := v.Check()
		require.NoError(t, err)
		assert.Len(t, check.Files, 16)
		random := rand.New(rand.NewPCG(9, uint64(i)))
		path := filepath.Join(t.TempDir(), "bad")
		for n := range 24 {
			at := random.Int64N(512)
			switch n % 4 {
			case 1: // where the tables have something
				at = v.reservedEnd + random.Int64N(2500)
			case 2:
				at = v.copy + random.Int64N(2500)
			case 3:
				folder := check.Folders[random.IntN(len(check.Folders))]
				at = folder.Offset + random.Int64N(400)
			}
			bit := byte(1) << random.IntN(8)
			data[at] ^= bit
			require.NoError(t, os.WriteFile(path, data, 0o600))
			if out, err := exec.Command("fsck.vfat", "-n", path).CombinedOutput(); err != nil {
				all++
				if len(faults()) > 0 {
					found++
				} else {
					t.Logf("%s: at %d: %s", make.with, at, out)
				}
			}
			data[at] ^= bit
		}
	}
	assert.Equal(t, all, found, "what the reference finds")
	assert.Greater(t, all, 30)
}
