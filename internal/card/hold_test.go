package card_test

import (
	"context"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/practice"
)

// held is a practice card of 8 MiB that is claimed.
func held(t *testing.T, s practice.Spec) *card.Hold {
	t.Helper()
	s.Claimed = 8 << 20
	c, _ := cardtest.Make(t, t.TempDir(), s, nil)
	h, err := c.Claim(context.Background(), card.Freeing{})
	require.NoError(t, err)
	t.Cleanup(func() { h.Close() })
	return h
}

// TestHoldForgivesALittle has cards whose accesses fail now and then, and always.
func TestHoldForgivesALittle(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		buf := make([]byte, 1<<20)
		h := held(t, practice.Spec{
			Faults: []practice.Fault{
				{Kind: practice.FailWrite, Sector: 100, Times: 2}, {Kind: practice.FailRead, Sector: 9000},
			},
		})
		_, err := h.WriteAt(buf, 0)
		require.NoError(t, err)
		require.Len(t, h.Mishaps(), 1)
		m := h.Mishaps()[0]
		assert.Equal(t, "write", m.Op)
		assert.ErrorIs(t, m.Err, fault.BadPlace)
		start := time.Now()
		_, err = h.ReadAt(buf, 4<<20)
		assert.ErrorAs(t, err, new(*card.IOError), "what always fails is told")
		assert.Equal(t, time.Second, time.Since(start), "of simulated time, after three more tries")
		assert.Len(t, h.Mishaps(), 1)

		h = held(t, practice.Spec{Faults: []practice.Fault{{Kind: practice.FailWrite, Count: 16384}}})
		start = time.Now()
		for i := range 40 {
			_, err = h.WriteAt(buf[:4096], int64(i)*4096)
			require.ErrorIs(t, err, fault.BadPlace)
		}
		assert.LessOrEqual(t, time.Since(start), 4*time.Second, "a dead card is not tried for ever")

		h = held(t, practice.Spec{ReadOnlyAfter: 4096})
		_, err = h.WriteAt(buf[:4096], 0)
		require.NoError(t, err)
		start = time.Now()
		_, err = h.WriteAt(buf[:4096], 4096)
		assert.ErrorIs(t, err, fault.Locked)
		assert.Zero(t, time.Since(start), "what no try can help is not tried again")
	})
}

// TestHoldTakesUpTheSameCardOnly has cards whose readers are reset, under several accesses at once.
func TestHoldTakesUpTheSameCardOnly(t *testing.T) {
	reset := practice.Spec{ResetsAfter: 2 << 20}
	write := func(h *card.Hold) []error {
		errs := make([]error, 8)
		var all sync.WaitGroup
		for i := range errs {
			all.Go(func() { _, errs[i] = h.WriteAt(make([]byte, 1<<20), int64(i)<<20) })
		}
		all.Wait()
		return errs
	}
	h := held(t, reset)
	before := h.Card()
	var told []card.Mishap
	h.Tell(func(m card.Mishap) { told = append(told, m) })
	h.Recognise(func(d card.Device) bool { return d.Size() == 8<<20 })
	for i, err := range write(h) {
		require.NoError(t, err, "MiB %d", i)
	}
	require.Len(t, told, 2, "one of those that found it gone took it up")
	assert.True(t, told[0].Waiting)
	assert.Equal(t, "a.card", told[1].Name)
	require.Len(t, h.Mishaps(), 1)
	assert.NotSame(t, before, h.Card())
	assert.Equal(t, int64(8<<20), h.Size())
	assert.Equal(t, 512, h.SectorSize())
	assert.Equal(t, card.Simulated, h.Access())
	require.NoError(t, h.Flush())
	require.NoError(t, h.Forget())
	_, err := h.ReadAt(make([]byte, 512), 7<<20)
	require.NoError(t, err)

	for why, c := range map[string]struct {
		spec  practice.Spec
		known func(card.Device) bool
	}{
		"another card was put in": {reset, func(card.Device) bool { return false }},
		"nobody said how to know": {reset, nil},
		"it doesn't come back":    {practice.Spec{GoneAfter: 2 << 20}, func(card.Device) bool { return true }},
		"and it is not looked for": {
			practice.Spec{GoneAfterTime: practice.Duration(time.Nanosecond)}, func(card.Device) bool { return true },
		},
	} {
		h := held(t, c.spec)
		h.Recognise(c.known)
		time.Sleep(time.Millisecond)
		gone := 0
		for _, err := range write(h) {
			if err != nil {
				require.ErrorAs(t, err, new(*card.GoneError), why)
				gone++
			}
		}
		assert.GreaterOrEqual(t, gone, 6, why)
		assert.ErrorAs(t, h.Flush(), new(*card.GoneError), why)
		assert.Empty(t, h.Mishaps(), why)
	}
}
