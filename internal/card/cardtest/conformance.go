// Package cardtest has the test that every card.Device passes.
package cardtest

import (
	"bytes"
	"context"
	"math/rand/v2"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
)

// Conform checks that a device keeps what is promised of all devices. open opens the same card again and
// again; it has at least 1 MiB.
func Conform(t *testing.T, open func() (card.Device, error)) {
	t.Helper()
	d, err := open()
	require.NoError(t, err)
	sector := int64(d.SectorSize())
	size := d.Size()
	require.Contains(t, []int64{512, 4096}, sector)
	require.Zero(t, size%sector)
	require.GreaterOrEqual(t, size, int64(1<<20))

	pool, err := card.NewPool(4, 1<<18)
	require.NoError(t, err)
	defer pool.Close()
	buf := func() []byte {
		b, err := pool.Get(context.Background())
		require.NoError(t, err)
		return b
	}
	one, two := buf(), buf()

	_, err = open()
	var refused *card.RefusedError
	require.ErrorAs(t, err, &refused, "a second opening while the first lasts")
	assert.Contains(t, refused.Error(), "another program is working on it")

	// What is written anywhere is read, before and after Flush and Forget.
	random := rand.New(rand.NewPCG(3, uint64(size)))
	for _, at := range []int64{0, sector, 3 * sector, size / 2 / sector * sector, size - int64(len(one)), size - sector} {
		p, q := one[:min(int64(len(one)), size-at)], two[:min(int64(len(two)), size-at)]
		fill(p, random)
		n, err := d.WriteAt(p, at)
		require.NoError(t, err)
		assert.Equal(t, len(p), n)
		for range 2 {
			clear(q)
			n, err = d.ReadAt(q, at)
			require.NoError(t, err)
			assert.Equal(t, len(q), n)
			assert.True(t, bytes.Equal(p, q), "at %d", at)
			require.NoError(t, d.Flush())
			require.NoError(t, d.Forget())
		}
	}

	// Nothing beyond the end, nothing in pieces of sectors, and no harm from trying.
	for _, at := range []int64{size, size - sector, size + 5*sector} {
		_, err := d.WriteAt(one[:2*sector], at)
		assert.Error(t, err, "write at %d of %d", at, size)
	}
	_, err = d.WriteAt(one[:sector-1], 0)
	assert.Error(t, err, "part of a sector")
	_, err = d.WriteAt(one[:sector], sector/2)
	assert.Error(t, err, "between sectors")

	concurrently(t, d, pool)
	require.NoError(t, d.Flush())
	require.NoError(t, d.Close())

	// Contents outlast the opening.
	d, err = open()
	require.NoError(t, err)
	first := two[:sector]
	_, err = d.ReadAt(first, 0)
	require.NoError(t, err)
	assert.Equal(t, bytes.Repeat([]byte{1}, int(sector)), first)
	require.NoError(t, d.Close())
}

// concurrently writes and reads from several goroutines at once.
func concurrently(t *testing.T, d card.Device, pool *card.Pool) {
	t.Helper()
	var all sync.WaitGroup
	for w := range 2 {
		all.Go(func() {
			b, err := pool.Get(context.Background())
			if !assert.NoError(t, err) {
				return
			}
			defer pool.Put(b)
			p := b[:1<<16]
			for i := w; i < 16; i += 2 {
				fillByte(p, byte(i+1))
				_, err := d.WriteAt(p, int64(i)<<16)
				assert.NoError(t, err)
				clear(p)
				_, err = d.ReadAt(p, int64(i)<<16)
				assert.NoError(t, err)
				assert.Equal(t, len(p), bytes.Count(p, []byte{byte(i + 1)}), "block %d", i)
			}
		})
	}
	all.Wait()
}

func fill(p []byte, r *rand.Rand) {
	for i := range p {
		p[i] = byte(r.Uint32())
	}
}

func fillByte(p []byte, b byte) {
	for i := range p {
		p[i] = b
	}
}
