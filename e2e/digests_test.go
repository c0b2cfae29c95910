package e2e

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"crypto/sha3"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestDigestsAsPeopleHaveThem gives the digest of a download in the ways that pages, programs and folders have it.
func TestDigestsAsPeopleHaveThem(t *testing.T) {
	t.Parallel()
	const packed = "saltmarsh-os.img.gz"
	d, image := newDesk(t), noiseOS(7, 4<<20)
	var text bytes.Buffer
	w := gzip.NewWriter(&text)
	_, err := w.Write(image)
	require.NoError(t, errors.Join(err, w.Close()))
	d.write(packed, text.Bytes())
	hex := fmt.Sprintf("%x", sha256.Sum256(d.read(packed)))
	const right, wrong = "is what was published: its SHA-256 agrees", "is not what was published"
	for _, text := range []string{
		hex + "  " + packed, "SHA256 (" + packed + ") = " + hex, "“" + strings.ToUpper(hex) + "”", "0x" + hex,
		"Saltmarsh OS 5, in May\n" + packed + "\nSHA256: " + hex + "\nother.img\nSHA256: " + strings.Repeat("a1", 32),
	} {
		d.want(0, right, "check", "--digest", text, packed)
	}
	d.want(0, "The digest given is that of other.img, by what was given with it", "check", "--digest", hex+" other.img",
		packed)
	d.want(3, wrong, "check", "--digest", strings.Repeat("a1", 32)+"  "+packed, packed)
	in := d.command("check", "--digest", "-", packed)
	in.Stdin = strings.NewReader(hex + "\n")
	out, err := in.Output()
	require.NoError(t, err)
	assert.Contains(t, plain(string(out)), right)

	beside := func(status int, says, file, text string, args ...string) run {
		t.Helper()
		d.write(file, []byte(text))
		r := d.want(status, says, append(append([]string{"check"}, args...), packed)...)
		require.NoError(t, os.Remove(d.path(file)))
		return r
	}
	beside(0, right, "hash.txt", hex)
	beside(0, right, "sha256sum (1).txt", hex+"  "+packed)
	beside(0, right, "saltmarsh-os.sha256", hex)
	beside(0, "its SHA3-256 agrees", "checksums", fmt.Sprintf("%x  %s\n", sha3.Sum256(d.read(packed)), packed))
	beside(0, right, "page.html", "<html><table><tr><td>"+packed+"<td>"+hex+"</table>", "--sums", "page.html")
	beside(0, "hash.txt has a digest without a name", "hash.txt", strings.Repeat("a1", 32))
	beside(3, wrong, "notes.txt", packed+": "+strings.Repeat("a1", 32))

	// what the program itself computed is not what was published
	d.card("own.card", "--claimed", "16MB")
	d.want(0, "Stamped and read back", "stamp", "--yes", "--unchecked", "--receipt", "stamped.json", packed,
		"own.card")
	d.want(0, "Exported", "receipts", "export", "stamped.txt", "stamped.json")
	d.write("kept.txt", []byte(d.zipstamp("check", packed).out))
	d.write("kept.json", []byte(d.zipstamp("check", "--json", packed).out))
	d.want(0, "Nothing was compared", "check", packed)
	d.want(3, "not what somebody published", "check", "--sums", "kept.txt", packed)

	// a file of digests in the place of an image, or beside it
	d.write("SHA256SUMS", []byte(hex+"  "+packed+"\n"+strings.Repeat("a1", 32)+"  other.img\n"))
	r := d.want(0, "other.img is named there, too, and is not here", "check", "SHA256SUMS")
	assert.Contains(t, plain(r.out), right)
	d.want(0, right, "check", packed, "SHA256SUMS")
	d.want(0, right, "check", "SHA256SUMS", packed)
	d.want(2, "is a file of digests, not an image. Next: did you mean", "stamp", "--yes", "SHA256SUMS", "a.card")

	// unpacked by hand
	d.write("saltmarsh-os.img", image)
	d.want(0, "is what "+packed+" unpacks to, and that is what was published", "check", "saltmarsh-os.img")
	d.card("a.card", "--claimed", "16MB")
	d.want(0, "Stamped and read back", "stamp", "--yes", "saltmarsh-os.img", "a.card")
	d.want(0, "of the packed file that the image is unpacked from", "receipts", "show")
	doc := document(t, d.zipstamp("check", "--json", "saltmarsh-os.img"))["images"].([]any)[0].(map[string]any)
	assert.Equal(t, packed, filepath.Base(doc["unpacked_from"].(string)))
	changed := append([]byte{}, image...)
	changed[len(changed)/2]++
	d.write("saltmarsh-os.img", changed)
	d.want(3, "is not what "+packed+" unpacks to, though that is what was published", "stamp", "--yes",
		"saltmarsh-os.img",
		"a.card")
	require.NoError(t, os.Remove(d.path(packed)))
	d.want(0, "the published digest is of the packed file "+packed+", which is not here", "check", "saltmarsh-os.img")
	d.want(3, "stamp the packed file, which needs no unpacking", "stamp", "--yes", "saltmarsh-os.img", "a.card")
	d.want(0, "Stamped and read back", "stamp", "--yes", "--unchecked", "saltmarsh-os.img", "a.card")
	document(t, d.zipstamp("check", "--json", "saltmarsh-os.img"))
}
