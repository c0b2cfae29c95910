package e2e

import (
	"bytes"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
)

// TestStampIsCarriedOn kills a stamp, and does it again: what is on the card is named and not written again, and in the
// end nothing is left to be written.
func TestStampIsCarriedOn(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, demo.Sums)
	d.card("x.card", "--claimed", "64MB", "--write-rate", "12MB/s", "--read-rate", "200MB/s", "--serial", "SW-0009")
	d.write("x.card.data", bytes.Repeat([]byte{0x55, 0xAA}, 32e6))
	cmd := d.command("stamp", "--yes", osXZ, "x.card")
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return d.holds("x.card.data", 20<<20, unpack[20<<20:][:512]) }, time.Minute,
		10*time.Millisecond)
	require.NoError(t, cmd.Process.Signal(syscall.SIGKILL))
	_ = cmd.Wait()

	unfinished := "a stamp of saltmarsh-os.img.xz, begun on " // and when
	d.want(0, "would be stamped onto x.card", "stamp", "--dry-run", "--yes", osXZ, "x.card").mentions(t,
		"unfinished "+unfinished, "did not come to its end; what it has written is not written again")
	d.want(4, "no receipt of its stamp was found", "recheck", "x.card").mentions(t,
		"x.card has no partition table: "+unfinished)
	carried := d.want(0, "", "--json", "stamp", "--yes", "--progress", "json", "--discard-rest", osXZ, "x.card")
	doc := document(t, carried)
	assert.Regexp(t, `"phase":"write".*"left_in_all":.*"alike":true`, carried.err, "nobody knows how far it had come")
	assert.NotRegexp(t, `"phase":"read back".*"alike"`, carried.err)
	bytesOf := doc["bytes"].(map[string]any)
	assert.Greater(t, bytesOf["spared"].(map[string]any)["same"], 8e6)
	assert.Less(t, bytesOf["written"], 42e6)
	assert.Equal(t, "the 64 MiB next to the image are left alone, and the card has no more",
		bytesOf["discarded"].(map[string]any)["not_rest"])
	assert.Contains(t, doc["sentence"], "; all was read back.")
	assert.Equal(t, unpack, d.read("x.card.data")[:len(unpack)])

	d.want(0, "discarded nothing beyond the image: the 64 MiB next to the image are left alone", "receipts", "show")

	// Now it is known by its receipt. This card is too small for a memory of 32 MiB to be seen through, so it is
	// written.
	d.want(0, "4.19 MB of 49.3 MB were written, and the rest was there", "stamp", "--yes", osXZ, "x.card")
	d.card("y.card", "--claimed", "128MB", "--serial", "SW-0010")
	d.want(0, "Stamped and read back", "stamp", "--yes", osXZ, "y.card")
	again := d.want(0, "Nothing had to be written: every block of saltmarsh-os.img.xz is on y.card already", "stamp",
		"--yes", osXZ, "y.card")
	again.mentions(t, "skipped 49.3 MB, already on the card (100% less wear)")
	assert.NotContains(t, again.err, "try", "not even places are tried")
	d.want(0, "Stamped and read back: every block of saltmarsh-os.img.xz is on y.card. image", "stamp", "--write-all",
		"--yes", osXZ, "y.card")
	d.env = append(d.env, "ZIPSTAMP_WRITE_ALL=1")
	d.want(0, "Stamped and read back: every block of saltmarsh-os.img.xz is on y.card. image", "stamp", "--yes", osXZ,
		"y.card")
	d.want(0, "write_all true", "settings")
}
