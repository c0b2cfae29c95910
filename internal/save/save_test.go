package save

import (
	"bytes"
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/demo"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
	"zipstamp/internal/testbed"
)

// file is a file in memory.
type file struct {
	data []byte
	full int // bytes that there is room for; 0: any
}

func (f *file) WriteAt(p []byte, off int64) (int, error) {
	if f.full > 0 && int(off)+len(p) > f.full {
		return 0, errors.New("no space left on device")
	}
	if grow := int(off) + len(p) - len(f.data); grow > 0 {
		f.data = append(f.data, make([]byte, grow)...)
	}
	return copy(f.data[off:], p), nil
}

func (f *file) Sync() error { return nil }

func (f *file) Truncate(n int64) error {
	f.data = append(f.data[:min(n, int64(len(f.data)))], make([]byte, max(n-int64(len(f.data)), 0))...)
	return nil
}

// unpack has the reference program unpack a copy.
func unpack(t *testing.T, f Format, data []byte) []byte {
	t.Helper()
	if f == Raw {
		return data
	}
	command := map[Format]string{Zstd: "zstd", XZ: "xz", Gzip: "gzip"}[f]
	testbed.NeedTool(t, command)
	cmd := exec.Command(command, "-dc")
	cmd.Stdin = bytes.NewReader(data)
	out, err := cmd.Output()
	require.NoError(t, err)
	return out
}

// insert makes a card with an image on it.
func insert(t *testing.T, s practice.Spec, img []byte) card.Device {
	t.Helper()
	s.Claimed = 64_000_000
	dev, _ := cardtest.Insert(t, t.TempDir(), s, img)
	return dev
}

func TestCopiesAreAsTheCard(t *testing.T) {
	img := demo.Image()
	for _, f := range []Format{Raw, Zstd, XZ, Gzip} {
		img, end := img, int64(49_283_072) // where the last partition ends
		spec := practice.Spec{Claimed: 64_000_000}
		if f == XZ { // which is slow
			img, end = img[:12_000_256], 12_000_256
			spec.Claimed = 12_000_256
		}
		dev, _ := cardtest.Insert(t, t.TempDir(), spec, img)
		out := &file{data: []byte("what was there before")}
		r, err := Job{Device: dev, Meter: new(meter.Meter), Out: out, Format: f}.Run(context.Background())
		require.NoError(t, err, f)
		got := unpack(t, f, out.data)
		assert.True(t, bytes.Equal(img[:r.Size], got), f)
		assert.Equal(t, end, r.Size, "up to the end of the last partition")
		assert.Equal(t, dev.Size()-r.Size, r.LeftOut)
		assert.Equal(t, fmt.Sprintf("%x", sha256.Sum256(got)), r.Image.Hex(), f)
		assert.Equal(t, fmt.Sprintf("%x", sha256.Sum256(out.data)), r.File.Hex(), f)
		assert.EqualValues(t, len(out.data), r.Packed)
		assert.Empty(t, r.Unread)
	}
}

// TestBadPlacesAreListed reads a card with sectors that can't be read, and one that can be read the second time.
func TestBadPlacesAreListed(t *testing.T) {
	img := demo.Image()
	dev := insert(t, practice.Spec{Faults: []practice.Fault{
		{Kind: practice.FailRead, Sector: 20_000, Count: 3}, {Kind: practice.FailRead, Sector: 40_000, Times: 1},
	}}, img)
	out := &file{}
	r, err := Job{Device: dev, Meter: new(meter.Meter), Out: out, Format: Raw}.Run(context.Background())
	require.NoError(t, err)
	assert.Equal(t, []layout.Extent{{Offset: 20_000 * 512, Length: 3 * 512}}, r.Unread)
	clear(img[20_000*512 : 20_003*512])
	assert.True(t, bytes.Equal(img[:r.Size], out.data))
}

// TestInterruptedCopiesAreCarriedOn ends a copy in the middle, again and again, and carries it on.
func TestInterruptedCopiesAreCarriedOn(t *testing.T) {
	img := demo.Image()
	for _, f := range []Format{Raw, Zstd, Gzip} {
		dev := insert(t, practice.Spec{}, demo.Image())
		out := &file{}
		var kept *Progress
		var r Result
		for n := 1; ; n++ {
			out.full = n * len(img) / 6
			if f != Raw {
				out.full = n * 700_000
			}
			var err error
			r, err = Job{
				Device: dev, Meter: new(meter.Meter), Out: out, Format: f, Carry: kept,
				Keep: func(p Progress) error { kept = &p; return nil },
			}.Run(context.Background())
			if err == nil {
				break
			}
			require.ErrorAs(t, err, new(*WriteError), f)
			require.Less(t, n, 50, f)
		}
		got := unpack(t, f, out.data)
		assert.True(t, bytes.Equal(img[:r.Size], got), f)
		assert.Equal(t, fmt.Sprintf("%x", sha256.Sum256(got)), r.Image.Hex(), f)
		assert.Equal(t, fmt.Sprintf("%x", sha256.Sum256(out.data)), r.File.Hex(), f)

		// another card is not taken for it
		changed := demo.Image()
		changed[1<<20]++
		other := insert(t, practice.Spec{}, changed)
		_, err := Job{
			Device: other, Meter: new(meter.Meter), Out: &file{}, Format: f, Carry: kept,
		}.Run(context.Background())
		assert.ErrorIs(t, err, ErrOtherCard, f)
	}
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	dev := insert(t, practice.Spec{}, demo.Image())
	_, err := Job{Device: dev, Meter: new(meter.Meter), Out: &file{}, Format: Raw}.Run(ctx)
	assert.ErrorIs(t, err, context.Canceled)
}

// TestWhatWasReadIsKept pulls out the card while pieces are still being packed, which takes long.
func TestWhatWasReadIsKept(t *testing.T) {
	dev := insert(t, practice.Spec{GoneAfter: 30_000_000}, demo.Image())
	var kept Progress
	_, err := Job{
		Device: dev, Meter: new(meter.Meter), Out: &file{}, Format: Gzip,
		Keep: func(p Progress) error { kept = p; return nil },
	}.Run(context.Background())
	require.ErrorIs(t, err, fault.Gone)
	assert.EqualValues(t, 3*Piece, kept.Read, "all that was read whole")
}

// TestFreeSpaceStaysZeros carries on a copy whose first piece has free space.
func TestFreeSpaceStaysZeros(t *testing.T) {
	dev := insert(t, practice.Spec{}, demo.Image())
	out := &file{full: 30_000_000}
	var kept *Progress
	job := Job{
		Device: dev, Meter: new(meter.Meter), Out: out, Format: Raw, FreeAsZeros: true,
		Keep: func(p Progress) error { kept = &p; return nil },
	}
	_, err := job.Run(context.Background())
	require.ErrorAs(t, err, new(*WriteError))
	require.NotNil(t, kept)
	require.Positive(t, kept.Zeroed)
	out.full, job.Carry = 0, kept
	r, err := job.Run(context.Background())
	require.NoError(t, err)
	assert.Equal(t, fmt.Sprintf("%x", sha256.Sum256(out.data)), r.Image.Hex())
	assert.Positive(t, r.Zeroed)
}

// TestFreeSpaceIsZeros has file systems with files that were deleted: what they had is not in the copy, and what is
// left is all there.
func TestFreeSpaceIsZeros(t *testing.T) {
	testbed.NeedTool(t, "mkfs.ext4", "debugfs", "mkfs.vfat", "mcopy", "mdel")
	for kind, commands := range map[string]string{
		"ext4": "mkfs.ext4 -qF disk && debugfs -wR 'write keep keep' disk && debugfs -wR 'write gone gone' disk && " +
			"debugfs -wR 'rm gone' disk",
		"vfat": "mkfs.vfat disk && mcopy -i disk keep ::keep && mcopy -i disk gone ::gone && mdel -i disk ::gone",
	} {
		dir := t.TempDir()
		keep, gone := bytes.Repeat([]byte("ebb and flow, kept. "), 40_000), bytes.Repeat([]byte("and this is gone. "),
			90_000)
		require.NoError(t, os.WriteFile(filepath.Join(dir, "keep"), keep, 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "gone"), gone, 0o600))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "disk"), nil, 0o600))
		require.NoError(t, os.Truncate(filepath.Join(dir, "disk"), 48_000_000))
		cmd := exec.Command("sh", "-ec", commands)
		cmd.Dir = dir
		said, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", said)
		whole, err := os.ReadFile(filepath.Join(dir, "disk"))
		require.NoError(t, err)
		dev, _ := cardtest.Insert(t, t.TempDir(), practice.Spec{Claimed: 48_000_000}, whole)
		for _, zeros := range []bool{false, true} {
			out := &file{}
			r, err := Job{Device: dev, Meter: new(meter.Meter), Out: out, Format: Raw, FreeAsZeros: zeros}.Run(
				context.Background())
			require.NoError(t, err, kind)
			assert.NoError(t, r.Kept, kind)
			assert.True(t, bytes.Contains(out.data, keep[:60_000]), kind)
			assert.Equal(t, !zeros, bytes.Contains(out.data, gone[:2000]), kind)
			assert.Equal(t, zeros, r.Zeroed > 2_000_000, kind)
			require.NoError(t, os.WriteFile(filepath.Join(dir, "copy"), out.data, 0o600))
			fsck := exec.Command("fsck."+kind, "-n", filepath.Join(dir, "copy"))
			said, err := fsck.CombinedOutput()
			assert.NoError(t, err, "%s: %s", kind, said)
		}
	}
}

// TestCardWithLargeSectors copies a card whose table counts sectors of 4096 bytes, and whose partitions are in another
// order in the table than on the card.
func TestCardWithLargeSectors(t *testing.T) {
	const mib, size = 1 << 20, 64 << 20
	fat := func(s int64) []byte {
		path := filepath.Join(t.TempDir(), "fat")
		require.NoError(t, os.WriteFile(path, make([]byte, s), 0o600))
		testbed.NeedTool(t, "mkfs.vfat")
		out, err := exec.Command("mkfs.vfat", "-S", "4096", path).CombinedOutput()
		require.NoError(t, err, "%s", out)
		data, err := os.ReadFile(path)
		require.NoError(t, err)
		return data
	}
	holds := bytes.Repeat([]byte{0x5A}, size)
	table := layout.MBR(9, layout.Partition{Type: 0x0C, Start: 40 * mib / 4096, Sectors: 8 * mib / 4096},
		layout.Partition{Type: 0x0C, Start: 8 * mib / 4096, Sectors: 8 * mib / 4096})
	copy(holds, table[:])
	copy(holds[8*mib:], fat(8*mib))
	copy(holds[40*mib:], fat(8*mib))
	d, _ := cardtest.Insert(t, t.TempDir(), practice.Spec{Claimed: size, Sector: 4096}, holds)
	out := &file{}
	r, err := Job{Device: d, Meter: new(meter.Meter), Out: out, Format: Raw}.Run(context.Background())
	require.NoError(t, err)
	assert.EqualValues(t, 48*mib, r.Size)
	require.True(t, bytes.Equal(holds[:48*mib], out.data))
	out = &file{}
	r, err = Job{
		Device: d, Meter: new(meter.Meter), Out: out, Format: Raw, FreeAsZeros: true,
	}.Run(context.Background())
	require.NoError(t, err)
	assert.Positive(t, r.Zeroed)
	require.True(t, bytes.Equal(holds[16*mib:40*mib], out.data[16*mib:40*mib]), "between the partitions")
	require.True(t, bytes.Equal(holds[8*mib:8*mib+4096], out.data[8*mib:8*mib+4096]))
}

// carried makes a copy of a card that is interrupted, does something to the card, and goes on.
func carried(t *testing.T, between func(holds []byte)) (holds []byte, out *file, r Result, err error) {
	const size = 40 << 20
	r0 := rand.New(rand.NewPCG(6, 6))
	holds = make([]byte, size)
	for i := range holds {
		holds[i] = byte(r0.Uint32())
	}
	d, data := cardtest.Insert(t, t.TempDir(), practice.Spec{Claimed: size}, holds)
	out = &file{}
	var kept Progress
	ctx, stop := context.WithCancel(context.Background())
	counted := &stopping{Device: d, after: 24 << 20, stop: stop}
	job := Job{
		Device: counted, Meter: new(meter.Meter), Out: out, Format: Raw,
		Keep: func(p Progress) error { kept = p; return nil },
	}
	_, err = job.Run(ctx)
	require.ErrorIs(t, err, context.Canceled)
	require.Positive(t, kept.Read)
	between(holds)
	f, err := os.OpenFile(data, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(holds, 0)
	require.NoError(t, errors.Join(err, f.Close()))
	job.Device, job.Carry = d, &kept
	r, err = job.Run(context.Background())
	return holds, out, r, err
}

// stopping ends a context when so much has been read.
type stopping struct {
	card.Device
	after int64
	stop  func()
}

func (s *stopping) ReadAt(p []byte, off int64) (int, error) {
	if s.after -= int64(len(p)); s.after < 0 {
		s.stop()
	}
	return s.Device.ReadAt(p, off)
}

// TestCopyIsOfOneState goes on with copies of cards that were written meanwhile.
func TestCopyIsOfOneState(t *testing.T) {
	holds, out, r, err := carried(t, func([]byte) {})
	require.NoError(t, err)
	assert.False(t, r.Anew)
	require.True(t, bytes.Equal(holds, out.data))
	holds, out, r, err = carried(t, func(holds []byte) { holds[10<<20]++ }) // what was copied
	require.NoError(t, err)
	assert.True(t, r.Anew)
	require.True(t, bytes.Equal(holds, out.data))
	assert.Equal(t, fmt.Sprintf("%x", sha256.Sum256(holds)), r.Image.Hex())
	holds, out, _, err = carried(t, func(holds []byte) { holds[39<<20]++ }) // what wasn't yet
	require.NoError(t, err)
	require.True(t, bytes.Equal(holds, out.data))
	_, _, _, err = carried(t, func(holds []byte) { holds[5]++ })
	require.ErrorIs(t, err, ErrOtherCard)
}

// TestReadsThatDiffer has a card on which six sectors read otherwise now and then.
func TestReadsThatDiffer(t *testing.T) {
	for _, f := range []Format{Raw, Zstd} {
		spec := practice.Spec{Seed: 5}
		for i := range int64(6) {
			spec.Faults = append(spec.Faults, practice.Fault{
				Kind: practice.Misread, Sector: 9000 * (i + 1), Chance: 0.7,
			})
		}
		d := insert(t, spec, demo.Image())
		out := &file{}
		job := Job{Device: d, Meter: new(meter.Meter), Out: out, Format: f}
		r, err := job.Run(context.Background())
		require.NoError(t, err)
		require.NoError(t, job.Compare(context.Background(), bytes.NewReader(unpack(t, f, out.data)), &r))
		require.NotEmpty(t, r.Unsteady)
		for _, e := range r.Unsteady {
			assert.Zero(t, e.Offset%(9000*512))
			assert.EqualValues(t, 512, e.Length)
		}
		wrong := unpack(t, f, out.data)
		wrong[7]++
		require.ErrorIs(t, job.Compare(context.Background(), bytes.NewReader(wrong), &r), ErrChanged)
	}
}

// TestPackingEndsWithTheContext packs noise, which is slow, for somebody who doesn't want it any more.
func TestPackingEndsWithTheContext(t *testing.T) {
	ctx, stop := context.WithCancel(context.Background())
	stop()
	assert.Nil(t, pack(ctx, XZ, make([]byte, Piece)))
	assert.NotNil(t, pack(context.Background(), Gzip, make([]byte, 1<<20)))
}
