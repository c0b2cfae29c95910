package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
	"zipstamp/internal/testbed"
)

func TestSeveralCardsAtOnce(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, demo.Sums)
	d.card("tide.card", "--claimed", "64MB", "--write-rate", "100MB/s")
	d.card("ebb.card", "--claimed", "64MB", "--write-rate", "40MB/s", "--fault", "kind=flip,sector=9000,times=1")
	d.card("liar.card", "--claimed", "64MB", "--real", "32MB")
	d.card("gone.card", "--claimed", "64MB", "--gone-after", "20MB")

	// places are not tried before: one of them may be that which is stored wrong once
	r := d.want(0, "All 2 cards are stamped and read back.", "stamp", "--yes", "--no-spots", "--write-all", osXZ,
		"tide.card", "ebb.card")
	r.mentions(t, "repaired: 1 block at byte 4,194,304", "tide.card stamped: write at", "tide.card write: ",
		"ebb.card write: ")
	for _, name := range []string{"tide", "ebb"} {
		assert.True(t, bytes.Equal(unpack, d.read(name + ".card.data")[:len(unpack)]), name)
	}
	r = d.zipstamp("stamp", "--yes", "--json", osXZ, "gone.card", "tide.card", "liar.card")
	require.Equal(t, 6, r.status, "the worst of 4, 0 and 6: %s", r.err)
	doc := document(t, r)
	assert.EqualValues(t, 6, doc["exit"])
	assert.Equal(t, "1 of 3 cards are stamped and read back; gone.card and liar.card are not.", doc["sentence"])
	var exits []any
	for _, one := range doc["cards"].([]any) {
		exits = append(exits, one.(map[string]any)["exit"])
	}
	assert.Equal(t, []any{4.0, 0.0, 6.0}, exits)
	receipts, err := filepath.Glob(d.path("state/zipstamp/receipts/*.json"))
	require.NoError(t, err)
	assert.Len(t, receipts, 5, "each card has its own")

	// On a terminal all names are typed, and each card has its row.
	d.card("a.card", "--claimed", "64MB", "--write-rate", "60MB/s", "--read-rate", "90MB/s")
	d.card("b.card", "--claimed", "64MB", "--write-rate", "60MB/s", "--read-rate", "90MB/s")
	assert.Equal(t, 4, d.typed(80, "a.card\n", "stamp", osXZ, "a.card", "b.card").status)
	for _, columns := range []uint16{100, 40} {
		r = d.typed(columns, "a.card b.card\n", "stamp", osXZ, "a.card", "b.card")
		require.Zero(t, r.status, r.out)
		for _, says := range []string{
			"All that is on a.card and b.card will be overwritten", "All 2 cards are stamped",
		} {
			assert.Contains(t, plain(r.out), says)
		}
		assert.Regexp(t, `(?m)^\s*a\.card write`, r.out)
		assert.Regexp(t, `(?m)^\s*b\.card read back`, r.out)
	}

	// Nothing is written where one of them can't be.
	d.card("small.card", "--claimed", "16MB")
	before := d.state("a.card.data")
	d.want(4, "the image does not fit on small.card", "stamp", "--yes", osXZ, "a.card", "small.card")
	d.want(3, "Nothing was written to a.card b.card.", "stamp", "--yes", "--digest", strings.Repeat("0", 64), osXZ,
		"a.card", "b.card")
	assert.Equal(t, before, d.state("a.card.data"))
}

func TestCardsListsThisComputersDisks(t *testing.T) {
	t.Parallel()
	if runtime.GOOS != "linux" {
		t.Skip("disks are listed on Linux")
	}
	d := newDesk(t)
	r := d.zipstamp("cards", "--all", "--json")
	require.Zero(t, r.status, r.err)
	var doc struct {
		Schema string
		List   []struct {
			Name    string
			May     bool `json:"may_be_written"`
			Bus     string
			Reasons []struct{ Cause, Text string }
		}
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &doc))
	assert.Equal(t, "cards", doc.Schema)
	for _, one := range doc.List {
		assert.NotEqual(t, one.May, len(one.Reasons) > 0, "%+v", one)
	}
	d.want(0, "", "cards")
	d.want(2, "--all and --arrive can't be combined", "cards", "--all", "--arrive")

	testbed.NeedRoot(t)
	loop := testbed.Loop(t, testbed.Sparse(t, d.path("x"), 1<<20))
	d.want(0, loop+" 1.05 MB (1,048,576 bytes), loop device on "+d.path("x")+
		" it is a loop device, which can be chosen only by its path", "cards", "--all")
	assert.NotContains(t, d.want(0, "", "cards").out, filepath.Base(loop))
}

// TestWhatToDoNext has an image that no desktop knows, and one that leaves nothing of the card.
func TestWhatToDoNext(t *testing.T) {
	t.Parallel()
	testbed.NeedTool(t, "mkfs.ext4")
	d := newDesk(t, osXZ)
	d.write("linux.img", make([]byte, 8<<20))
	cmd := exec.Command("mkfs.ext4", "-qF", "linux.img")
	cmd.Dir = d.dir
	require.NoError(t, cmd.Run())
	d.card("x.card", "--claimed", "64MB")
	d.want(0, "55.6 MB of the card lie beyond the image; most systems grow into it", "stamp", "--yes", "--unchecked",
		"linux.img", "x.card").
		mentions(t, "If a computer offers to format the card, decline: it just doesn't know the card's file systems.")
	d.card("tight.card", "--claimed", "50MB")
	r := d.want(0, "Stamped and read back", "stamp", "--yes", "--unchecked", osXZ, "tight.card")
	for _, not := range []string{"beyond the image", "offers to format"} {
		assert.NotContains(t, plain(r.out), not)
	}
}

// TestTooLargeIsSeenBeforeTheCardIsWritten has images whose packing doesn't say how large they are, and that are larger
// than the card: the card is as it was.
func TestTooLargeIsSeenBeforeTheCardIsWritten(t *testing.T) {
	t.Parallel()
	testbed.NeedTool(t, "bzip2", "zstd", "gzip")
	d := newDesk(t)
	big := make([]byte, faultImage)
	copy(big, oldOS()[:3<<20])
	d.write("big.img", big)
	for _, args := range [][]string{
		{"gzip", "-k", "big.img"}, {"bzip2", "-k", "-1", "big.img"}, {"sh", "-c", "zstd -q < big.img > big.img.zst"},
	} {
		cmd := exec.Command(args[0], args[1:]...)
		cmd.Dir = d.dir
		require.NoError(t, cmd.Run())
	}
	d.card("small.card", "--claimed", "12.288MB")
	before := d.fill("small.card", 12_288_000)
	for _, name := range []string{"big.img.gz", "big.img.bz2", "big.img.zst"} {
		d.write("SHA256SUMS", fmt.Appendf(nil, "%x  %s\n", sha256.Sum256(d.read(name)), name))
		d.want(4, "the image does not fit", "stamp", "--dry-run", name, "small.card")
		d.want(4, "the image does not fit", "stamp", "--yes", name, "small.card")
		require.NoError(t, os.Remove(d.path("SHA256SUMS")))
		d.want(4, "the image does not fit", "stamp", "--yes", "--unchecked", name, "small.card")
		require.Equal(t, before, d.sum("small.card"), "%s: it is as it was", name)
		piped := d.command("stamp", "--dry-run", "--unchecked", "-", "small.card")
		piped.Stdin = bytes.NewReader(d.read(name))
		out, err := piped.CombinedOutput()
		require.NoError(t, err, "%s", out)
		assert.Contains(t, plain(string(out)), "that shows only when the card has been overwritten")
	}
}
