package check

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/digest"
)

// TestUnpackedByHand has an image that was unpacked from a download of which the digest is published.
func TestUnpackedByHand(t *testing.T) {
	d := newDownload(t)
	packed := sum(digest.SHA256, d.packed)
	changed := bytes.Clone(d.img)
	changed[len(changed)/2]++
	line := packed.Hex() + "  saltmarsh-os.img.gz\n"
	for what, c := range map[string]struct {
		packed, img []byte // as they lie there; nil: not there
		sums        string
		given       []digest.Digest
		outcome     Outcome
		right, same bool
	}{
		"all is right":                {d.packed, d.img, line, nil, Matched, true, true},
		"its digest given":            {d.packed, d.img, "", []digest.Digest{packed}, Matched, true, true},
		"the image was changed":       {d.packed, changed, line, nil, Mismatched, true, false},
		"changed, its digest given":   {d.packed, changed, "", []digest.Digest{packed}, Mismatched, true, false},
		"the packed file is another":  {append(bytes.Clone(d.packed), 0), d.img, line, nil, Mismatched, false, true},
		"the packed file is not here": {nil, d.img, line, nil, NothingPublished, false, false},
		"it is not one":               {[]byte("saltmarsh"), d.img, line, nil, Mismatched, false, false},
		"another digest given": {
			d.packed, d.img, "", []digest.Digest{sum(digest.SHA256, nil)}, Mismatched, false, false,
		},
		"the image's own, and its own": {
			d.packed, d.img, line + sum(digest.SHA256, d.img).Hex() + "  saltmarsh-os.img\n", nil, Matched, false,
			false,
		},
	} {
		dir := t.TempDir()
		path := filepath.Join(dir, "saltmarsh-os.img")
		require.NoError(t, os.WriteFile(path, c.img, 0o600))
		if c.packed != nil {
			require.NoError(t, os.WriteFile(path+".gz", c.packed, 0o600))
		}
		if c.sums != "" {
			require.NoError(t, os.WriteFile(filepath.Join(dir, "SHA256SUMS"), []byte(c.sums), 0o600))
		}
		r := run(t, path, c.given, nil, nil)
		assert.Equal(t, c.outcome, r.Outcome(), what)
		if r.Via == nil {
			assert.False(t, c.right, what)
			continue
		}
		assert.Equal(t, []bool{c.right, c.same}, []bool{r.Via.Right, r.Via.Same}, what)
		assert.Equal(t, path+".gz", r.Via.Path, what)
	}
}

// TestDigestsThatOnlyMayBeMeant has digests without a name beside an image, and by an algorithm that nothing tells.
func TestDigestsThatOnlyMayBeMeant(t *testing.T) {
	d := newDownload(t)
	other := sum(digest.SHA256, nil)
	for what, c := range map[string]struct {
		file, text string
		outcome    Outcome
		near       int
	}{
		"of the download":   {"hash.txt", sum(digest.SHA256, d.packed).Hex(), Matched, 0},
		"of the image":      {"hash.txt", sum(digest.SHA512, d.img).Hex(), Matched, 0},
		"of something else": {"hash.txt", other.Hex(), NothingPublished, 1},
		"one of two":        {"notes.txt", other.Hex() + "\n\n" + sum(digest.SHA256, d.packed).Hex(), Matched, 1},
		"SHA-3": {
			"SHA512SUMS.bak", sum(digest.SHA3_512, d.packed).Hex() + "  saltmarsh-os.img.gz", Mismatched, 0,
		},
		"BLAKE2b, not said": {
			"checksums", sum(digest.BLAKE2b512, d.packed).Hex() + "  saltmarsh-os.img.gz", Matched, 0,
		},
		"BLAKE3, not said":   {"checksums", sum(digest.BLAKE3, d.img).Hex() + "  saltmarsh-os.img", Matched, 0},
		"SHA3-256, not said": {"digests", sum(digest.SHA3_256, d.packed).Hex() + "  saltmarsh-os.img.gz", Matched, 0},
		"none of them":       {"checksums", other.Hex() + "  saltmarsh-os.img.gz", Mismatched, 0},
	} {
		d.write(t, c.file, []byte(c.text+"\n"))
		r := run(t, d.path, nil, nil, nil)
		assert.Equal(t, c.outcome, r.Outcome(), what)
		assert.Len(t, r.Near, c.near, what)
		for _, h := range r.Published {
			assert.Equal(t, c.outcome == Matched, h.Matched != Neither, what)
		}
		require.NoError(t, os.Remove(filepath.Join(d.dir, c.file)))
	}
}
