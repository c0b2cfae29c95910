package stamp_test

import (
	"bytes"
	"context"
	"io"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/stamp"
)

// pretending is a device that shows zeros for what was discarded, but only where a little is read.
type pretending struct {
	card.Device
	from, to int64
}

func (p *pretending) Discard(off, n int64) error {
	p.from, p.to = off, off+n
	return nil
}

func (p *pretending) ReadAt(b []byte, off int64) (int, error) {
	n, err := p.Device.ReadAt(b, off)
	if off >= p.from && off < p.to && len(b) <= 4096 {
		clear(b)
	}
	return n, err
}

// TestZerosAreDiscarded has cards that do anything with discards. None is blamed for that.
func TestZerosAreDiscarded(t *testing.T) {
	const size, block = 80*mib + 512, stamp.BlockSize
	img := noise(size, 31, [2]int{5*block + 5, 10 * block}, [2]int{15 * block, 17 * block})
	for what, c := range map[string]struct {
		discards      practice.Discards
		rate          practice.Rate
		change        func(*stamp.Job)
		zeros, others int64 // blocks of zeros that were not written
		rest, slow    bool
	}{
		"zeros":            {discards: practice.ToZeros, zeros: 6 * block, rest: true},
		"ones":             {discards: practice.ToFF},
		"nothing":          {discards: practice.Ignored},
		"an error":         {discards: practice.Refused},
		"it takes none":    {},
		"it is very slow":  {discards: practice.ToZeros, rate: 10e6, slow: true},
		"all is written":   {discards: practice.ToZeros, change: func(j *stamp.Job) { j.WriteAll = true }},
		"it only pretends": {change: func(j *stamp.Job) { j.Cards[0].Device = &pretending{Device: j.Cards[0].Device} }},
		"it has the image": {discards: practice.ToZeros, others: 1},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			r := newRig(t, t.TempDir(), img, false, practice.Spec{
				Claimed: 160 * mib, Discards: c.discards, DiscardRate: c.rate,
			})
			if c.others > 0 {
				r.put(t, img)
			}
			result, err := r.run(t, context.Background(), func(j *stamp.Job) {
				j.FixSlower(0.2)
				j.DiscardRest = c.rest
				if c.change != nil {
					c.change(j)
				}
			})
			require.NoError(t, err)
			require.True(t, bytes.Equal(img, r.held(t, size)))
			assert.Empty(t, result.Repaired, "it isn't blamed")
			assert.Empty(t, result.Unsteady)
			if c.slow {
				assert.Less(t, result.Discarded, int64(40*mib), "it is given up")
			} else {
				assert.Equal(t, c.zeros, result.Zeros)
			}
			assert.EqualValues(t, size, result.Written+result.Kept+result.Zeros)
			if c.rest {
				assert.EqualValues(t, 160*mib-21*block, result.Rest)
				assert.True(t, bytes.Equal(make([]byte, block), r.held(t, 160*mib)[159*mib/block*block:][:block]))
			} else {
				assert.Zero(t, result.Rest)
				beyond := r.held(t, 160*mib)[100*mib:][:block]
				assert.True(t, bytes.Equal(noise(160*mib, 99)[100*mib:][:block], beyond), "it is as it was")
			}
			if c.others > 0 {
				assert.Zero(t, result.Discarded, "comparing pays")
				assert.EqualValues(t, size-block, result.Kept)
			}
		})
	}
}

// TestHolesAreZeros stamps a raw image whose file has holes: they are skipped, and are zeros on the card.
func TestHolesAreZeros(t *testing.T) {
	const size, block = 37*mib + 512, stamp.BlockSize
	img := noise(size, 32, [2]int{2*block + 5, 6 * block}, [2]int{7*block + 5, size})
	r := newRig(t, t.TempDir(), img, false, practice.Spec{Claimed: 40 * mib})
	path := r.image.Path
	require.NoError(t, r.image.Close()) // an open file can't be removed everywhere
	require.NoError(t, os.Remove(path))
	f, err := os.Create(path)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(size))
	for _, part := range [][2]int{{0, 3 * block}, {6 * block, 8 * block}} {
		_, err := f.WriteAt(img[part[0]:part[1]], int64(part[0]))
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	r.image, err = image.Open(path)
	require.NoError(t, err)
	defer r.image.Close()
	p, err := r.image.Plain()
	require.NoError(t, err)
	var read []byte
	skipped := 0
	for buf := make([]byte, block); ; {
		if p.SkipZeros(block) {
			read, skipped = append(read, make([]byte, block)...), skipped+1
			continue
		}
		n, err := io.ReadFull(p, buf)
		read = append(read, buf[:n]...)
		if err != nil {
			break
		}
	}
	require.True(t, bytes.Equal(img, read))
	if skipped == 0 {
		t.Skip("this file system keeps no holes")
	}
	assert.Equal(t, 4, skipped)
	for _, known := range []bool{false, true} {
		result, err := r.run(t, context.Background(), func(j *stamp.Job) {
			if known {
				var sealer digest.Sealer
				sealer.Write(img)
				j.Known.Seal = sealer.Seal()
			} else {
				j.WriteAll = true
			}
		})
		require.NoError(t, err)
		require.True(t, bytes.Equal(img, r.held(t, size)))
		assert.EqualValues(t, size, result.Verified)
		if !known {
			h := digest.NewHasher(digest.SHA256)
			h.Write(img)
			assert.Equal(t, h.Digests(), result.Image)
		}
	}
}

// TestWhetherDiscardingPays has what was found on the first blocks of a card.
func TestWhetherDiscardingPays(t *testing.T) {
	most := slices.Concat(slices.Repeat([]float64{1}, 13), []float64{0, 0, 0})
	assert.False(t, stamp.DiscardPays(0.2, 0.3, most...), "most is there, though not the last blocks")
	assert.False(t, stamp.DiscardPays(0, 0.3, slices.Repeat([]float64{1, 1, 1, 0.9}, 4)...),
		"one write that was fast doesn't show that comparing saves nothing")
	assert.True(t, stamp.DiscardPays(0.2, 0.3, make([]float64, 16)...), "nothing is there")
	assert.True(t, stamp.DiscardPays(0.2, 0.6, slices.Repeat([]float64{0.5}, 16)...), "more zeros than is there")
	assert.False(t, stamp.DiscardPays(0.2, 0.2, slices.Repeat([]float64{0.5}, 16)...), "fewer")
}
