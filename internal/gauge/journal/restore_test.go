package journal

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/gauge/mark"
)

// memory is a card of which some bytes are real, and whose addresses repeat beyond.
type memory struct {
	real    []byte
	claimed int64
	sector  int
	bad     map[int64]bool // real sectors that fail, by their offset
	blank   map[int64]bool // real sectors that take no writes and read as zeros
	gone    bool
	flushed bool // nothing was written since
}

func (m *memory) Size() int64         { return m.claimed }
func (m *memory) SectorSize() int     { return m.sector }
func (m *memory) Access() card.Access { return card.Simulated }
func (m *memory) Flush() error        { m.flushed = true; return nil }
func (m *memory) Forget() error       { return nil }
func (m *memory) Close() error        { return nil }

func (m *memory) each(p []byte, off int64, do func(p, at []byte)) (int, error) {
	if m.gone {
		return 0, &card.GoneError{Card: "sdb", Err: fault.Gone}
	}
	for n := 0; n < len(p); n += m.sector {
		at := (off + int64(n)) % int64(len(m.real))
		if m.bad[at] {
			return n, &card.IOError{Op: "read", Card: "sdb", Offset: off, Err: fault.BadPlace}
		}
		if m.blank[at] {
			clear(m.real[at : at+int64(m.sector)])
		}
		do(p[n:n+m.sector], m.real[at:at+int64(m.sector)])
		if m.blank[at] {
			clear(m.real[at : at+int64(m.sector)])
		}
	}
	return len(p), nil
}

func (m *memory) ReadAt(p []byte, off int64) (int, error) {
	return m.each(p, off, func(p, at []byte) { copy(p, at) })
}

func (m *memory) WriteAt(p []byte, off int64) (int, error) {
	m.flushed = false
	return m.each(p, off, func(p, at []byte) { copy(at, p) })
}

// TestRestoreLeavesACardAsItWas interrupts a test at any moment, on cards whose addresses repeat too: what was saved
// stands there again, and what somebody else has written since still does.
func TestRestoreLeavesACardAsItWas(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		sector := rapid.SampledFrom([]int{512, 4096}).Draw(t, "sector")
		sectors := rapid.IntRange(1, 40).Draw(t, "real sectors")
		claimed := sectors * rapid.IntRange(1, 3).Draw(t, "claims so many times")
		random := rand.New(rand.NewPCG(rapid.Uint64().Draw(t, "contents"), 1))
		m := &memory{
			real: make([]byte, sectors*sector), claimed: int64(claimed * sector), sector: sector, flushed: true,
		}
		for i := range m.real {
			m.real[i] = byte(random.Uint32())
		}
		before := slices.Clone(m.real)
		p := Pending{Head: Head{Nonce: mark.Nonce{7, 1}, Card: card.Record{Size: m.claimed}}}
		run := mark.NewRun(p.Nonce)
		stop := rapid.IntRange(0, 60).Draw(t, "sectors written") // then the test is interrupted
		for range rapid.IntRange(1, 5).Draw(t, "batches") {
			var batch []Place
			for range rapid.IntRange(1, 6).Draw(t, "places") {
				n := rapid.IntRange(1, min(4, claimed)).Draw(t, "length")
				place := Place{int64(rapid.IntRange(0, claimed-n).Draw(t, "place") * sector), make([]byte, n*sector)}
				_, err := m.ReadAt(place.Data, place.Offset)
				require.NoError(t, err)
				batch = append(batch, place)
			}
			p.Batches = append(p.Batches, batch)
			for _, place := range batch {
				stamps := make([]byte, len(place.Data))
				run.Fill(stamps, place.Offset/mark.Size)
				n := min(stop*sector, len(stamps))
				_, err := m.WriteAt(stamps[:n], place.Offset)
				require.NoError(t, err)
				stop -= n / sector
			}
			if stop == 0 {
				break
			}
		}
		want := slices.Clone(before)
		others := 0
		for range rapid.IntRange(0, 3).Draw(t, "written by others") {
			at := rapid.IntRange(0, sectors-1).Draw(t, "at") * sector
			for _, b := range [][]byte{m.real, want} {
				copy(b[at:at+sector], bytes.Repeat([]byte{'w'}, sector))
			}
			others++
		}
		stamped := 0
		for at := 0; at < len(m.real); at += sector {
			if HasStamp(m.real[at:at+sector], p.Nonce) {
				stamped++
			}
		}
		found, err := p.Look(m, sector)
		require.NoError(t, err)
		require.Equal(t, stamped > 0, found.Is())
		require.Zero(t, found.Unread)
		restored, wrong, err := p.Restore(m, found, func() error { return nil })
		require.NoError(t, err)
		require.GreaterOrEqual(t, restored+wrong, stamped)
		require.True(t, bytes.Equal(want, m.real))
		require.True(t, m.flushed)
		found, err = p.Look(m, sector)
		require.NoError(t, err)
		require.False(t, found.Is())
		require.True(t, found.Done() || others > 0)
	})
}

// TestRestoreOfCardsThatFail says what could not be put back, and changes nothing else.
func TestRestoreOfCardsThatFail(t *testing.T) {
	m := &memory{real: bytes.Repeat([]byte("ebb flow"), 16*64), claimed: 16 * 512, sector: 512, bad: map[int64]bool{}}
	before := slices.Clone(m.real)
	p := Pending{
		Head:    Head{Nonce: mark.Nonce{9}},
		Batches: [][]Place{{{512, slices.Clone(before[512:1536])}, {4096, slices.Clone(before[4096:4608])}}},
	}
	for _, place := range p.Batches[0] {
		stamps := make([]byte, len(place.Data))
		mark.NewRun(p.Nonce).Fill(stamps, place.Offset/mark.Size)
		copy(m.real[place.Offset:], stamps)
	}
	_, err := p.Look(m, 4096)
	require.ErrorContains(t, err, "other sectors than 4096 bytes")

	m.bad[1024] = true
	found, err := p.Look(m, 512)
	require.NoError(t, err)
	assert.Equal(t, 1, found.Stamps)
	assert.Equal(t, 2, found.Unread, "a place is read at once")
	restored, wrong, err := p.Restore(m, found, func() error { return nil })
	require.NoError(t, err)
	assert.Equal(t, []int{1, 2}, []int{restored, wrong})
	assert.False(t, found.Done())

	delete(m.bad, 1024) // it was the reader
	found, err = p.Look(m, 512)
	require.NoError(t, err)
	restored, wrong, err = p.Restore(m, found, func() error { return nil })
	require.NoError(t, err)
	assert.Zero(t, wrong)
	assert.GreaterOrEqual(t, restored, 1)
	assert.True(t, bytes.Equal(before, m.real))
	found, err = p.Look(m, 512)
	require.NoError(t, err)
	assert.True(t, found.Done())

	m.gone = true
	_, err = p.Look(m, 512)
	require.ErrorAs(t, err, new(*card.GoneError))
	found.restoring = p.Batches[0]
	_, _, err = p.Restore(m, found, func() error { return nil })
	require.ErrorAs(t, err, new(*card.GoneError))
	require.False(t, errors.Is(err, fault.BadPlace))
}

// TestWhatIsNotBackIsNotCountedAsBack has a sector that reads as another one that was put back: what stood there is not
// back for that.
func TestWhatIsNotBackIsNotCountedAsBack(t *testing.T) {
	m := &memory{real: make([]byte, 16*512), claimed: 16 * 512, sector: 512, blank: map[int64]bool{}}
	original := bytes.Repeat([]byte("ebb flow"), 64)
	p := Pending{Head: Head{Nonce: mark.Nonce{9}}, Batches: [][]Place{{{512, original}, {4096, make([]byte, 512)}}}}
	for _, place := range p.Batches[0] {
		stamps := make([]byte, len(place.Data))
		mark.NewRun(p.Nonce).Fill(stamps, place.Offset/mark.Size)
		copy(m.real[place.Offset:], stamps)
	}
	found, err := p.Look(m, 512)
	require.NoError(t, err)
	m.blank[512] = true // it wears out now
	restored, wrong, err := p.Restore(m, found, func() error { return nil })
	require.NoError(t, err)
	assert.Equal(t, []int{1, 1}, []int{restored, wrong})
}
