package blank

import (
	"context"
	"fmt"
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

// TestReferenceToolsFindNoFault has the reference tools check what was made, for cards of every size that FAT32 can
// have.
func TestReferenceToolsFindNoFault(t *testing.T) {
	testbed.NeedTool(t, "fsck.fat", "mdir", "sfdisk")
	for _, c := range []struct {
		size   practice.Size
		sector int
		label  string
		long   bool
	}{
		{64e6, 512, "", false},
		{250 << 20, 512, "TIDES", true},
		{300 << 20, 512, "A", false},
		{2 << 30, 512, "TIDE TABLES", false},
		{4e9, 512, "X-1_~", true},
		{32e9, 512, "TIDES", true},
		{64e9, 4096, "TIDES", false},
		{300e9, 512, "", true},
		{1e12, 512, "TIDES", true},
		{2.5e12, 512, "HUGE", true},
		{512 << 20, 4096, "FOUR", false},
	} {
		if c.long && !testbed.Long() {
			continue
		}
		t.Run(fmt.Sprintf("%v %d", c.size, c.sector), func(t *testing.T) {
			d, data := open(t, practice.Spec{Claimed: c.size, Sector: c.sector})
			label, err := layout.Label(c.label)
			require.NoError(t, err)
			r, err := Job{
				Device: d, Label: label, Disk: 0x5a17a001, Serial: 0x5a170002,
				Time: time.Date(2026, 11, 26, 9, 0, 0, 0, time.UTC),
			}.Run(context.Background())
			require.NoError(t, err)
			assert.Equal(t, int64(layout.AlignTo), r.Start)
			assert.Zero(t, r.Size%layout.AlignTo)
			if c.size < 2e12 {
				assert.Greater(t, r.Size, int64(c.size)-3*layout.AlignTo, "all of the card is used")
			}

			// The volume, as a file of its own, without its holes being copied.
			part := filepath.Join(t.TempDir(), "part")
			out, err := exec.Command("dd", "if="+data, "of="+part, "bs=4M", "skip=1", "conv=sparse",
				fmt.Sprint("count=", min(r.Size/layout.AlignTo, 200))).CombinedOutput()
			require.NoError(t, err, "%s", out)
			require.NoError(t, os.Truncate(part, r.Size))
			out, err = exec.Command("fsck.fat", "-n", "-v", part).CombinedOutput()
			require.NoError(t, err, "%s", out)
			text := string(out)
			for _, bad := range []string{"differ", "Dirty", "wrong", "Error", "corrupt", "mismatch", "invalid"} {
				assert.NotContains(t, text, bad)
			}
			assert.Contains(t, text, "2 FATs, 32 bit entries")
			assert.Contains(t, text, fmt.Sprint(c.sector, " bytes per logical sector"))
			for line := range strings.SplitSeq(text, "\n") {
				var at int64
				if n, _ := fmt.Sscanf(line, "Data area starts at byte %d", &at); n == 1 {
					assert.Zero(t, at%layout.AlignTo, "the data area is aligned")
				}
			}
			out, err = exec.Command("mdir", "-i", part, "::").CombinedOutput()
			if c.sector == 512 { // mtools knows no others
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
			if c.sector != 512 {
				return
			}
			disk, err := layout.Describe(r2, d.Size())
			require.NoError(t, err)
			require.Len(t, disk.Parts, 1)
			assert.Equal(t, layout.FAT32Kind, disk.Parts[0].Kind)
			assert.Equal(t, label, disk.Parts[0].Label)
			out, err = exec.Command("sfdisk", "--dump", data).CombinedOutput()
			require.NoError(t, err, "%s", out)
			assert.Contains(t, string(out), "type=c")
		})
	}
}

func TestBlankSeesToWhatItMade(t *testing.T) {
	d, _ := open(t, practice.Spec{Claimed: 40e6})
	var small *TooSmallError
	require.ErrorAs(t, Job{Device: d}.Check(), &small)
	_, err := Job{Device: d}.Run(context.Background())
	require.ErrorAs(t, err, &small)

	d, _ = open(t, practice.Spec{Claimed: 64e6, Faults: []practice.Fault{{Kind: practice.Flip, Sector: 8192 + 40}}})
	_, err = Job{Device: d}.Run(context.Background())
	var wrong *WrongError
	require.ErrorAs(t, err, &wrong)
	assert.Equal(t, int64(8192+40)*512/(1<<20), wrong.Offset/(1<<20))

	// A counterfeit is used as far as it is real, and all that was written is there.
	d, _ = open(t, practice.Spec{Claimed: 640e6, Real: 100e6, Beyond: practice.Wrap})
	r, err := Job{Device: d, Size: 100e6}.Run(context.Background())
	require.NoError(t, err)
	assert.Less(t, r.Start+r.Size, int64(100e6))

	ctx, stop := context.WithCancelCause(context.Background())
	stop(os.ErrClosed)
	_, err = Job{Device: d}.Run(ctx)
	require.ErrorIs(t, err, os.ErrClosed)
	for text, want := range map[string]string{"tides 1": "TIDES 1", "": "", "x": "X"} {
		got, err := layout.Label(text)
		require.NoError(t, err)
		assert.Equal(t, want, got)
	}
	for _, text := range []string{"twelve chars", "a/b", "tidé", "a.b"} {
		_, err := layout.Label(text)
		assert.Error(t, err, text)
	}
}
