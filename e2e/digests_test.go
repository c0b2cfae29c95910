package e2e

import (
	"crypto/sha256"
	"crypto/sha3"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
)

// TestDigestsAsPeopleHaveThem gives the digest of a download in the ways that pages, programs and folders have it.
func TestDigestsAsPeopleHaveThem(t *testing.T) {
	t.Parallel()
	d := newDesk(t, demo.XZ)
	hex := fmt.Sprintf("%x", sha256.Sum256(d.read(demo.XZ)))
	const right, wrong = "is what was published: its SHA-256 agrees", "is not what was published"
	for _, text := range []string{
		hex + "  " + demo.XZ, "SHA256 (" + demo.XZ + ") = " + hex, "“" + strings.ToUpper(hex) + "”", "0x" + hex,
		"Saltmarsh OS 5, in May\n" + demo.XZ + "\nSHA256: " + hex + "\nother.img\nSHA256: " + strings.Repeat("a1", 32),
	} {
		d.want(0, right, "check", "--digest", text, demo.XZ)
	}
	d.want(0, "The digest given is that of other.img, by what was given with it", "check", "--digest", hex+" other.img",
		demo.XZ)
	d.want(3, wrong, "check", "--digest", strings.Repeat("a1", 32)+"  "+demo.XZ, demo.XZ)
	in := d.command("check", "--digest", "-", demo.XZ)
	in.Stdin = strings.NewReader(hex + "\n")
	out, err := in.Output()
	require.NoError(t, err)
	assert.Contains(t, plain(string(out)), right)

	beside := func(status int, says, file, text string, args ...string) run {
		t.Helper()
		d.write(file, []byte(text))
		r := d.want(status, says, append(append([]string{"check"}, args...), demo.XZ)...)
		require.NoError(t, os.Remove(d.path(file)))
		return r
	}
	beside(0, right, "hash.txt", hex)
	beside(0, right, "sha256sum (1).txt", hex+"  "+demo.XZ)
	beside(0, right, "saltmarsh-os.sha256", hex)
	beside(0, "its SHA3-256 agrees", "checksums", fmt.Sprintf("%x  %s\n", sha3.Sum256(d.read(demo.XZ)), demo.XZ))
	beside(0, right, "page.html", "<html><table><tr><td>"+demo.XZ+"<td>"+hex+"</table>", "--sums", "page.html")
	beside(0, "hash.txt has a digest without a name", "hash.txt", strings.Repeat("a1", 32))
	beside(3, wrong, "notes.txt", demo.XZ+": "+strings.Repeat("a1", 32))

	// what the program itself computed is not what was published
	d.card("own.card", "--claimed", "64MB")
	d.want(0, "Stamped and read back", "stamp", "--yes", "--unchecked", "--receipt", "stamped.json", demo.XZ,
		"own.card")
	d.want(0, "Exported", "receipts", "export", "stamped.txt", "stamped.json")
	d.write("kept.txt", []byte(d.zipstamp("check", demo.XZ).out))
	d.write("kept.json", []byte(d.zipstamp("check", "--json", demo.XZ).out))
	d.want(0, "Nothing was compared", "check", demo.XZ)
	d.want(3, "not what somebody published", "check", "--sums", "kept.txt", demo.XZ)

	// a file of digests in the place of an image, or beside it
	d.write("SHA256SUMS", []byte(hex+"  "+demo.XZ+"\n"+strings.Repeat("a1", 32)+"  other.img\n"))
	r := d.want(0, "other.img is named there, too, and is not here", "check", "SHA256SUMS")
	assert.Contains(t, plain(r.out), right)
	d.want(0, right, "check", demo.XZ, "SHA256SUMS")
	d.want(0, right, "check", "SHA256SUMS", demo.XZ)
	d.want(2, "is a file of digests, not an image. Next: did you mean", "stamp", "--yes", "SHA256SUMS", "a.card")

	// unpacked by hand
	d.write("saltmarsh-os.img", unpack)
	d.want(0, "is what "+demo.XZ+" unpacks to, and that is what was published", "check", "saltmarsh-os.img")
	d.card("a.card", "--claimed", "64MB")
	d.want(0, "Stamped and read back", "stamp", "--yes", "saltmarsh-os.img", "a.card")
	d.want(0, "of the packed file that the image is unpacked from", "receipts", "show")
	doc := document(t, d.zipstamp("check", "--json", "saltmarsh-os.img"))["images"].([]any)[0].(map[string]any)
	assert.Equal(t, demo.XZ, filepath.Base(doc["unpacked_from"].(string)))
	changed := append([]byte{}, unpack...)
	changed[len(changed)/2]++
	d.write("saltmarsh-os.img", changed)
	d.want(3, "is not what "+demo.XZ+" unpacks to, though that is what was published", "stamp", "--yes",
		"saltmarsh-os.img",
		"a.card")
	require.NoError(t, os.Remove(d.path(demo.XZ)))
	d.want(0, "the published digest is of the packed file "+demo.XZ+", which is not here", "check", "saltmarsh-os.img")
	d.want(3, "stamp the packed file, which needs no unpacking", "stamp", "--yes", "saltmarsh-os.img", "a.card")
	d.want(0, "Stamped and read back", "stamp", "--yes", "--unchecked", "saltmarsh-os.img", "a.card")
	document(t, d.zipstamp("check", "--json", "saltmarsh-os.img"))
}
