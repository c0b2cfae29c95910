package e2e

import (
	"bytes"
	"encoding/json"
	"image/png"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
)

// TestReceiptsAreListedShownAndExported has one receipt of each job.
func TestReceiptsAreListedShownAndExported(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, demo.Sums)
	d.want(0, "There are no receipts yet.", "receipts", "list")
	d.want(2, "there is no such receipt", "receipts", "show")
	d.card("good.card", "--claimed", "64MB", "--serial", "SW-0001")
	d.card("liar.card", "--claimed", "512MB", "--real", "70MB", "--beyond", "drop", "--serial", "SW-0003")
	d.card("tiny.card", "--claimed", "8MB")
	var printed []string // the latest last
	job := func(status int, says string, args ...string) {
		t.Helper()
		printed = append(printed, d.want(status, says, args...).out)
	}
	job(0, "", "stamp", "--yes", osXZ, "good.card")
	job(0, "", "recheck", "good.card", osXZ)
	job(0, "sequential", "pace", "good.card")
	job(0, "is as it was stamped", "recheck", "good.card") // it left the card as it was
	d.want(4, "too small to measure", "pace", "tiny.card")
	d.want(4, "no test of it was found", "blank", "--yes", "--real-size", "liar.card")
	job(6, "", "gauge", "spots", "liar.card")
	job(0, "of 62.9 MB", "blank", "--yes", "--real-size", "--label", "tides", "liar.card")
	d.want(4, "found that it holds less than it claims", "blank", "--yes", "liar.card")
	d.want(4, "bytes) are too few for a FAT32", "blank", "--yes", "--file-system", "fat32", "tiny.card")
	d.want(2, "can't have", "blank", "--yes", "--label", "a/b", "liar.card")
	job(6, "", "gauge", "whole", "--yes", "liar.card")

	r := d.want(0, "7 receipts, the latest first", "receipts", "list")
	assert.Contains(t, r.out, "gauge whole liar.card (512 MB, SW-0003): counterfeit")
	assert.Contains(t, r.out, "stamp of saltmarsh-os.img.xz on good.card (")
	d.want(0, "3 receipts", "receipts", "list", "--card", "sw-0003")
	d.want(0, "3 receipts", "receipts", "list", "--image", "SALTMARSH")
	d.want(0, "None of the 7 receipts matches.", "receipts", "list", "--until", "2020-01-01")
	d.want(0, "7 receipts", "receipts", "list", "--since", "2020-01-01", "--until", "2099-01-01")
	d.want(2, "is not a day", "receipts", "list", "--since", "someday")

	files, err := filepath.Glob(d.path("state/zipstamp/receipts/*.json"))
	require.NoError(t, err)
	for i := range 7 {
		number := string(rune('1' + i))
		assert.Equal(t, printed[6-i], d.want(0, "", "receipts", "show", number).out, "what the command printed")
	}
	require.Len(t, files, 7)
	d.write("disk.img", nil)
	require.NoError(t, os.Truncate(d.path("disk.img"), 1<<40))
	d.want(2, "disk.img is no receipt", "receipts", "show", "disk.img") // and not read to its end
	d.want(0, "liar.card is counterfeit", "receipts", "show", "--card", "liar")
	d.want(0, "good.card is as it was stamped", "receipts", "show", "--card", "good")

	d.want(0, "Exported the receipt of gauge whole liar.card", "receipts", "export", "a.html")
	page := string(d.read("a.html"))
	list := document(t, d.want(0, "", "receipts", "list", "--json"))
	assert.Contains(t, page, list["list"].([]any)[0].(map[string]any)["sha256"], "the digest of the record")
	assert.Contains(t, page, "70.0 MB")
	d.want(0, "Exported", "receipts", "export", "a.png", "3")
	img, err := png.Decode(bytes.NewReader(d.read("a.png")))
	require.NoError(t, err)
	assert.GreaterOrEqual(t, img.Bounds().Dy(), 400)
	d.want(0, "Exported", "receipts", "export", "a.txt")
	assert.Contains(t, plain(string(d.read("a.txt"))), "SHA-256 of the record")
	d.want(0, "Exported", "receipts", "export", "a.json")
	require.True(t, json.Valid(d.read("a.json")))
	d.want(0, "liar.card is counterfeit", "receipts", "show", "a.json")
	d.want(2, "but not as", "receipts", "export", "a.pdf")
	d.want(2, "is no receipt", "receipts", "show", demo.Sums)
	d.want(2, "there is no such receipt", "receipts", "show", "99")
	d.want(2, "there is no file none.json", "receipts", "show", "none.json")
}

// TestExportReplacesNothingElse exports a receipt to where something else is.
func TestExportReplacesNothingElse(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.card("a.card", "--claimed", "64MB")
	d.want(0, "", "gauge", "spots", "--yes", "a.card")
	for _, name := range []string{"a.html", "a.png", "a.txt", "a.json"} {
		d.write(name, []byte("tides of the year"))
		d.want(2, name+" already exists", "receipts", "export", name)
		assert.Equal(t, "tides of the year", string(d.read(name)))
		require.NoError(t, os.Remove(d.path(name)))
		d.want(0, "", "receipts", "export", name)
		d.want(0, "", "receipts", "export", name) // its own it may replace
	}
}
