package blank

import (
	"bytes"
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/layout"
	"zipstamp/internal/testbed"
)

func open(t *testing.T, s practice.Spec) (card.Device, string) {
	t.Helper()
	d, data := cardtest.Insert(t, t.TempDir(), s, nil)
	t.Cleanup(func() { d.Close() })
	return d, data
}

// TestReferenceToolsFindNoFault has the reference tools check what was made, for cards of every size and file system.
func TestReferenceToolsFindNoFault(t *testing.T) {
	testbed.NeedTool(t, "fsck.fat", "fsck.exfat", "mdir", "sfdisk")
	const fat16, fat32, exfat = layout.FAT16Kind, layout.FAT32Kind, layout.ExFATKind
	for _, c := range []struct {
		size   practice.Size
		sector int
		label  string
		wanted layout.FSKind
		is     layout.FSKind
		long   bool
	}{
		{3e6, 512, "", "", fat16, false},
		{16e6, 512, "TIDES", "", fat16, false},
		{32e6, 512, "TIDES", "", fat16, true},
		{40e6, 512, "TIDES", "", fat32, false},
		{64e6, 512, "", "", fat32, false},
		{64e6, 512, "Tides", exfat, exfat, false},
		{250 << 20, 512, "TIDES", "", fat32, true},
		{300 << 20, 512, "A", "", fat32, false},
		{2 << 30, 512, "TIDE TABLES", "", fat32, false},
		{4e9, 512, "X-1_~", "", fat32, true},
		{32e9, 512, "TIDES", "", fat32, true},
		{64e9, 512, "Tides", "", exfat, false},
		{64e9, 4096, "TIDES", fat32, fat32, false},
		{300e9, 512, "", fat32, fat32, true},
		{1e12, 512, "TIDES", fat32, fat32, true},
		{1e12, 512, "Gezeiten ä", "", exfat, true},
		{2.5e12, 512, "HUGE", fat32, fat32, true},
		{2.5e12, 512, "HUGE", "", exfat, true},
		{512 << 20, 4096, "FOUR", "", fat32, false},
	} {
		if c.long && !testbed.Long() {
			continue
		}
		t.Run(fmt.Sprintf("%v %d %s", c.size, c.sector, c.is), func(t *testing.T) {
			d, data := open(t, practice.Spec{Claimed: c.size, Sector: c.sector})
			label, err := layout.Label(c.is, c.label)
			require.NoError(t, err)
			plan, err := Wanted{
				FileSystem: c.wanted, Label: label, Disk: 0x5a17a001, Serial: 0x5a170002,
				Time: time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC),
			}.For(d.Size(), c.sector)
			require.NoError(t, err)
			_, err = Job{Device: d, Plan: plan}.Run(context.Background())
			require.NoError(t, err)
			assert.Equal(t, c.is, plan.Kind())
			align := int64(layout.AlignTo)
			switch {
			case c.is == exfat:
				align = layout.ExFATAlign(d.Size())
			case c.size < 48e6:
				align = 64 << 10
			}
			assert.Equal(t, align, plan.Start)
			assert.Zero(t, plan.Size%align)
			if c.size < 2e12 {
				assert.Greater(t, plan.Size, int64(c.size)-3*align, "all of the card is used")
			}

			// The volume, as a file of its own, without its holes being copied.
			part := filepath.Join(t.TempDir(), "part")
			out, err := exec.Command("dd", "if="+data, "of="+part, "bs=64k", fmt.Sprint("skip=", align>>16),
				"conv=sparse", fmt.Sprint("count=", min(plan.Size>>16, 12800))).CombinedOutput()
			require.NoError(t, err, "%s", out)
			require.NoError(t, os.Truncate(part, plan.Size))
			check := []string{"fsck.fat", "-n", "-v", part}
			if c.is == exfat {
				check = []string{"fsck.exfat", "-n", part}
			}
			out, err = exec.Command(check[0], check[1:]...).CombinedOutput()
			require.NoError(t, err, "%s", out)
			text := string(out)
			for _, bad := range []string{"differ", "Dirty", "wrong", "Error", "corrupt", "mismatch", "invalid"} {
				assert.NotContains(t, text, bad)
			}
			if c.is != exfat {
				assert.Contains(t, text, "2 FATs, "+strings.TrimPrefix(string(c.is), "FAT")+" bit entries")
				assert.Contains(t, text, fmt.Sprint(c.sector, " bytes per logical sector"))
			}
			for line := range strings.SplitSeq(text, "\n") {
				var at int64
				if n, _ := fmt.Sscanf(line, "Data area starts at byte %d", &at); n == 1 {
					assert.Zero(t, at%align, "the data area is aligned")
				}
			}
			out, err = exec.Command("mdir", "-i", part, "::").CombinedOutput()
			if c.sector == 512 && c.is != exfat { // mtools knows no others
				require.NoError(t, err, "%s", out)
				if label == "" {
					assert.Contains(t, string(out), "has no label")
				} else {
					assert.Contains(t, string(out), label)
				}
				assert.Contains(t, string(out), "Volume Serial Number is 5A17-0002")
			}
			r2, err := card.NewReader(d, nil)
			require.NoError(t, err)
			defer r2.Close()
			disk, err := layout.Describe(r2, d.Size(), d.SectorSize())
			require.NoError(t, err)
			require.Len(t, disk.Parts, 1)
			assert.Equal(t, c.is, disk.Parts[0].Kind)
			assert.Equal(t, label, disk.Parts[0].Label)
			if c.sector != 512 { // sfdisk counts sectors of 512 bytes in a file
				return
			}
			out, err = exec.Command("sfdisk", "--dump", data).CombinedOutput()
			require.NoError(t, err, "%s", out)
			assert.Contains(t, string(out),
				map[layout.FSKind]string{fat16: "type=e", fat32: "type=c", exfat: "type=7"}[c.is])
		})
	}
}

// TestBlankGetsPastTheCache makes cards empty whose cache ignores flushes and loses what is in it.
func TestBlankGetsPastTheCache(t *testing.T) {
	for _, cache := range []practice.Size{1 << 20, 32 << 20} {
		d, data := open(t, practice.Spec{Claimed: 200e6, Cache: cache, WriteBack: true, Volatile: true})
		plan, err := Wanted{Label: "TIDES"}.For(200e6, 512)
		require.NoError(t, err)
		r, err := Job{Device: d, Plan: plan}.Run(context.Background())
		require.NoError(t, err)
		assert.EqualValues(t, 32<<20, r.Displaced)
		require.NoError(t, d.Close())
		held, err := os.ReadFile(data)
		require.NoError(t, err)
		disk, err := layout.Describe(bytes.NewReader(held), 200e6, 512)
		require.NoError(t, err)
		require.Len(t, disk.Parts, 1)
		assert.Equal(t, "TIDES", disk.Parts[0].Label)
	}
}

func TestBlankSeesToWhatItMade(t *testing.T) {
	var small *TooSmallError
	_, err := Wanted{FileSystem: layout.FAT32Kind}.For(30e6, 512)
	require.ErrorAs(t, err, &small)
	_, err = Wanted{FileSystem: layout.FAT32Kind}.For(small.Least, 512)
	require.NoError(t, err, "what it says is enough")
	_, err = Wanted{}.For(1e6, 512)
	require.ErrorAs(t, err, &small)
	assert.Equal(t, layout.FAT16Kind, small.Kind)
	planned := func(size int64) *Plan {
		plan, err := Wanted{}.For(size, 512)
		require.NoError(t, err)
		return plan
	}

	d, _ := open(t, practice.Spec{Claimed: 64e6, Faults: []practice.Fault{{Kind: practice.Flip, Sector: 8192 + 40}}})
	_, err = Job{Device: d, Plan: planned(64e6)}.Run(context.Background())
	var wrong *WrongError
	require.ErrorAs(t, err, &wrong)
	assert.Equal(t, int64(8192+40)*512/(1<<20), wrong.Offset/(1<<20))

	// A counterfeit is used as far as it is real, and all that was written is there.
	d, _ = open(t, practice.Spec{Claimed: 640e6, Real: 100e6, Beyond: practice.Wrap})
	plan := planned(100e6)
	_, err = Job{Device: d, Plan: plan, Size: 100e6}.Run(context.Background())
	require.NoError(t, err)
	assert.Less(t, plan.Start+plan.Size, int64(100e6))

	ctx, stop := context.WithCancelCause(context.Background())
	stop(os.ErrClosed)
	_, err = Job{Device: d, Plan: plan}.Run(ctx)
	require.ErrorIs(t, err, os.ErrClosed)
	for _, c := range []struct {
		kind       layout.FSKind
		text, want string
	}{
		{layout.FAT32Kind, "tides 1", "TIDES 1"},
		{layout.FAT16Kind, "", ""},
		{layout.FAT32Kind, "x", "X"},
		{layout.ExFATKind, " Gezeiten ä", "Gezeiten ä"},
	} {
		got, err := layout.Label(c.kind, c.text)
		require.NoError(t, err)
		assert.Equal(t, c.want, got)
	}
	for _, text := range []string{"twelve chars", "a/b", "tidé", "a.b"} {
		_, err := layout.Label(layout.FAT32Kind, text)
		assert.Error(t, err, text)
	}
	for _, text := range []string{"twelve chars", "a/b", "a\x01b", "😀😀😀😀😀😀"} {
		_, err := layout.Label(layout.ExFATKind, text)
		assert.Error(t, err, text)
	}
}

// TestBlankOnCardsThatRepeat makes cards empty whose addresses repeat, and which have a cache: what is written to get
// past the cache is at the same addresses as the tables. Of a card that is called good, the tables are there when the
// power has been cut.
func TestBlankOnCardsThatRepeat(t *testing.T) {
	const claimed = 200e6
	plan, err := Wanted{Label: "TIDES"}.For(claimed, 512)
	require.NoError(t, err)
	seed, good := testbed.Seed(t), 0
	for i := range testbed.Trials(8, 60) {
		random := rand.New(rand.NewPCG(seed, uint64(i)))
		spec := practice.Spec{
			Claimed: claimed, Beyond: practice.Wrap,
			Real:  practice.Size(plan.HeadSize() + 512*random.Int64N(60<<20/512)),
			Cache: practice.Size(512 * (1 + random.Int64N(32<<20/512))), WriteBack: true,
		}
		spec.Real -= spec.Real % 512
		d, data := open(t, spec)
		r, err := Job{Device: d, Plan: plan}.Run(context.Background())
		require.NoError(t, d.Close())
		if err == nil && r.Displaced >= int64(spec.Cache) {
			good++
			held, err := os.ReadFile(data)
			require.NoError(t, err)
			whole := append(held, make([]byte, claimed-len(held))...)
			disk, err := layout.Describe(bytes.NewReader(whole), claimed, 512)
			require.NoError(t, err)
			require.Len(t, disk.Parts, 1, "trial %d, seed %d: %+v", i, seed, spec)
			require.Equal(t, "TIDES", disk.Parts[0].Label, "trial %d, seed %d: %+v", i, seed, spec)
		}
		require.NoError(t, os.Remove(data))
	}
	t.Logf("%d called good", good)
}
