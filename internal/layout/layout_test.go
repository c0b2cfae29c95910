package layout

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/testbed"
)

// TestVolumesAreSound has the reference tools check volumes of several sizes, and read all files back.
func TestVolumesAreSound(t *testing.T) {
	testbed.NeedTool(t, "fsck.vfat", "mcopy")
	for _, sectors := range []uint32{16500, 40960, 65535, 65536, 262000} {
		random := rand.New(rand.NewPCG(1, uint64(sectors)))
		v := FAT16{Label: "SALTBOOT", Serial: 7, Sectors: sectors, Time: time.Date(2026, 5, 1, 9, 30, 2, 0, time.UTC)}
		for i, size := range []int{0, 1, clusterSize - 1, clusterSize, clusterSize + 1, 1 << 20} {
			data := make([]byte, size)
			for j := range data {
				data[j] = byte(random.Uint32())
			}
			v.Files = append(v.Files, File{fmt.Sprintf("file%d.bin", i), data}, File{
				fmt.Sprintf("folder/FILE%d.img", i), data,
			})
		}
		path := filepath.Join(t.TempDir(), "volume")
		f, err := os.Create(path)
		require.NoError(t, err)
		require.NoError(t, f.Truncate(int64(sectors)*SectorSize))
		require.NoError(t, v.WriteTo(f))
		require.NoError(t, f.Close())
		out, err := exec.Command("fsck.vfat", "-n", path).CombinedOutput()
		require.NoError(t, err, "%d sectors: %s", sectors, out)
		for _, file := range v.Files {
			out, err := exec.Command("mcopy", "-n", "-i", path, "::"+file.Path, "-").Output()
			require.NoError(t, err, file.Path)
			assert.True(t, bytes.Equal(file.Data, out), file.Path)
		}
	}
}

func TestVolumesThatCannotBe(t *testing.T) {
	disk := writer{}
	for why, v := range map[string]FAT16{
		"too few":                    {Sectors: 100},
		"which is no FAT16":          {Sectors: 300000},
		"is full":                    {Sectors: 16500, Files: []File{{"a.bin", make([]byte, 9<<20)}}},
		"not a name of 8 and 3":      {Sectors: 16500, Files: []File{{"a-long-name.text", nil}}},
		"mixes upper and lower case": {Sectors: 16500, Files: []File{{"Readme.txt", nil}}},
	} {
		assert.ErrorContains(t, v.WriteTo(disk), why)
	}
}

type writer struct{}

func (writer) WriteAt(p []byte, _ int64) (int, error) { return len(p), nil }

func TestMBR(t *testing.T) {
	mbr := MBR(0x01020304, Partition{Type: TypeFAT16LBA, Active: true, Start: 2048, Sectors: 4096})
	assert.Equal(t, "55aa", fmt.Sprintf("%x", mbr[510:]))
	assert.EqualValues(t, 0x01020304, binary.LittleEndian.Uint32(mbr[440:]))
	assert.EqualValues(t, []uint32{2048, 4096}, []uint32{
		binary.LittleEndian.Uint32(mbr[454:]), binary.LittleEndian.Uint32(mbr[458:]),
	})
	assert.Equal(t, byte(0x80), mbr[446])
}
