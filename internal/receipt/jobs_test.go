package receipt

import (
	"encoding/binary"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/digest"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/pace"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
	"zipstamp/internal/recheck"
)

func TestBlocksAreKeptHoweverManyThereAre(t *testing.T) {
	assert.Nil(t, BlocksOf(nil, nil))
	for _, n := range []int{1, 2, maxParts, maxParts + 1, 3*maxParts + 5} {
		blocks := make([]digest.Block, n)
		for i := range blocks {
			binary.LittleEndian.PutUint64(blocks[i][:], uint64(i+1))
		}
		head := digest.SumHead(make([]byte, 3*digest.HeadPiece+7))
		kept := BlocksOf(blocks, head)
		parts, again, err := kept.Parts()
		require.NoError(t, err)
		assert.LessOrEqual(t, len(parts), maxParts)
		per := int(kept.Size / digest.BlockSize)
		want := slices.Clone(head)
		for _, b := range blocks[1:min(per, n)] {
			want = append(want, digest.SumPart([]digest.Block{b}, 1))
		}
		assert.Equal(t, want, again, "the first part is known block by block")
		assert.Equal(t, (n+per-1)/per, len(parts))
		for i, p := range parts {
			assert.Equal(t, digest.SumPart(blocks[i*per:min((i+1)*per, n)], per), p)
		}
	}
	for _, b := range []Blocks{
		{Size: 4 << 20, Digests: "!"},
		{Size: 4 << 20, Digests: "AAAA"},
		{Size: 0, Digests: ""},
		{Size: 4<<20 + 1, Digests: ""},
		{Size: 1 << 50, Digests: ""},
		{Size: 4 << 20, Head: "A"},
	} {
		_, _, err := b.Parts()
		assert.ErrorIs(t, err, errBlocks, "%+v", b)
	}
}

func TestGaugeReceiptSaysWhatWasFound(t *testing.T) {
	r := &gauge.Report{
		Method: gauge.BySpots, Verdict: gauge.Holds, Claimed: 64e9, Tested: 64e9, Places: 800, Seed: 5,
		Extents: make([]gauge.Stretch, MaxExtents+7),
		Writing: []meter.Point{{Offset: 0, Bytes: 32 << 20, Took: time.Second}},
	}
	r.Reads.Add(time.Millisecond, 512)
	doc := NewGauge(JobSpots, &card.Card{Name: "sdb", Size: 64e9, SectorSize: 512}, r)
	g := doc.Gauge
	assert.Equal(t, []any{0.98, int64(64e9), MaxExtents, MaxExtents + 7}, []any{
		g.Level, g.Holds, len(g.Extents), g.Count,
	})
	assert.InDelta(t, 0.995, g.Share, 0.001)
	assert.Equal(t, []string{"Class 10", "U3", "V30"}, g.Meets)
	assert.Equal(t, int64(1), g.Reads.Count)
	assert.Len(t, g.Reads.Histogram, 1)
	r.Verdict, r.Loss = gauge.Counterfeit, &gauge.Loss{Real: 8e9, Tail: 1e9, Exact: true}
	g = NewGauge(JobSpots, &card.Card{}, r).Gauge
	assert.Equal(t, int64(9e9), g.Holds)
	assert.Zero(t, g.Level, "no confidence is stated in a card that loses data")
}

// TestPaceTellsCardFromReader is what can be known of which one is slow.
func TestPaceTellsCardFromReader(t *testing.T) {
	usb := func(speed int) *card.Card {
		return &card.Card{Name: "sdb", Disk: &disks.Disk{Bus: disks.USB, USB: &disks.USBDevice{Speed: speed}}}
	}
	report := func(rate float64, median, smallest time.Duration, access card.Access) *pace.Report {
		r := &pace.Report{
			ReadRate: rate, WriteRate: rate / 2, SlowestWrite: rate / 2, Smallest: smallest, Access: access,
		}
		for range 100 {
			r.Reads.Add(median, 0)
		}
		return r
	}
	for _, c := range []struct {
		what string
		card *card.Card
		rep  *pace.Report
		says []Limit
		link float64
	}{
		{
			"a fast card in a fast reader", usb(5000),
			report(90e6, time.Millisecond, 200*time.Microsecond, card.Direct), nil, 500e6,
		},
		{
			"a card in an old reader", usb(480), report(38e6, time.Millisecond, 200*time.Microsecond, card.Direct),
			[]Limit{LimitLink},
			53.248e6,
		},
		{
			"a slow card in an old reader", usb(480),
			report(9e6, 3*time.Millisecond, 200*time.Microsecond, card.Direct),
			[]Limit{LimitNotLink},
			53.248e6,
		},
		{
			"a reader that takes its time", usb(5000),
			report(90e6, time.Millisecond, 900*time.Microsecond, card.Direct),
			[]Limit{LimitReader},
			500e6,
		},
		{
			"a file", &card.Card{Name: "a.img"}, report(900e6, time.Millisecond, 10*time.Microsecond, card.Dropped),
			[]Limit{LimitDropped},
			0,
		},
		{
			"a file elsewhere", &card.Card{Name: "a.img"},
			report(900e6, time.Millisecond, 10*time.Microsecond, card.Cached),
			[]Limit{LimitCached},
			0,
		},
	} {
		p := NewPace(c.card, c.rep).Pace
		assert.ElementsMatch(t, c.says, p.Limits, c.what)
		assert.Equal(t, c.link, p.LinkRate, c.what)
	}
}

func TestRecheckReceiptSaysWhatDiffers(t *testing.T) {
	doc := Document{}
	doc.AddRecheck(&recheck.Report{
		Compared: 100, Unit: 512, Differs: make([]layout.Extent, MaxExtents+1),
		Failed: []layout.Extent{{Offset: 5, Length: 6}},
		Areas: []recheck.Area{
			{
				Place: recheck.Place{What: recheck.File, Partition: 1, Path: "a"}, Bytes: 512,
				Why: recheck.Why{Reason: recheck.BootFile},
			},
		}, Took: time.Second,
	}, true, noon, func(recheck.Area) (string, string) { return "partition 1", "because" })
	c := doc.Recheck
	assert.Equal(t, []any{"image", "2026-05-01T12:00:00Z", int64(6), MaxExtents + 1, MaxExtents, 1}, []any{
		c.Against, c.Stamped, c.Differ, c.Extents.Count, len(c.Extents.List), c.Failed.Count,
	})
	assert.Equal(t, []Change{
		{Name: "partition 1", What: "file", Partition: 1, Path: "a", Bytes: 512, Why: "because", Reason: "boot file"},
	}, c.Areas)
	assert.False(t, c.Started)
}
