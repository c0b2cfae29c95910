package stamp_test

import (
	"bytes"
	"context"
	"errors"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/here"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/stamp"
)

// shelf is an image and several cards.
type shelf struct {
	t     *testing.T
	img   []byte
	image *image.File
	packs image.Contents
	dir   string
}

func newShelf(t *testing.T, blocks int, packed bool) *shelf {
	img := noise(blocks*4*mib+777, 5, [2]int{5 * mib, 11 * mib})
	r := newRig(t, t.TempDir(), img, packed, practice.Spec{Claimed: 1 << 20})
	t.Cleanup(func() { r.image.Close() })
	return &shelf{t, img, r.image, r.packed, t.TempDir()}
}

// claim makes a practice card and claims it.
func (s *shelf) claim(name string, spec practice.Spec) *card.Hold {
	s.t.Helper()
	path := filepath.Join(s.dir, name)
	spec.Backing = name + ".data"
	require.NoError(s.t, practice.Create(path, spec))
	c, err := here.Cards().Find(path)
	require.NoError(s.t, err)
	h, err := c.Claim(context.Background(), card.Freeing{})
	require.NoError(s.t, err)
	s.t.Cleanup(func() { h.Close() })
	return h
}

func (s *shelf) run(ctx context.Context, cards ...card.Device) []stamp.Outcome {
	job := stamp.Job{Source: stamp.OfImage(s.image, s.packs), ReadBack: true, Repairs: stamp.DefaultRepairs}
	for _, c := range cards {
		job.Cards = append(job.Cards, stamp.Target{Device: c})
	}
	return job.Run(ctx)
}

func (s *shelf) held(name string) []byte {
	s.t.Helper()
	text, err := os.ReadFile(filepath.Join(s.dir, name+".data"))
	require.NoError(s.t, err)
	return text
}

func TestSeveralCardsEachHaveTheirOwnFate(t *testing.T) {
	t.Parallel()
	s := newShelf(t, 12, true)
	var cards []card.Device
	names := []string{"good", "slow", "tired", "liar", "small", "pulled", "reset", "locked"}
	for i, spec := range []practice.Spec{
		{Claimed: 64 * mib},
		{Claimed: 64 * mib, WriteRate: 60e6, Sector: 4096},
		{Claimed: 64 * mib, Faults: []practice.Fault{{Kind: practice.Flip, Sector: 30 * mib / 512, Times: 1}}},
		{Claimed: 64 * mib, Real: 24 * mib, Beyond: practice.Wrap},
		{Claimed: 32 * mib},
		{Claimed: 64 * mib, GoneAfter: 30 * mib},
		{Claimed: 64 * mib, ResetsAfter: 30 * mib},
		{Claimed: 64 * mib, ReadOnlyAfter: 20 * mib},
	} {
		cards = append(cards, s.claim(names[i], spec))
	}
	out := s.run(context.Background(), cards...)
	for i, want := range []struct {
		state stamp.State
		err   any
	}{
		{stamp.Verified, nil},
		{stamp.Verified, nil},
		{stamp.Verified, nil},
		{stamp.NoTable, new(*stamp.ReadBackError)},
		{stamp.NoTable, new(*stamp.TooSmallError)},
		{stamp.NoTable, new(*card.GoneError)},
		{stamp.Verified, nil},
		{stamp.NoTable, new(*card.IOError)},
	} {
		assert.Equal(t, want.state, out[i].State, names[i])
		if want.err == nil {
			assert.NoError(t, out[i].Err, names[i])
			assert.True(t, bytes.Equal(s.img, s.held(names[i])[:len(s.img)]), names[i])
		} else {
			assert.ErrorAs(t, out[i].Err, want.err, names[i])
			assert.NotEqual(t, []byte{0x55, 0xAA}, s.held(names[i])[510:512], names[i])
		}
		assert.Equal(t, out[0].Image, out[i].Image, "the image is unpacked once")
	}
	assert.Len(t, out[2].Repaired, 1)
	assert.EqualValues(t, 24*mib, out[3].Loss.Holds)
	require.Len(t, out[6].Mishaps, 1)
	assert.Equal(t, "reset", out[6].Mishaps[0].Name)
}

// watched counts how far a card is ahead of another.
type watched struct {
	card.Device
	written atomic.Int64
	before  func()
}

func (w *watched) WriteAt(p []byte, off int64) (int, error) {
	if w.before != nil && off >= stamp.BlockSize { // after the old table was taken away
		w.before()
	}
	n, err := w.Device.WriteAt(p, off)
	w.written.Add(int64(n))
	return n, err
}

func TestSlowCardHoldsTheOthersBackWithinAWindow(t *testing.T) {
	t.Parallel()
	s := newShelf(t, 40, false)
	fast := &watched{Device: s.claim("fast", practice.Spec{Claimed: 256 * mib})}
	slow := &watched{Device: s.claim("slow", practice.Spec{Claimed: 256 * mib})}
	var lead int64
	var once sync.Once
	slow.before = func() {
		once.Do(func() { // waits until the other has run ahead as far as it must, and then stands still
			before, end := int64(-1), time.Now().Add(2*time.Minute)
			for before != lead || lead < 8*stamp.BlockSize && time.Now().Before(end) {
				time.Sleep(300 * time.Millisecond)
				before, lead = lead, fast.written.Load()
			}
		})
	}
	for _, o := range s.run(context.Background(), fast, slow) {
		require.NoError(t, o.Err)
	}
	assert.GreaterOrEqual(t, lead, int64(8*stamp.BlockSize), "it may run ahead")
	assert.LessOrEqual(t, lead, int64(18*stamp.BlockSize+64<<10),
		"but not without bound; some sectors of tables were taken away before")
}

func TestEndOfTheImageOrTheUserEndsAllCards(t *testing.T) {
	t.Parallel()
	s := newShelf(t, 12, true)
	text, err := os.ReadFile(s.image.Path)
	require.NoError(t, err)
	was, err := os.Stat(s.image.Path)
	require.NoError(t, err)
	a := &watched{Device: s.claim("a", practice.Spec{Claimed: 64 * mib})}
	b := &watched{Device: s.claim("b", practice.Spec{Claimed: 64 * mib, WriteRate: 80e6})}
	stop := errors.New("stopped")
	ctx, cancel := context.WithCancelCause(context.Background())
	written := int64(0)
	var begun atomic.Int32
	var once, onceMore sync.Once
	end := func() { // when both are being written
		if begun.Add(1) == 2 {
			written = b.written.Load()
			cancel(stop)
		}
	}
	a.before, b.before = func() { once.Do(end) }, func() { onceMore.Do(end) }
	for _, o := range s.run(ctx, a, b) {
		assert.ErrorIs(t, o.Err, stop)
		assert.Equal(t, stamp.NoTable, o.State)
	}
	assert.LessOrEqual(t, b.written.Load()-written, int64(5*stamp.BlockSize),
		"what waits for a slow card isn't written any more, but for what is on its way and the empty first block")

	require.NoError(t, os.WriteFile(s.image.Path, text[:len(text)/2], 0o600))
	for _, o := range s.run(context.Background(), a, b) {
		assert.Error(t, o.Err)
		assert.Equal(t, stamp.NoTable, o.State)
	}
	require.NoError(t, os.WriteFile(s.image.Path, text, 0o600))
	require.NoError(t, os.Chtimes(s.image.Path, was.ModTime(), was.ModTime()))
	for _, known := range []error{nil, errors.New("not what was published"), stop} {
		called := 0
		ctx, cancel := context.WithCancelCause(context.Background())
		job := stamp.Job{
			Source: stamp.OfImage(s.image, s.packs), Cards: []stamp.Target{{Device: a}, {Device: b}}, ReadBack: true,
			Compare: func(ctx context.Context, _, _ []digest.Digest) error {
				called++
				if known != stop {
					return known
				}
				cancel(stop)
				<-ctx.Done() // the user ends a comparison that takes long
				return context.Cause(ctx)
			},
		}
		for _, o := range job.Run(ctx) {
			assert.Equal(t, known, o.Err)
		}
		cancel(nil)
		assert.Equal(t, 1, called)
	}
}
