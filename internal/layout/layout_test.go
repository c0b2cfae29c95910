package layout

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/bits"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/testbed"
)

// made makes a file system as a file of its own.
func made(t *testing.T, size int64, v New) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "volume")
	f, err := os.Create(path)
	require.NoError(t, err)
	defer f.Close()
	require.NoError(t, f.Truncate(size))
	if v != nil {
		require.NoError(t, writeFrom(f, 0, v.Metadata()))
	}
	return path
}

// sound has a reference tool find no fault.
func sound(t *testing.T, what, tool string, args ...string) string {
	t.Helper()
	out, err := exec.Command(tool, args...).CombinedOutput()
	require.NoError(t, err, "%s: %s", what, out)
	for _, bad := range []string{"differ", "irty", "wrong", "rror", "corrupt", "mismatch", "invalid", "ERROR", "WARN"} {
		assert.NotContains(t, string(out), bad, what)
	}
	return string(out)
}

// TestFATWithFilesIsSound has the reference tools check volumes of several sizes, and read all files back.
func TestFATWithFilesIsSound(t *testing.T) {
	testbed.NeedTool(t, "fsck.vfat", "mcopy", "mdir")
	day := time.Date(2026, 5, 1, 9, 30, 2, 0, time.UTC)
	for _, c := range []struct {
		kind    FSKind
		size    int64
		cluster int
	}{
		{FAT16Kind, 3 << 20, 512},
		{FAT16Kind, 9 << 20, 2048},
		{FAT16Kind, 65535 * 512, 2048},
		{FAT16Kind, 65536 * 512, 2048},
		{FAT16Kind, 500 << 20, 8192},
		{FAT32Kind, 52 << 20, 512},
		{FAT32Kind, 400 << 20, 4096},
		{FAT32Kind, 8 << 30, 32 << 10},
	} {
		what := fmt.Sprint(c.kind, " ", c.size)
		random := rand.New(rand.NewPCG(1, uint64(c.size)))
		v := NewFAT{Wanted: c.kind, Label: "SALTBOOT", Serial: 0x5A170007, Sector: 512, Size: c.size, Time: day}
		var data [][]byte
		for i, size := range []int{0, 1, c.cluster - 1, c.cluster, c.cluster + 1, 300_000} {
			d := make([]byte, size)
			for j := range d {
				d[j] = byte(random.Uint32())
			}
			for _, name := range []string{
				"file%d.bin", "folder/FILE%d.IMG", "folder/deep er/Gezeitentafeln März, %d.csv",
			} {
				v.Files = append(v.Files, NewFile{Path: fmt.Sprintf(name, i), Size: int64(size), Modified: day})
				data = append(data, d)
			}
		}
		for i := range 30 { // names whose short ones would be the same
			v.Files = append(v.Files, NewFile{Path: fmt.Sprintf("brindle tide %d.dtbo", i), Size: 0})
			data = append(data, nil)
		}
		v.Files = append(v.Files, NewFile{Path: "empty folder", Folder: true}, NewFile{Path: "BRINDL~1.DTB"})
		p, err := v.Plan()
		require.NoError(t, err, what)
		assert.EqualValues(t, c.cluster, p.clusterBytes(), what)
		path := made(t, c.size, nil)
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		require.NoError(t, err)
		require.NoError(t, p.WriteTo(f, func(i int) []byte { return data[i] }))
		require.NoError(t, f.Close())
		sound(t, what, "fsck.vfat", "-n", "-v", path)
		for i, d := range data {
			out, err := exec.Command("mcopy", "-n", "-i", path, "::"+v.Files[i].Path, "-").Output()
			require.NoError(t, err, v.Files[i].Path)
			assert.True(t, bytes.Equal(d, out), v.Files[i].Path)
		}
		assert.Contains(t, sound(t, what, "mdir", "-i", path, "::"), "2026-05-01   9:30")
	}
}

// TestFATThatCannotBe is what a FAT file system can't hold, by its reason.
func TestFATThatCannotBe(t *testing.T) {
	file := func(paths ...string) (files []NewFile) {
		for _, p := range paths {
			files = append(files, NewFile{Path: p, Size: 1})
		}
		return files
	}
	long := strings.Repeat("x", 255)
	for _, c := range []struct {
		files  []NewFile
		why    FileFault
		path   string
		detail string
	}{
		{[]NewFile{{Path: "sea/video.bin", Size: 1 << 32}}, FileTooLarge, "sea/video.bin", ""},
		{file("a/b:c/d"), NameInvalid, "a/b:c", ":"},
		{file("a\\b"), NameInvalid, "a\\b", "\\"},
		{file("a\x01"), NameInvalid, "a\x01", "\x01"},
		{file("a\xff"), NameInvalid, "a\xff", ""},
		{file("readme."), NameEnds, "readme.", ""},
		{file("a /b"), NameEnds, "a ", ""},
		{file(long + "x"), NameTooLong, long + "x", ""},
		{file(long + "/y"), PathTooLong, long + "/y", ""},
		{file("Readme.txt", "README.TXT"), NameTwice, "README.TXT", "Readme.txt"},
		{file("boot", "Boot/kernel"), NameTwice, "Boot", "boot"},
		{file("Märzflut", "MÄRZFLUT"), NameTwice, "MÄRZFLUT", "Märzflut"},
		{file("a", "a"), NameTwice, "a", "a"},
	} {
		_, err := NewFAT{Wanted: FAT32Kind, Sector: 512, Size: 64 << 20, Files: c.files}.Plan()
		assert.Equal(t, &FileError{c.path, c.why, c.detail}, err)
	}
	many := []NewFile{}
	for i := range 33_000 {
		many = append(many, NewFile{Path: fmt.Sprintf("tides/%06d.csv.gz", i)})
	}
	_, err := NewFAT{Wanted: FAT32Kind, Sector: 512, Size: 64 << 20, Files: many}.Plan()
	assert.Equal(t, &FileError{"tides", FolderFull, ""}, err)
	_, err = NewFAT{Wanted: FAT32Kind, Sector: 512, Size: 64 << 20, Files: many[:32_000]}.Plan()
	assert.NoError(t, err)

	for size, kind := range map[int64]FSKind{2 << 20: FAT16Kind, 3 << 30: FAT16Kind, 32 << 20: FAT32Kind} {
		_, err := NewFAT{Wanted: kind, Sector: 512, Size: size}.Plan()
		assert.ErrorIs(t, err, ErrTooSmall, "%s of %d", kind, size)
	}
	var room *NoRoomError
	big := []NewFile{{Path: "a", Size: 70e6}}
	_, err = NewFAT{Wanted: FAT32Kind, Sector: 512, Size: 64 << 20, Files: big}.Plan()
	require.ErrorAs(t, err, &room)
	_, err = NewFAT{Wanted: FAT32Kind, Sector: 512, Size: room.Need, Files: big}.Plan()
	require.ErrorAs(t, err, &room, "its tables are larger then")
	_, err = NewFAT{Wanted: FAT32Kind, Sector: 512, Size: room.Need + 8<<10, Files: big}.Plan()
	assert.NoError(t, err)
}

// TestExFATIsSound has the reference tool check empty file systems from 64 MB to 2 TB.
func TestExFATIsSound(t *testing.T) {
	testbed.NeedTool(t, "fsck.exfat")
	for _, c := range []struct {
		size   int64
		sector int
		label  string
	}{
		{64e6, 512, ""},
		{1 << 30, 512, "tide tables"},
		{32e9, 4096, "Tides"},
		{64e9, 512, "Gezeiten ä"},
		{128e9, 512, ""},
		{400e9, 512, "TIDES"},
		{1e12, 512, "TIDES"},
		{2 << 40, 512, "TIDES"},
	} {
		align := ExFATAlign(c.size)
		v := NewExFAT{
			Label: c.label, Serial: 0x5A170008, Sector: c.sector, Start: align, Size: (c.size - align) / align * align,
		}
		p, err := v.Plan()
		require.NoError(t, err)
		assert.Zero(t, (p.heap*int64(c.sector))%align, "the data area is aligned")
		path := made(t, v.Size, p)
		if c.sector == 512 { // the tool takes a file's sectors for 512 bytes
			out := sound(t, fmt.Sprint(c.size), "fsck.exfat", "-n", path)
			assert.Contains(t, out, "clean")
		}
		f, err := os.Open(path)
		require.NoError(t, err)
		fs, err := Identify(f)
		require.NoError(t, err)
		assert.Equal(t, FileSystem{ExFATKind, c.label, v.Size, fs.UUID}, fs)
		info, err := f.Stat()
		require.NoError(t, err)
		assert.Equal(t, v.Size, info.Size(), "nothing was written behind its end")
		f.Close()
	}
	_, err := NewExFAT{Sector: 512, Start: AlignTo, Size: 4 << 20}.Plan()
	assert.ErrorIs(t, err, ErrTooSmall)
	sum := uint32(0)
	for _, b := range upcaseTable {
		sum = bits.RotateLeft32(sum, -1) + uint32(b)
	}
	assert.Equal(t, uint32(0xE619D30D), sum, "the table of the specification")
}

func TestMBR(t *testing.T) {
	mbr := MBR(0x01020304, Partition{Type: TypeFAT16LBA, Active: true, Start: 2048, Sectors: 4096})
	assert.Equal(t, "55aa", fmt.Sprintf("%x", mbr[510:]))
	assert.EqualValues(t, 0x01020304, binary.LittleEndian.Uint32(mbr[440:]))
	assert.EqualValues(t, []uint32{2048, 4096}, []uint32{
		binary.LittleEndian.Uint32(mbr[454:]), binary.LittleEndian.Uint32(mbr[458:]),
	})
	assert.Equal(t, byte(0x80), mbr[446])
}
