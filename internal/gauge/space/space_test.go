package space

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/gauge"
	"zipstamp/internal/meter"
)

// worn is free space in which one sector has a flipped bit, and another one can't be read.
type worn struct{ card.Medium }

func (w worn) ReadAt(p []byte, off int64) (int, error) {
	const flipped, unread = 5<<20 + 512, 9<<20 + 1024
	if off <= unread && unread < off+int64(len(p)) {
		return 0, fault.BadPlace
	}
	n, err := w.Medium.ReadAt(p, off)
	if at := flipped - off; at >= 0 && at < int64(n) {
		p[at] ^= 4
	}
	return n, err
}

// TestBadPlacesInFreeSpaceAreFound: whatever is done after they were read.
func TestBadPlacesInFreeSpaceAreFound(t *testing.T) {
	folder := t.TempDir()
	rep, err := Test{
		Folder: folder, Meter: &meter.Meter{}, First: 24 << 20,
		spoil: func(m card.Medium) card.Medium { return worn{m} },
	}.Run(context.Background())
	require.NoError(t, err)
	assert.Equal(t, gauge.Faulty, rep.Verdict)
	assert.Equal(t, gauge.Counts{Worn: 1, Bits: 1, Unreadable: 8}, rep.Bad)
	assert.Nil(t, rep.Loss)
	assert.NoDirExists(t, folder+"/"+FolderName)
}
