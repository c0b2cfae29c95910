package stamp_test

import (
	"bytes"
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/practice"
	"zipstamp/internal/stamp"
	"zipstamp/internal/testbed"
)

// TestCounterfeitOnWhichTheImageFits stamps cards that hold the image and less than they claim, with a cache that would
// hide it.
func TestCounterfeitOnWhichTheImageFits(t *testing.T) {
	t.Parallel()
	const size, claimed = 6 * mib, 128 * mib
	img := noise(size, 41)
	for what, spec := range map[string]practice.Spec{
		"repeats":                     {Real: 111 * mib, Beyond: practice.Wrap},
		"repeats after half":          {Real: 64 * mib, Beyond: practice.Wrap},
		"loses":                       {Real: 101 * mib, Beyond: practice.Drop},
		"loses, noise":                {Real: 101 * mib, Beyond: practice.Drop, Reads: practice.Noise},
		"keeps its ends":              {Real: 60 * mib, Beyond: practice.Ends},
		"a sector is missing":         {Real: claimed - 512, Beyond: practice.Drop},
		"a sector is the first again": {Real: claimed - 512, Beyond: practice.Wrap},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			spec.Claimed, spec.Cache = claimed, 4*mib
			r := newRig(t, t.TempDir(), img, false, spec)
			result, err := r.run(t, context.Background(), func(j *stamp.Job) { j.Cards[0].Probe = true })
			var fake *stamp.CounterfeitError
			require.ErrorAs(t, err, &fake)
			assert.Equal(t, stamp.Verified, result.State)
			require.True(t, bytes.Equal(img, r.held(t, size)), "the image is on it")
			assert.LessOrEqual(t, fake.Holds, int64(spec.Real))
			assert.GreaterOrEqual(t, fake.Holds, int64(size))
			_, err = r.run(t, context.Background(), func(j *stamp.Job) {
				j.Cards[0].Probe, j.Cards[0].Need = true, claimed
			})
			require.Error(t, err, "more of it is needed")
		})
	}
}

// TestMarksOverTheImage stamps cards that hold the image already, and whose addresses repeat: the marks overwrite what
// was compared, and it is written again.
func TestMarksOverTheImage(t *testing.T) {
	t.Parallel()
	const size, claimed = 48 * mib, 400 * mib
	for i, real := range []practice.Size{127 * mib, 200*mib + 512, 119 * mib} {
		for j, cache := range []practice.Size{4 * mib, 32 * mib} {
			if (i+j)%2 == 1 && !testbed.Long() {
				continue
			}
			img := noise(size, 45)
			r := newRig(t, t.TempDir(), img, false, practice.Spec{
				Claimed: claimed, Real: real, Beyond: practice.Wrap, Cache: cache,
			})
			held := bytes.Clone(img)
			held[20*mib]++ // something differs, so that the card is written
			r.put(t, held)
			result, err := r.run(t, context.Background(), func(j *stamp.Job) {
				j.FixSlower(0.2)
				j.Cards[0].Probe = true
			})
			var fake *stamp.CounterfeitError
			require.ErrorAs(t, err, &fake)
			assert.EqualValues(t, real, fake.Holds, "to the sector")
			assert.Equal(t, stamp.Verified, result.State)
			assert.Empty(t, result.Unsteady, "the card is not to blame for what the marks did")
			require.True(t, bytes.Equal(img, r.held(t, size)))
		}
	}
}

// TestMarksLeaveNothing stamps honest cards: what is beyond the image is as it was, and the image's zeros are zeros.
func TestMarksLeaveNothing(t *testing.T) {
	t.Parallel()
	const size, claimed = 40 * mib, 200 * mib
	img := noise(size, 42, [2]int{9 * mib, 18 * mib}, [2]int{30 * mib, 40 * mib})
	r := newRig(t, t.TempDir(), img, false, practice.Spec{
		Claimed: claimed, Cache: 8 * mib, WriteBack: true, Volatile: true,
	})
	r.put(t, img) // its zeros are there already
	result, err := r.run(t, context.Background(), func(j *stamp.Job) {
		j.FixSlower(0.2)
		j.Cards[0].Probe = true
	})
	require.NoError(t, err)
	assert.True(t, result.Capacity.Proven())
	assert.Greater(t, result.Capacity.Marks, 40)
	assert.EqualValues(t, size, result.Verified)
	held := r.held(t, claimed)
	require.True(t, bytes.Equal(img, held[:size]))
	was := noise(claimed, 99)
	clear(was[claimed-33*512:]) // the old partition table is gone
	require.True(t, bytes.Equal(was[size:], held[size:]))
}

// TestZerosAreNotTakenForRoom stamps an image that ends with zeros, as large as what a card claims that holds less of
// it: the room that isn't there reads as zeros.
func TestZerosAreNotTakenForRoom(t *testing.T) {
	t.Parallel()
	const size = 40 * mib
	img := noise(size, 43, [2]int{14 * mib, size})
	for _, writeAll := range []bool{false, true} {
		for _, spec := range []practice.Spec{
			{Real: 30 * mib, Beyond: practice.Drop},
			{Real: 30 * mib, Beyond: practice.Ends},
			{Real: 39 * mib, Beyond: practice.Drop},
		} {
			spec.Claimed, spec.Cache = size, 4*mib
			r := newRig(t, t.TempDir(), img, false, spec)
			_, err := r.run(t, context.Background(), func(j *stamp.Job) {
				j.FixSlower(0.2)
				j.WriteAll = writeAll
				j.Cards[0].Probe = true
			})
			require.ErrorAs(t, err, new(*stamp.ReadBackError), "%+v", spec)
		}
	}
}

// TestFirstSectorGetsPastTheCache stamps cards whose cache ignores flushes and loses what is in it: the first sector,
// which is written last, is on the card when that is called stamped.
func TestFirstSectorGetsPastTheCache(t *testing.T) {
	t.Parallel()
	for size, caches := range map[int][]practice.Size{
		mib: {32 * mib}, 30 * mib: {32 * mib}, 100 * mib: {mib, 32 * mib},
	} {
		for _, cache := range caches {
			img := noise(size, 44)
			r := newRig(t, t.TempDir(), img, false, practice.Spec{
				Claimed: 108 * mib, Cache: cache, WriteBack: true, Volatile: true,
			})
			_, err := r.run(t, context.Background(), nil)
			require.NoError(t, err)
			require.True(t, bytes.Equal(img, r.held(t, size)), "an image of %d, a cache of %v", size, cache)
		}
	}
}

// TestTheImagesOwnTableAtTheEnd stamps an image as large as the card, with a second GPT of its own, onto a card on
// which only a byte beside that differs, from a source that can't be read twice.
func TestTheImagesOwnTableAtTheEnd(t *testing.T) {
	t.Parallel()
	const size = 24 * mib
	img := noise(size, 45)
	copy(img[size-512:], "EFI PART")
	was := bytes.Clone(img)
	was[size-mib]++
	r := newRig(t, t.TempDir(), img, false, practice.Spec{Claimed: size})
	r.put(t, was)
	result, err := r.run(t, context.Background(), func(j *stamp.Job) {
		j.FixSlower(0.2)
		j.Repairs = 0
	})
	require.NoError(t, err)
	assert.Empty(t, result.Repaired)
	require.True(t, bytes.Equal(img, r.held(t, size)))
}
