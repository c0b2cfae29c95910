package e2e

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// filesOn is what is on a practice card of a desk.
func (d *desk) filesOn(name string) string {
	d.t.Helper()
	return fileSystemOn(d.read(name + ".data"))
}

// TestCardsOfLooseFiles makes cards of an archive and of a folder, and checks them later.
func TestCardsOfLooseFiles(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.write("saltmarsh.tar", looseTar())
	d.write("SHA256SUMS", fmt.Appendf(nil, "%x  saltmarsh.tar\n", sha256.Sum256(looseTar())))
	for name, data := range looseFiles() {
		d.write(filepath.Join("saltmarsh/salt-1.2", name), data)
	}
	d.write("saltmarsh/salt-1.2/.DS_Store", []byte("x"))
	for name, size := range map[string]string{"a": "64MB", "b": "64MB", "c": "100MB", "tiny": "16MB"} {
		d.card(name+".card", "--claimed", size, "--serial", "SW-"+name)
	}

	// Cards of two sizes; one is too small, and doesn't stop the others.
	all := []string{"blank", "--yes", "--with", "saltmarsh.tar", "--label", "saltboot"}
	before := d.read("tiny.card.data")
	d.want(0, "the files in saltmarsh.tar would be put onto a.card, b.card and c.card",
		append(all, "--dry-run", "a.card", "b.card", "c.card")...).mentions(t, "each becomes a FAT32 card",
		"named SALTBOOT")
	assert.Equal(t, "no table", left(nil, d.read("a.card.data")), "a dry run writes nothing")
	doc := document(t, d.want(4, "", append(all, "--json", "a.card", "b.card", "c.card", "tiny.card")...))
	cards := doc["cards"].([]any)
	require.Len(t, cards, 4)
	for i, name := range []string{"a.card", "b.card", "c.card"} {
		one := cards[i].(map[string]any)
		assert.Equal(t, []any{"blank", "good"}, []any{one["job"], one["verdict"]})
		assert.Contains(t, one["sentence"],
			"has 4 files from saltmarsh.tar on one FAT32 file system named SALTBOOT, and every "+
				"file was read back right.")
		files := one["blank"].(map[string]any)["files"].(map[string]any)
		assert.Equal(t, []any{files["bytes"], 4.0}, []any{files["read"], files["count"]})
		published := one["image"].(map[string]any)["published"].([]any)[0].(map[string]any)
		assert.Equal(t, "download", published["matched"])
		assert.Equal(t, "the files", d.filesOn(name))
	}
	assert.Contains(t, cards[3].(map[string]any)["sentence"], "there is room for")
	assert.True(t, bytes.Equal(before, d.read("tiny.card.data")))
	d.want(4, "the files need a file system of", append(all, "tiny.card")...).mentions(t, "use a larger card")

	// What is done with such a card later.
	d.want(0, "is as it was made: its file system and all files of saltmarsh.tar are on it", "recheck", "a.card")
	r := d.want(0, "files of saltmarsh.tar on c.card", "receipts")
	assert.Contains(t, plain(r.out), "(100 MB, SW-c): good")
	shown := d.want(0, "every file was read back right", "receipts", "show", "3")
	shown.mentions(t, "4 files, ", "from saltmarsh.tar", "as published in SHA256SUMS, line 1", "read files")
	d.want(0, "Exported", "receipts", "export", "page.html", "3")
	assert.True(t, bytes.Contains(d.read("page.html"), []byte("SALTBOOT")))
	at := int64(bytes.Index(d.read("a.card.data"), []byte("console=serial0")))
	d.change("a.card", at, "console=serial1")
	d.want(5, "is not as it was made", "recheck", "a.card").mentions(t, "cmdline.txt")

	// A folder, whose single folder is taken for the top, and the question.
	later := time.Now().AddDate(0, 0, -1)
	require.NoError(t, os.Chtimes(d.path("saltmarsh/salt-1.2/brindle3.dtb"), later, time.Unix(0, 0)))
	asked := d.typed(80, "a.card\n", "blank", "--with", "saltmarsh", "a.card")
	asked.mentions(t, "last made with the files of saltmarsh.tar", "folder salt-1.2", "to keep the folder: --within .",
		"1 file that other systems add", "FAT has no times before 1980", "has 4 files from saltmarsh on one FAT32")
	assert.Equal(t, "the files", d.filesOn("a.card"))
	d.want(0, "has 4 files", "blank", "--yes", "--with", "saltmarsh", "--within", ".", "a.card")
	assert.True(t, bytes.Contains(d.read("a.card.data"), []byte("SALT-1  2  \x10")), "the folder is kept")

	// What can't be.
	d.want(3, "is not what was published", "blank", "--yes", "--with", "saltmarsh.tar", "--digest",
		fmt.Sprintf("%064d", 7), "b.card")
	d.want(2, "only an archive can be compared", "blank", "--yes", "--with", "saltmarsh", "--digest",
		fmt.Sprintf("%064d", 7), "b.card")
	d.write("saltmarsh/salt-1.2/Kernel8.IMG", nil)
	d.want(3, "does not tell capitals from small letters", "blank", "--yes", "--with", "saltmarsh", "b.card")
	d.want(2, "only together with --with", "blank", "--yes", "--within", "x", "b.card")
	d.want(2, "boards start from FAT", "blank", "--yes", "--with", "saltmarsh", "--file-system", "exfat", "b.card")
	d.want(2, "one empty card at a time", "blank", "--yes", "a.card", "b.card")
	assert.Equal(t, "the files", d.filesOn("b.card"), "all that was refused has written nothing")
	d.want(3, "holds boot files", "stamp", "--yes", "saltmarsh.tar", "b.card").
		mentions(t, "zipstamp blank CARD --with saltmarsh.tar")
	d.want(2, "zipstamp blank CARD --with saltmarsh", "stamp", "--yes", "saltmarsh", "b.card")
}

// TestFilesOnACounterfeit has the file system end where the card does.
func TestFilesOnACounterfeit(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.write("saltmarsh.tar", looseTar())
	d.card("liar.card", "--claimed", "640MB", "--real", "100MB", "--serial", "SW-9")
	with := []string{"blank", "--yes", "--unchecked", "--with", "saltmarsh.tar", "liar.card"}
	d.want(3, "give the published digest", "blank", "--yes", "--with", "saltmarsh.tar", "liar.card")
	d.want(6, "is counterfeit: it holds 100 MB of the 640 MB", with...).mentions(t, "got no file system")
	d.want(4, "no test of it was found", append(with, "--real-size")...)
	d.want(6, "", "gauge", "spots", "liar.card")
	d.want(4, "found that it holds less than it claims", with...)
	r := d.want(0, "every file was read back right", append(with, "--real-size")...)
	r.mentions(t, "92.3 MB (92,274,688 bytes)")
	assert.NotContains(t, plain(r.err), "The image fits", "the real size was asked for")
	assert.Equal(t, "the files", d.filesOn("liar.card"))
}

// TestBlankChoosesTheFileSystem is exFAT on large cards, FAT16 on tiny ones, and what was asked for.
func TestBlankChoosesTheFileSystem(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.card("large.card", "--claimed", "64GB")
	d.card("small.card", "--claimed", "64MB")
	d.card("tiny.card", "--claimed", "16MB")
	d.want(0, "one exFAT file system named Tide tables", "blank", "--yes", "--label", "Tide tables", "large.card").
		mentions(t, "Boards can't start from exFAT")
	d.want(0, "becomes an exFAT card with nothing on it; cards of more than 32 GB have exFAT by the SD standard",
		"blank",
		"--dry-run", "large.card")
	d.want(0, "one FAT32 file system named TIDE TABLES", "blank", "--yes", "--label", "Tide tables", "--file-system",
		"fat32", "large.card")
	d.want(0, "one exFAT file system", "blank", "--yes", "--file-system", "exfat", "small.card")
	d.want(0, "FAT16 card with nothing on it; it is too small for FAT32", "blank", "--dry-run", "tiny.card")
	d.want(0, "one FAT16 file system", "blank", "--yes", "tiny.card")
	d.want(2, "is not fat32 or exfat", "blank", "--yes", "--file-system", "ntfs", "tiny.card")
	d.want(2, "can't have", "blank", "--yes", "--label", "a/b", "tiny.card")
}
