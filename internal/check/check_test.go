package check

import (
	"bytes"
	"compress/gzip"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/meter"
	"zipstamp/internal/testbed"
)

// download is an image and its packed form.
type download struct {
	img, packed []byte
	dir, path   string
}

func newDownload(t *testing.T) *download {
	t.Helper()
	random := rand.New(rand.NewPCG(1, 1))
	img := make([]byte, 3<<20)
	for i := range img[:1<<20] {
		img[i] = byte(random.Uint32())
	}
	img[510], img[511] = 0x55, 0xAA
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	_, err := z.Write(img)
	require.NoError(t, err)
	require.NoError(t, z.Close())
	d := &download{img: img, packed: b.Bytes(), dir: t.TempDir()}
	d.path = d.write(t, "saltmarsh-os.img.gz", d.packed)
	return d
}

func (d *download) write(t *testing.T, name string, data []byte) string {
	t.Helper()
	path := filepath.Join(d.dir, name)
	require.NoError(t, os.WriteFile(path, data, 0o600))
	return path
}

func sum(a digest.Algorithm, data []byte) digest.Digest {
	h := digest.NewHasher(a)
	h.Write(data)
	return h.Digests()[0]
}

// run finds what was published, and checks.
func run(t *testing.T, path string, given []digest.Digest, sums []string, m *meter.Meter) Report {
	t.Helper()
	f, err := image.Open(path)
	require.NoError(t, err)
	defer f.Close()
	var texts []*digest.Sums
	for _, d := range given {
		texts = append(texts, &digest.Sums{Given: true, Entries: []digest.Entry{{Digest: d, Line: 1}}})
	}
	p, err := Find(f, "", Given{Texts: texts, Sums: sums}, Keys{})
	require.NoError(t, err)
	r, err := Run(context.Background(), f, "", p, m)
	require.NoError(t, err)
	return r
}

func TestEveryPublishedDigestIsHeld(t *testing.T) {
	d := newDownload(t)
	zero := digest.New(digest.SHA512, make([]byte, 64))
	for what, c := range map[string]struct {
		given   []digest.Digest
		outcome Outcome
		on      []On
		unpacks bool
		weak    bool
	}{
		"of the download": {[]digest.Digest{sum(digest.SHA256, d.packed)}, Matched, []On{Download}, false, false},
		"of the image":    {[]digest.Digest{sum(digest.SHA384, d.img)}, Matched, []On{Image}, true, false},
		"of both": {
			[]digest.Digest{sum(digest.SHA224, d.img), sum(digest.SHA512, d.packed)},
			Matched,
			[]On{Image, Download},
			true, false,
		},
		"weak ones": {
			[]digest.Digest{sum(digest.MD5, d.packed), sum(digest.SHA1, d.packed)},
			Matched,
			[]On{Download, Download},
			false, true,
		},
		"one of two is wrong": {
			[]digest.Digest{sum(digest.SHA256, d.packed), zero}, Mismatched, []On{Download, Neither}, true, false,
		},
		"wrong":   {[]digest.Digest{zero}, Mismatched, []On{Neither}, true, false},
		"nothing": {nil, NothingPublished, nil, true, false},
	} {
		var m meter.Meter
		r := run(t, d.path, c.given, nil, &m)
		m.End()
		assert.Equal(t, c.outcome, r.Outcome(), what)
		var on []On
		for _, h := range r.Published {
			on = append(on, h.Matched)
		}
		assert.Equal(t, c.on, on, what)
		assert.Equal(t, c.weak, r.OnlyForgeable(), what)
		assert.Equal(t, sum(digest.SHA256, d.packed), r.Download[0], "SHA-256 of the download is always known: %s",
			what)
		if assert.Equal(t, c.unpacks, len(r.Image) > 0, "unpacked only where it is needed: %s", what) && c.unpacks {
			assert.Equal(t, sum(digest.SHA256, d.img), r.Image[0], what)
			assert.Equal(t, image.Size{Bytes: int64(len(d.img)), Certainty: image.Exact}, r.Unpacked, what)
		}
		passes := 1
		if c.unpacks && c.outcome != NothingPublished {
			passes = 2
		}
		assert.Len(t, m.Past(), passes, "passes over the file: %s", what)
	}
}

func TestSumsBesideAnImageMustNameIt(t *testing.T) {
	d := newDownload(t)
	mine, other := sum(digest.SHA256, d.packed), sum(digest.SHA256, []byte("other"))
	d.write(t, "SHA256SUMS", []byte(fmt.Sprintf("%s  other.img\n%s *saltmarsh-os.img.gz\n", other.Hex(), mine.Hex())))
	r := run(t, d.path, nil, nil, nil)
	require.Equal(t, Matched, r.Outcome())
	assert.Equal(t, 2, r.Published[0].Line)

	renamed := d.write(t, "saltmarsh-os (1).img.gz", d.packed)
	r = run(t, renamed, nil, nil, nil)
	require.Equal(t, Mismatched, r.Outcome())
	assert.Equal(t, "saltmarsh-os.img.gz", r.Wrong[0].Other.File, "it is told which file this is")
	assert.Equal(t, Matched, run(t, renamed, []digest.Digest{mine}, nil, nil).Outcome(),
		"a digest that is given counts alone")

	d.write(t, "SHA256SUMS", []byte(other.Hex()+"  saltmarsh-os.img.gz\n"+mine.Hex()+"  newer.img.gz\n"))
	r = run(t, d.path, nil, nil, nil)
	require.Equal(t, Mismatched, r.Outcome())
	assert.Equal(t, "newer.img.gz", r.Published[0].Other.File, "the wrong download")

	f, err := image.Open(d.path)
	require.NoError(t, err)
	defer f.Close()
	_, err = Find(f, "", Given{Sums: []string{filepath.Join(d.dir, "none")}}, Keys{})
	assert.ErrorIs(t, err, os.ErrNotExist)
}

func TestWhyAFileIsNotWhatWasPublished(t *testing.T) {
	d := newDownload(t)
	want := []digest.Digest{sum(digest.SHA256, d.packed)}
	flipped := bytes.Clone(d.packed)
	flipped[len(flipped)/2] ^= 8
	short := bytes.Clone(d.img)
	clear(short[446:510])
	copy(short[446:], []byte{0, 0, 0, 0, 0x0C, 0, 0, 0, 0, 8, 0, 0, 0, 0, 1, 0})
	for what, c := range map[string]struct {
		data  []byte
		check func(Report)
	}{
		"cut short": {d.packed[:len(d.packed)-100], func(r Report) {
			var damage *image.DamageError
			if assert.ErrorAs(t, r.Damage, &damage) {
				assert.True(t, damage.Truncated)
			}
		}},
		"damaged": {flipped, func(r Report) {
			assert.ErrorAs(t, r.Damage, new(*image.DamageError))
			assert.Empty(t, r.Image)
		}},
		"a web page": {
			[]byte("<html>log in first</html>"), func(r Report) { assert.Equal(t, image.WebPage, r.Other.Kind) },
		},
		"empty": {nil, func(r Report) { assert.Zero(t, r.Size) }},
		"shorter than parts": {
			short, func(r Report) { assert.EqualValues(t, 2048*512+65536*512-len(short), r.Shortfall) },
		},
	} {
		path := d.write(t, "x.img", c.data)
		r := run(t, path, want, nil, nil)
		assert.Equal(t, Mismatched, r.Outcome(), what)
		c.check(r)
		assert.Equal(t, sum(digest.SHA256, c.data), r.Download[0], "the digest is known all the same: %s", what)
		r = run(t, path, nil, nil, nil)
		assert.Equal(t, Broken, r.Outcome(), "with nothing published: %s", what)
		assert.Equal(t, sum(digest.SHA256, c.data), r.Download[0], what)
	}
}

func TestCheckEndsWithItsContext(t *testing.T) {
	d := newDownload(t)
	f, err := image.Open(d.path)
	require.NoError(t, err)
	defer f.Close()
	stopped := errors.New("stopped")
	ctx, cancel := context.WithCancelCause(context.Background())
	cancel(stopped)
	for _, p := range []Published{{}, {Digests: []digest.Published{{Digest: sum(digest.SHA256, nil)}}}} {
		_, err = Run(ctx, f, "", p, nil)
		assert.ErrorIs(t, err, stopped)
	}
}

// TestWhatIsNotComputedIsNotCompared tells a digest that differs from one that could not be computed.
func TestWhatIsNotComputedIsNotCompared(t *testing.T) {
	testbed.NeedTool(t, "sh", "zip", "gzip")
	dir := t.TempDir()
	img := make([]byte, 8192)
	img[510], img[511] = 0x55, 0xAA
	text := []byte("Tides of the week\n")
	for name, data := range map[string][]byte{"os.img": img, "tides.txt": text, "empty.img": nil} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), data, 0o600))
	}
	cmd := exec.Command("sh", "-ec", "zip -q -P secret secret.zip os.img; gzip -k tides.txt")
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	check := func(name string, data []byte) Report {
		return run(t, filepath.Join(dir, name), []digest.Digest{sum(digest.SHA256, data)}, nil, nil)
	}
	r := check("secret.zip", img)
	assert.Equal(t, Mismatched, r.Outcome())
	assert.ErrorContains(t, r.Uncompared(), string(image.Encrypted))
	r = check("tides.txt.gz", text)
	assert.Equal(t, Matched, r.Outcome(), "the digest is right, whatever it is of")
	assert.ErrorContains(t, r.NoImage, string(image.Text))
	r = check("tides.txt.gz", img)
	assert.Equal(t, Mismatched, r.Outcome())
	assert.NoError(t, r.Uncompared())
	assert.Equal(t, Broken, check("empty.img", nil).Outcome(), "nothing is no image, whatever was published")
}
