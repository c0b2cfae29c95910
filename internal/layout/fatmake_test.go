package layout

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// TestFATFitsAnyCard has the parts of a volume in their places, whatever the size; what the reference tools think of
// it, other tests ask.
func TestFATFitsAnyCard(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := NewFAT{
			Wanted: rapid.SampledFrom([]FSKind{FAT32Kind, FAT16Kind}).Draw(t, "kind"), Label: "TIDES", Start: AlignTo,
			Sector: rapid.SampledFrom([]int{512, 4096}).Draw(t, "sector"),
			Align:  rapid.SampledFrom([]int64{AlignTo, 64 << 10, 0}).Draw(t, "align"),
			Size: rapid.OneOf(rapid.Int64Range(3e6, 600e6), rapid.Int64Range(600e6, 32e9),
				rapid.Int64Range(32e9, 400e9)).Draw(t, "size") / AlignTo * AlignTo,
		}
		p, err := f.Plan()
		if err != nil {
			require.ErrorIs(t, err, ErrTooSmall)
			require.True(t, f.Wanted == FAT16Kind && (f.Size > 2e9 || f.Size < 40e6) || f.Size < 600e6)
			return
		}
		sector, width := int64(f.Sector), int64(4)
		least, most := int64(65525), int64(0x0FFFFFF5)
		if f.Wanted == FAT16Kind {
			width, least, most = 2, 4085, 65524
		}
		if f.Align > 0 {
			require.Zero(t, (f.Start+p.data())%f.Align, "the data area is aligned")
		}
		require.Less(t, p.reserved, int64(1<<16), "as a field of 16 bits can tell")
		require.GreaterOrEqual(t, p.fat*sector/width, p.clusters+2, "the table has an entry for each cluster")
		require.LessOrEqual(t, p.data()/sector+p.clusters*p.cluster, p.total, "no cluster is behind the end")
		require.Less(t, p.total-p.data()/sector-p.clusters*p.cluster, p.cluster, "and all the room is used")
		require.True(t, p.clusters >= least && p.clusters <= most)
		if f.Size > 8e9 {
			return // reading it is the same, and longer
		}
		n, err := io.Copy(io.Discard, p.Metadata())
		require.NoError(t, err)
		require.Equal(t, p.MetadataSize(), n)
		require.Zero(t, n%sector)
		require.Equal(t, p.Used(), n, "nothing is behind what an empty one has")
	})
}

// anyName draws names that FAT can have.
func anyName(t *rapid.T) string {
	name := rapid.StringOfN(rapid.SampledFrom([]rune("abcXYZ019._-+ ~é水😀")), 1, 40, -1).Draw(t, "name")
	if name = strings.Trim(name, " ."); name == "" {
		return "x"
	}
	return name
}

// TestFATReadsWhatWasWritten makes volumes of any files, and reads them.
func TestFATReadsWhatWasWritten(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		day := time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC)
		v := NewFAT{
			Wanted: rapid.SampledFrom([]FSKind{FAT32Kind, FAT16Kind}).Draw(t, "kind"), Label: "TIDES", Sector: 512,
			Size: 34 << 20, Time: day,
		}
		if v.Wanted == FAT32Kind {
			v.Size += 3 << 20
		}
		type file struct {
			path string
			when time.Time
			data []byte
		}
		var want []file
		seen := map[string]bool{}
		for range rapid.IntRange(0, 30).Draw(t, "files") {
			path := anyName(t)
			for range rapid.IntRange(0, 3).Draw(t, "depth") {
				path = rapid.SampledFrom([]string{"overlays/", "Sea Level/", "a.b.c/"}).Draw(t, "folder") + path
			}
			if key := folded(path); seen[key] || strings.HasPrefix(key, "OVERLAYS") && !strings.Contains(key, "/") {
				continue
			}
			seen[folded(path)] = true
			data := bytes.Repeat(rapid.SliceOfN(rapid.Byte(), 1, 40).Draw(t, "data"),
				rapid.IntRange(0, 2000).Draw(t, "times"))
			when := day.Add(time.Duration(rapid.IntRange(0, 1e6).Draw(t, "when")) * 2 * time.Second)
			want = append(want, file{path, when, data})
			v.Files = append(v.Files, NewFile{Path: path, Size: int64(len(data)), Modified: when})
		}
		p, err := v.Plan()
		require.NoError(t, err)
		disk := make(memory, v.Size)
		require.NoError(t, p.WriteTo(disk, func(i int) []byte { return want[i].data }))
		r, err := OpenFAT(bytes.NewReader(disk))
		require.NoError(t, err)
		found, err := r.Files()
		require.NoError(t, err)
		byPath := map[string]FATFile{}
		for _, f := range found {
			byPath[f.Path] = f
		}
		require.Len(t, byPath, len(want))
		for i, w := range want {
			f, ok := byPath[w.path]
			require.True(t, ok, w.path)
			require.Equal(t, fmt.Sprint(len(w.data), w.when), fmt.Sprint(f.Size, f.Modified), w.path)
			body, err := r.Open(f)
			require.NoError(t, err)
			data, err := io.ReadAll(body)
			require.NoError(t, err)
			require.True(t, bytes.Equal(w.data, data), w.path)
			at, err := r.Extents(f)
			require.NoError(t, err)
			if len(w.data) > 0 {
				require.Equal(t, []Extent{p.Place(i)}, at, "in one piece, where it was to be")
			}
		}
		fs, err := Identify(bytes.NewReader(disk))
		require.NoError(t, err)
		require.Equal(t, FileSystem{v.Wanted, "TIDES", v.Size, fs.UUID}, fs)
	})
}

// memory is a disk in memory.
type memory []byte

func (m memory) WriteAt(p []byte, off int64) (int, error) { return copy(m[off:], p), nil }

// fatOf is a FAT16 of some files, as one disk.
func fatOf(t *testing.T, data map[string][]byte, order ...string) memory {
	t.Helper()
	v := NewFAT{
		Wanted: FAT16Kind, Label: "TIDES", Sector: 512, Size: 17_000 * 512,
		Time: time.Date(2026, 5, 1, 0, 0, 0, 0, time.UTC),
	}
	for _, name := range order {
		v.Files = append(v.Files, NewFile{Path: name, Size: int64(len(data[name]))})
	}
	p, err := v.Plan()
	require.NoError(t, err)
	disk := make(memory, v.Size)
	require.NoError(t, p.WriteTo(disk, func(i int) []byte { return data[order[i]] }))
	return disk
}
