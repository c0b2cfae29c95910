package stamp_test

import (
	"bytes"
	"context"
	"io"
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/practice"
	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/stamp"
)

// TestRestIsDiscarded has cards that do anything with discards, also later: the image isn't touched, and none is
// blamed.
func TestRestIsDiscarded(t *testing.T) {
	t.Parallel()
	const size, block = 80*mib + 512, stamp.BlockSize
	img := noise(size, 31, [2]int{5*block + 5, 10 * block}, [2]int{15 * block, 17 * block})
	for _, does := range []practice.Discards{
		practice.NoneToDo, practice.ToZeros, practice.ToFF, practice.Ignored, practice.Refused, practice.LateZeros,
		practice.LateOld, practice.Around,
	} {
		t.Run(string("it does "+does), func(t *testing.T) {
			t.Parallel()
			r := newRig(t, t.TempDir(), img, false, practice.Spec{Claimed: 160 * mib, Discards: does})
			result, err := r.run(t, context.Background(), func(j *stamp.Job) {
				j.FixSlower(0.2)
				j.DiscardRest = true
			})
			require.NoError(t, err)
			require.True(t, bytes.Equal(img, r.held(t, size)))
			assert.Empty(t, result.Repaired, "it isn't blamed")
			rest := int64(0)
			if does != practice.NoneToDo && does != practice.Refused {
				rest = 160*mib - 148*mib
			}
			assert.Equal(t, rest, result.Rest)
			assert.True(t, bytes.Equal(noise(160*mib, 99)[100*mib:][:block], r.held(t, 160*mib)[100*mib:][:block]),
				"the margin is as it was")
		})
	}
}

// TestHolesAreZeros stamps a raw image whose file has holes: they are skipped, and are zeros on the card.
func TestHolesAreZeros(t *testing.T) {
	t.Parallel()
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
