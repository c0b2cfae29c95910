package image

import (
	"bytes"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestWindowShowsTheImage reads at many places, forwards and backwards, and beyond the end.
func TestWindowShowsTheImage(t *testing.T) {
	d := disk(9<<20 + 77)
	for _, ref := range []reference{
		{commands: "true", file: "disk.img"},
		{commands: "xz -k -0 disk.img", file: "disk.img.xz"},
		{commands: "xz -k0T2 --block-size=700000 disk.img", file: "disk.img.xz"},
		{
			commands: "xz -k0 --block-size=3MiB disk.img; xz -0 -T2 --block-size=2500000 -c disk.img | cat " +
				"disk.img.xz - > x", file: "x", times: 2,
		},
		{commands: "gzip -1k disk.img", file: "disk.img.gz"},
		{commands: "tar cf - disk.img | xz -0 > x", file: "x"},
		{commands: "7z a -mx1 x.7z disk.img", file: "x.7z"},
	} {
		want := bytes.Repeat(d, max(ref.times, 1))
		f, err := Open(pack(t, d, ref.commands, ref.file))
		require.NoError(t, err)
		defer f.Close()
		c, err := f.Look("")
		require.NoError(t, err)
		w := f.Window(c)
		r := rand.New(rand.NewPCG(5, 5))
		for range 25 {
			off := r.Int64N(int64(len(want)))
			p := make([]byte, 1+r.IntN(3000))
			n, err := w.ReadAt(p, off)
			rest := want[off:]
			assert.True(t, bytes.Equal(rest[:min(len(rest), len(p))], p[:n]), "%s at %d", ref.commands, off)
			if n < len(p) {
				assert.Equal(t, io.EOF, err)
			} else {
				assert.NoError(t, err)
			}
		}
		_, err = w.ReadAt(make([]byte, 10), int64(len(want))+5<<20)
		assert.Equal(t, io.EOF, err, ref.commands)
		require.NoError(t, w.Close())
	}
}

// TestWindowUnpacksNoMoreThanItMust has the last block of a file read.
func TestWindowUnpacksNoMoreThanItMust(t *testing.T) {
	d := disk(24 << 20)
	for i := range d[600:] {
		d[600+i] = byte(rand.Uint32())
	}
	f, err := Open(pack(t, d, "xz -k0T2 --block-size=1MiB disk.img", "disk.img.xz"))
	require.NoError(t, err)
	defer f.Close()
	c, err := f.Look("")
	require.NoError(t, err)
	w := f.Window(c)
	defer w.Close()
	p := make([]byte, 512)
	_, err = w.ReadAt(p, 20<<20)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(d[20<<20:20<<20+512], p))
	assert.Less(t, w.Used(), int64(3<<20), "bytes of the file")
}
