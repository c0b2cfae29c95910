package layout

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// extentsOf notes where something is written, and reads nothing.
type extentsOf struct {
	from, to int64
	bytes    int64
	sector   int64
	crooked  bool
}

func (e *extentsOf) WriteAt(p []byte, off int64) (int, error) {
	e.from, e.to = min(e.from, off), max(e.to, off+int64(len(p)))
	e.bytes += int64(len(p))
	e.crooked = e.crooked || off%e.sector != 0 || int64(len(p))%e.sector != 0
	return len(p), nil
}

// TestFAT32FitsAnyCard has the parts of a volume in their places, whatever the size; what the reference tools think of
// it, blank's tests ask.
func TestFAT32FitsAnyCard(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		f := FAT32{
			Label: "TIDES", Start: AlignTo, Sector: rapid.SampledFrom([]int{512, 4096}).Draw(t, "sector"),
			Time: time.Date(2026, 11, 26, 0, 0, 0, 0, time.UTC),
			Size: rapid.OneOf(rapid.Int64Range(30e6, 600e6), rapid.Int64Range(600e6, 32e9),
				rapid.Int64Range(32e9, 400e9)).Draw(t, "size") / AlignTo * AlignTo,
		}
		p, err := f.plan()
		if err != nil {
			require.ErrorIs(t, err, ErrTooSmall)
			require.Less(t, f.Size, int64(600e6))
			require.Zero(t, f.MetadataSize())
			require.ErrorIs(t, f.WriteTo(nil), ErrTooSmall)
			return
		}
		sector := int64(f.Sector)
		data := p.reserved + fatCount*p.fat
		require.Zero(t, (f.Start+data*sector)%AlignTo, "the data area is aligned")
		require.GreaterOrEqual(t, p.reserved, int64(fat32Reserved))
		require.Less(t, p.reserved, int64(1<<16), "as a field of 16 bits can tell")
		require.GreaterOrEqual(t, p.fat*sector/4, p.clusters+2, "the table has an entry for each cluster")
		require.LessOrEqual(t, data+p.clusters*p.cluster, p.total, "no cluster is behind the end")
		require.Less(t, p.total-data-p.clusters*p.cluster, p.cluster, "and all the room is used")
		require.GreaterOrEqual(t, p.clusters, int64(minFAT32Clusters))
		if f.Size > 8e9 {
			return // writing it is the same, and longer
		}
		w := &extentsOf{from: 1 << 62, sector: sector}
		require.NoError(t, f.WriteTo(w))
		require.Equal(t, f.Start, w.from)
		require.Equal(t, f.Start+(data+p.cluster)*sector, w.to, "nothing behind the root")
		require.Equal(t, f.MetadataSize(), w.bytes, "each place once")
		require.False(t, w.crooked, "whole sectors")
	})
}
