package e2e

import (
	"bytes"
	"compress/gzip"
	"crypto/md5"
	"crypto/sha256"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
)

// gz packs a small image.
func gz(t *testing.T, img []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, err := z.Write(img)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	return b.Bytes()
}

func TestCheck(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	img := bytes.Clone(unpack[:3<<20])
	packed := gz(t, img)
	sum := fmt.Sprintf("%x", sha256.Sum256(packed))
	inner := fmt.Sprintf("%x", sha256.Sum256(img))
	d.write("a.img.gz", packed)
	d.write("other.img.gz", packed)
	d.write("cut.img.gz", packed[:len(packed)/2])
	d.write("page.img.gz", []byte("<html><head><title>404"))
	d.write("empty.img.gz", nil)
	d.write("cut.img", unpack[:22<<20])
	d.write("far/SUMS", []byte("# the club's images\r\n"+sum+" *a.img.gz\r\n"))

	d.want(3, "Nothing was compared", "check", "--must-match", "a.img.gz").mentions(t,
		"Nothing was compared: no published digest", grouped(sum), grouped(inner), "unpacks to its end")
	d.want(0, "Nothing was compared", "check", "a.img.gz")
	d.want(3, `page.img.gz is a web page ("404"), not an image`, "check", "page.img.gz")
	d.want(3, "cut short: the file ends at byte", "check", "cut.img.gz")
	d.want(0, "its SHA-256 agrees", "check", "--digest", "SHA256: "+strings.ToUpper(sum[:20])+" "+sum[20:], "a.img.gz")
	d.want(0, "the SHA-256 of the image in it agrees", "check", "--digest", inner, "a.img.gz")
	d.want(0, "as in far/SUMS, line 2, for the file as downloaded", "check", "--sums", "far/SUMS", "a.img.gz")
	d.want(3, "is not what was published", "check", "--digest", sum, "--digest", "md5:"+strings.Repeat("0", 32),
		"a.img.gz").
		mentions(t, "its MD5 differs", "SHA-256 agrees with the digest given")
	wrong := sum[:40] + "0" + sum[41:]
	if wrong == sum {
		wrong = sum[:40] + "1" + sum[41:]
	}
	r := d.want(3, "digit 41 is the first that differs", "check", "--digest", wrong, "a.img.gz")
	lines := strings.Split(r.out, "\n")
	for i, l := range lines {
		if at := strings.Index(l, "^"); at >= 0 {
			column := len([]rune(l[:at]))
			assert.Equal(t, sum[40:41], string([]rune(lines[i-1])[column]), "the mark is under the digit:\n%s", r.out)
			break
		}
	}
	d.want(3, "this is that file under another name, or the wrong download", "check", "--sums", "far/SUMS",
		"other.img.gz").
		mentions(t, "SUMS does not name other.img.gz", "the one of a.img.gz (SUMS, line 2)")
	d.want(3, "cut short: the file ends at byte", "check", "--digest", sum, "cut.img.gz")
	d.want(3, `is a web page ("404"), not the image`, "check", "--digest", sum, "page.img.gz")
	d.want(3, "is empty", "check", "--digest", sum, "empty.img.gz")
	d.want(3, "its partition table goes on for", "check", "--digest", sum, "cut.img")
	d.want(2, "there is no file none.img", "check", "none.img")
	d.want(2, "but several images were given", "check", "--digest", sum, "a.img.gz", "cut.img.gz")
	d.want(2, "zipstamp check needs an image; none was given", "check")

	d.write("a.img.gz.md5", []byte("00000000000000000000000000000000\n"))
	d.want(3, "its MD5 differs", "check", "a.img.gz")
	d.write("a.img.gz.md5", []byte(fmt.Sprintf("-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA256\n\n%x  "+
		"a.img.gz\n-----BEGIN PGP SIGNATURE-----\nx\n-----END PGP SIGNATURE-----\n", md5.Sum(packed))))
	d.want(3, "its signature is refused", "check", "a.img.gz").mentions(t, "within a.img.gz.md5", "not well formed")
	d.write("a.img.gz.md5", []byte(fmt.Sprintf("%x\n", md5.Sum(packed))))
	d.want(0, "is not damaged: its MD5 agrees", "check", "a.img.gz").mentions(t, "It does not show who made it")

	r = d.want(3, "4 images checked: 2 as published, 2 not, 0 with nothing to compare", "check", "a.img.gz",
		"other.img.gz", "none.img", "page.img.gz")
	assert.Contains(t, plain(r.out), "error there is no file none.img")
}

// mentions checks that a run says all of these too.
func (r run) mentions(t *testing.T, says ...string) {
	t.Helper()
	for _, s := range says {
		assert.Contains(t, plain(r.out+r.err), s)
	}
}

// grouped is a digest as it is shown, on one line.
func grouped(hex string) string {
	var groups []string
	for ; hex != ""; hex = hex[8:] {
		groups = append(groups, hex[:8])
	}
	return strings.Join(groups, " ")
}

func TestCheckAsJSON(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, demo.Sums, "damaged/"+osXZ, "damaged/"+demo.Sums)
	r := d.want(3, "", "check", "--json", osXZ, "damaged/"+osXZ, "none.img")
	doc := document(t, r)
	assert.Equal(t, "check", doc["schema"])
	assert.EqualValues(t, 3, doc["exit"])
	var outcomes []any
	for _, i := range doc["images"].([]any) {
		one := i.(map[string]any)
		outcomes = append(outcomes, one["outcome"])
		assert.NotEmpty(t, one["sentence"])
	}
	assert.Equal(t, []any{"as published", "not as published", "error"}, outcomes)
	first := doc["images"].([]any)[0].(map[string]any)
	assert.EqualValues(t, len(unpack), first["unpacked"])
	assert.Equal(t, "download", first["published"].([]any)[0].(map[string]any)["matched"])
}
