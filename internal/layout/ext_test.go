package layout

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/testbed"
)

// extImage makes a file system of some kind with files in it, and gives their folder.
func extImage(t testing.TB, options string) (path, folder string) {
	testbed.NeedTool(t, "sh", "mkfs.ext4")
	dir := t.TempDir()
	folder = filepath.Join(dir, "files")
	require.NoError(t, os.MkdirAll(filepath.Join(folder, "etc/tides"), 0o755))
	for name, size := range map[string]int{
		"a.txt": 10, "etc/tides/week.txt": 5000, "etc/large.bin": 3 << 20, "b c.txt": 70_000,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(folder, name),
			bytes.Repeat([]byte(name+"\n"), size/(len(name)+1)+1), 0o644))
	}
	for i := range 300 { // a folder with an index
		require.NoError(t, os.WriteFile(filepath.Join(folder, "etc/tides",
			strings.Repeat("x", 20)+string(rune('a'+i%26))+strings.Repeat("y", i/26)), []byte("t"), 0o644))
	}
	path = filepath.Join(dir, "fs.img")
	out, err := exec.Command("sh", "-ec", "mkfs.ext4 -q -F "+options+" -d "+folder+" "+path+" 24M").CombinedOutput()
	require.NoError(t, err, "%s", out)
	return path, folder
}

func TestExtKnowsWhoseBlocksAre(t *testing.T) {
	for _, options := range []string{
		"", "-t ext2", "-t ext3 -b 1024", "-b 1024 -O ^64bit", "-O ^metadata_csum", "-b 4096 -I 128",
		"-O metadata_csum_seed",
	} {
		path, folder := extImage(t, options)
		f, err := os.Open(path)
		require.NoError(t, err)
		defer f.Close()
		v, err := OpenExt(f, 24<<20)
		require.NoError(t, err, options)
		assert.True(t, v.SumRight, options)
		nodes, err := v.Nodes()
		require.NoError(t, err, options)
		byPath := map[string]*ExtNode{}
		for _, n := range nodes {
			byPath[n.Path] = n
			assert.True(t, n.SumRight, "%s: inode %d", options, n.Number)
		}
		assert.Greater(t, len(byPath), 305, options)
		for _, name := range []string{"a.txt", "etc/tides/week.txt", "etc/large.bin", "b c.txt"} {
			want, err := os.ReadFile(filepath.Join(folder, name))
			require.NoError(t, err)
			n := byPath["/"+name]
			require.NotNil(t, n, "%s: %s", options, name)
			var got []byte
			for _, s := range n.Extents {
				part := make([]byte, s.Length)
				_, err := io.ReadFull(io.NewSectionReader(f, s.Offset, s.Length), part)
				require.NoError(t, err)
				got = append(got, part...)
			}
			// blocks of numbers are between those of the file
			if strings.Contains(options, "ext2") || strings.Contains(options, "ext3") {
				assert.True(t, bytes.Contains(got, want[:min(len(want), 1024)]), "%s: %s", options, name)
				continue
			}
			require.GreaterOrEqual(t, len(got), len(want), "%s: %s", options, name)
			assert.True(t, bytes.Equal(want, got[:len(want)]), "%s: %s", options, name)
		}
	}
}

// counting counts the bytes that are read.
type counting struct {
	io.ReaderAt
	bytes int64
}

func (c *counting) ReadAt(p []byte, off int64) (int, error) {
	c.bytes += int64(len(p))
	return c.ReaderAt.ReadAt(p, off)
}

// A crafted file system whose trees lead back to themselves, or whose files share their blocks, must not be read
// without end.
func TestExtThatLeadsBackToItself(t *testing.T) {
	for name, craft := range map[string]func(data, root []byte){
		"a tree of extents": func(data, root []byte) {
			const block, entries = 3000, 84 // of 12 bytes, behind a header of 12
			node := func(p []byte, count, depth int) {
				clear(p)
				copy(p, []byte{0x0A, 0xF3, byte(count), 0, byte(count), 0, byte(depth)})
				for i := range count {
					le.PutUint32(p[12+12*i+4:], block)
				}
			}
			node(root[40:100], 4, 5)
			node(data[block<<10:(block+1)<<10], entries, 1)
		},
		"trees of numbers": func(data, root []byte) {
			const block = 3000
			root[34] &^= 8 // no extents
			for i := range 15 {
				le.PutUint32(root[40+4*i:], block)
			}
			for i := range 256 {
				le.PutUint32(data[block<<10+4*i:], block)
			}
		},
		"a folder that is the disk, many times": func(data, root []byte) {
			copy(root[40:], []byte{0x0A, 0xF3, 4, 0, 4, 0, 0, 0})
			for i := range 4 {
				copy(root[52+12*i:], []byte{0, 0, 0, 0, 0, 80, 0, 0, 1, 0, 0, 0}) // 20480 blocks from the first on
			}
		},
	} {
		path, _ := extImage(t, "-b 1024")
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		v, err := OpenExt(bytes.NewReader(data), int64(len(data)))
		require.NoError(t, err)
		_, _, table, _, err := v.tables(0)
		require.NoError(t, err)
		craft(data, data[table*v.block+v.inodeSize:][:v.inodeSize])
		reads := &counting{ReaderAt: bytes.NewReader(data)}
		v, err = OpenExt(reads, int64(len(data)))
		require.NoError(t, err)
		_, err = v.Nodes()
		assert.ErrorContains(t, err, "claim more blocks", name)
		assert.Less(t, reads.bytes, int64(3*len(data)), name)
	}
	path, _ := extImage(t, "")
	f, err := os.Open(path)
	require.NoError(t, err)
	defer f.Close()
	_, err = OpenExt(f, 24<<20-1)
	assert.Error(t, err, "it is larger than its room")
}

// FuzzExt reads file systems with any bytes in any place: none makes it read without end.
func FuzzExt(f *testing.F) {
	small := make([]byte, 64<<10)
	copy(small[1024+56:], "\x53\xef")
	f.Add(small, 0, byte(0))
	path, _ := extImage(f, "-b 1024 -N 400")
	data, err := os.ReadFile(path)
	require.NoError(f, err)
	f.Add(data[:2<<20], 1100, byte(3))
	f.Fuzz(func(t *testing.T, data []byte, at int, b byte) {
		if len(data) > 4<<20 || len(data) == 0 {
			return
		}
		data = bytes.Clone(data)
		data[uint(at)%uint(len(data))] = b
		v, err := OpenExt(bytes.NewReader(data), int64(len(data)))
		if err != nil {
			return
		}
		_, _ = v.Metadata()
		_, _ = v.Nodes()
	})
}
