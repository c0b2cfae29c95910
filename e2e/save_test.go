package e2e

import (
	"bytes"
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
)

// TestSavedCardCanBeStampedAgain copies a card into files of every kind, and stamps one onto another card.
func TestSavedCardCanBeStampedAgain(t *testing.T) {
	t.Parallel()
	d := newDesk(t, demo.XZ, demo.Sums)
	d.card("a.card", "--claimed", "64MB")
	d.card("b.card", "--claimed", "64MB")
	d.want(0, "Stamped and read back", "stamp", "--yes", demo.XZ, "a.card")
	before := d.sum("a.card")
	for _, file := range []string{"a.img", "a.img.gz", "a.img.zst"} {
		doc := document(t, d.want(0, "a.card is saved: 49.3 MB of it are in "+file, "save", "--json", "a.card", file))
		assert.Equal(t, "good", doc["verdict"])
		d.want(0, file+" is unchanged since it was saved from a.card", "check", "--sums", file+".sha256", file)
		d.want(0, file+" is unchanged since it was saved from a.card", "check", file)
		d.want(2, file+" already exists", "save", "a.card", file)
		for _, rest := range []string{".part", ".part.json"} {
			_, err := os.Stat(d.path(file + rest))
			assert.ErrorIs(t, err, os.ErrNotExist)
		}
	}
	assert.Equal(t, before, d.sum("a.card"), "nothing is written to the card")
	d.want(0, "Stamped and read back", "stamp", "--yes", "a.img.zst", "b.card")
	n := len(d.read("a.img"))
	assert.True(t, bytes.Equal(d.read("a.card.data")[:n], d.read("b.card.data")[:n]))
	d.want(0, "is as it was stamped", "recheck", "b.card", "a.img")
	d.write("a.img", append(d.read("a.img"), 0))
	d.want(3, "a.img has changed since it was saved from a.card", "check", "a.img")

	d.want(2, "doesn't tell how to pack the copy", "save", "a.card", "a.tide")
	d.want(2, "the card comes first, and then the file", "save", "c.img", "a.card")
	d.want(2, "there is no folder none", "save", "a.card", "none/c.img")
	d.want(4, "there is no such card", "save", "c.card", "c.img")
	d.want(0, "it is copied into c.img", "save", "--dry-run", "a.card", "c.img")
	d.write("c.img.part", []byte("of a browser"))
	d.want(2, "c.img.part already exists", "save", "a.card", "c.img")
	d.want(0, "save a.card (64.0 MB): good", "receipts")
}

// TestCardThatFailsIsSavedAsFarAsItCan has sectors that can't be read, a card that is pulled out, and a disk that is
// full.
func TestCardThatFailsIsSavedAsFarAsItCan(t *testing.T) {
	t.Parallel()
	d := newDesk(t, demo.XZ, demo.Sums)
	d.card("bad.card", "--claimed", "64MB", "--fault", "kind=read,sector=50000,count=4")
	r := d.want(5, "is saved in bad.img, but 2.05 kB of it could not be read and are zeros there", "save", "bad.card",
		"bad.img")
	assert.Contains(t, plain(r.out), "1 place: 2.05 kB (2,048 bytes) from byte 25,600,000")
	doc := document(t, d.zipstamp("save", "--json", "bad.card", "bad.img.gz"))
	assert.Equal(t, "not all read", doc["verdict"])
	d.want(0, "are zeros there", "receipts", "show")
	d.want(0, "bad.img is unchanged since it was saved from bad.card", "check", "bad.img").mentions(t,
		"bad.img is an incomplete copy of bad.card: 2.05 kB could not be read, and are zeros in it.")
	_, err := os.Stat(d.path("bad.img.sha256"))
	assert.ErrorIs(t, err, os.ErrNotExist, "other programs are told nothing that isn't so")
	d.sh("mkdir gaps.img.copy.json")
	d.want(1, "the file can't be written", "save", "bad.card", "gaps.img")
	_, err = os.Stat(d.path("gaps.img"))
	assert.ErrorIs(t, err, os.ErrNotExist, "there is no copy that doesn't say what is missing")
	d.sh("rmdir gaps.img.copy.json")
	d.want(5, "is saved in gaps.img, but", "save", "bad.card", "gaps.img")
	d.card("next.card", "--claimed", "64MB")
	d.want(3, "bad.img is an incomplete copy of bad.card", "stamp", "--yes", "bad.img", "next.card").mentions(t,
		"add --incomplete")
	d.want(3, "bad.img is an incomplete copy", "stamp", "--dry-run", "bad.img", "next.card")
	d.want(0, "Stamped and read back", "stamp", "--yes", "--incomplete", "bad.img", "next.card")
	d.want(0, "is as it was stamped", "recheck", "next.card", "bad.img").mentions(t, "is an incomplete copy")

	d.want(2, "needs the file to write; only next.card was given. Next: name it after the card: zipstamp save "+
		"next.card copy.img.zst", "save", "next.card")

	d.card("gone.card", "--claimed", "64MB", "--gone-after", "30MB")
	d.want(4, "gone.card is not saved: it was pulled out", "save", "gone.card", "gone.img.zst")
	// it is put in again, and no longer comes out
	spec := bytes.ReplaceAll(d.read("gone.card"), []byte("gone_after"), []byte("# gone_after"))
	d.write("gone.card", spec)
	r = d.want(0, "gone.card is saved: 64.0 MB of it are in gone.img.zst", "save", "gone.card", "gone.img.zst")
	assert.Contains(t, plain(r.err), "A copy into gone.img.zst was interrupted; it is carried on from")
	d.want(0, "is unchanged since it was saved", "check", "--sums", "gone.img.zst.sha256", "gone.img.zst")
	d.sh("sha256sum -c --ignore-missing --strict gone.img.zst.sha256; mkdir far; mv gone.img.zst far/; " +
		"cat gone.img.zst.sha256 >> far/SHA256SUMS")
	d.want(0, "is unchanged since it was saved from gone.card", "check", "far/gone.img.zst")
}

// TestCopyBeforeACardIsOverwritten keeps what was on the card.
func TestCopyBeforeACardIsOverwritten(t *testing.T) {
	t.Parallel()
	d := newDesk(t, demo.XZ, demo.Sums)
	d.card("a.card", "--claimed", "64MB")
	d.card("b.card", "--claimed", "64MB")
	before := d.fill("a.card", 64_000_000)
	r := d.want(0, "Stamped and read back", "stamp", "--yes", "--save-first", "old.img.gz", demo.XZ, "a.card")
	assert.Contains(t, plain(r.err), "a.card is saved: 64.0 MB of it are in old.img.gz")
	assert.NotEqual(t, before, d.sum("a.card"))
	cmd := d.command("stamp", "--yes", "--unchecked", "old.img.gz", "b.card")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	assert.Equal(t, before, d.sum("b.card"))
	d.want(2, "old.img.gz already exists", "stamp", "--yes", "--save-first", "old.img.gz", demo.XZ, "a.card")
	d.want(2, "--save-first copies one card", "stamp", "--yes", "--save-first", "x.img", demo.XZ, "a.card", "b.card")
	d.card("bad.card", "--claimed", "64MB", "--fault", "kind=read,sector=50000")
	held := fmt.Sprintf("%x", d.sum("bad.card"))
	d.want(5, "could not be read and are zeros there; nothing was written to it", "stamp", "--yes", "--save-first",
		"bad.img",
		demo.XZ, "bad.card")
	assert.Equal(t, held, fmt.Sprintf("%x", d.sum("bad.card")))
}
