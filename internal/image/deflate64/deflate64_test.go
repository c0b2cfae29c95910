package deflate64

import (
	"archive/zip"
	"bytes"
	"compress/flate"
	"errors"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/testbed"
)

// packed has the reference program pack data, and gives what is in the archive's member.
func packed(t testing.TB, data []byte, options ...string) []byte {
	t.Helper()
	testbed.NeedTool(t, "7z")
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tide"), data, 0o600))
	cmd := exec.Command("7z", append([]string{"a", "-tzip", "-mm=Deflate64", "x.zip", "tide"}, options...)...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	z, err := zip.OpenReader(filepath.Join(dir, "x.zip"))
	require.NoError(t, err)
	defer func() { assert.NoError(t, z.Close()) }()
	r, err := z.File[0].OpenRaw()
	require.NoError(t, err)
	text, err := io.ReadAll(r)
	require.NoError(t, err)
	return text
}

// mixed is data of all kinds: noise, runs that are longer than any match of deflate, and words that come again from
// farther than its window.
func mixed(n int) []byte {
	r := rand.New(rand.NewPCG(9, 9))
	var out []byte
	for len(out) < n {
		switch r.IntN(5) {
		case 0:
			for range 1 + r.IntN(5000) {
				out = append(out, byte(r.Uint32()))
			}
		case 1:
			out = append(out, bytes.Repeat([]byte{byte(r.Uint32())}, r.IntN(200_000))...)
		case 2:
			out = append(out, bytes.Repeat([]byte("Saltmarsh OS, ebb and flow; "), 1+r.IntN(300))...)
		case 3:
			if back := r.IntN(len(out) + 1); back > 0 {
				start := len(out) - back
				out = append(out, out[start:min(start+r.IntN(90_000), len(out))]...)
			}
		case 4:
			for range 2000 {
				out = append(out, "0123456789abcdef"[r.IntN(16)])
			}
		}
	}
	return out[:n]
}

func TestAsTheReferencePacks(t *testing.T) {
	for what, c := range map[string]struct {
		data    []byte
		options []string
	}{
		"empty": {nil, nil}, "a byte": {[]byte("a"), nil}, "zeros": {make([]byte, 3<<20), nil},
		"mixed": {mixed(5 << 20), nil}, "mixed, fast": {mixed(2 << 20), []string{"-mx=1"}},
		"mixed, best": {mixed(1 << 20), []string{"-mx=9"}}, "noise": {mixed(100), nil},
	} {
		if len(c.data) == 0 {
			continue // the program stores it
		}
		text := packed(t, c.data, c.options...)
		if len(text) == len(c.data) {
			continue // likewise
		}
		for how, r := range map[string]io.Reader{
			"at once": bytes.NewReader(text), "by bytes": iotest.OneByteReader(bytes.NewReader(text)),
			"with the end": iotest.DataErrReader(bytes.NewReader(text)),
		} {
			got, err := io.ReadAll(NewReader(r))
			require.NoError(t, err, "%s, %s", what, how)
			assert.True(t, bytes.Equal(c.data, got), "%s, %s", what, how)
		}
		for _, n := range []int{0, 1, len(text) / 2, len(text) - 1} {
			_, err := io.ReadAll(NewReader(bytes.NewReader(text[:n])))
			assert.ErrorIs(t, err, io.ErrUnexpectedEOF, "%s, cut at %d", what, n)
		}
		_, err := io.ReadAll(NewReader(io.MultiReader(bytes.NewReader(text[:len(text)/2]),
			iotest.ErrReader(errors.New("the card was pulled")))))
		assert.ErrorContains(t, err, "the card was pulled", what)
	}
}

// TestAsDeflate holds that what deflate packs without its longest match is the same here: the two differ in nothing
// else that can be met within 32 KiB.
func TestAsDeflate(t *testing.T) {
	for _, level := range []int{flate.NoCompression, flate.HuffmanOnly, flate.BestSpeed, flate.BestCompression} {
		data := mixed(300_000)
		if level > flate.NoCompression {
			data = nil // no match may be 258 long, so short pieces that differ
			for i := range 20_000 {
				data = append(data, []byte{byte(i), byte(i >> 8), 't', 'i', 'd', 'e', byte(i * 7)}...)
			}
		}
		var b bytes.Buffer
		w, err := flate.NewWriter(&b, level)
		require.NoError(t, err)
		_, err = w.Write(data)
		require.NoError(t, errors.Join(err, w.Close()))
		got, err := io.ReadAll(NewReader(&b))
		require.NoError(t, err, level)
		assert.True(t, bytes.Equal(data, got), level)
	}
}

// FuzzUnpack gives any bytes: what comes out without an error is not more than what the bits can say, and memory stays
// bounded.
func FuzzUnpack(f *testing.F) {
	f.Add([]byte{0x4b, 0xcc, 0x4d, 0x2d, 0x49, 0x05, 0x00})
	f.Add([]byte{1, 4, 0, 0xfb, 0xff, 't', 'i', 'd', 'e'})
	if _, err := exec.LookPath("7z"); err == nil {
		f.Add(packed(f, mixed(20_000)))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		d := NewReader(bytes.NewReader(text))
		n, err := io.Copy(io.Discard, io.LimitReader(d, 64<<20))
		if err == nil && n > int64(len(text))*8*longest {
			t.Fatalf("%d bytes of %d", n, len(text))
		}
		if err != nil && !errors.Is(err, ErrDamaged) && !errors.Is(err, io.ErrUnexpectedEOF) {
			t.Fatal(err)
		}
	})
}

func BenchmarkUnpack(b *testing.B) {
	data := mixed(8 << 20)
	text := packed(b, data)
	b.SetBytes(int64(len(data)))
	for b.Loop() {
		if _, err := io.Copy(io.Discard, NewReader(bytes.NewReader(text))); err != nil {
			b.Fatal(err)
		}
	}
}
