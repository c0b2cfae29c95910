package windows_test

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/card/windows"
)

func TestDevice(t *testing.T) {
	h, locked := windows.ScriptedReader()
	c, err := card.Finder{Host: h}.Find("disk3")
	require.NoError(t, err)
	require.NoError(t, cardtest.TestDevice(func() (card.Device, error) {
		d, err := c.Open()
		if r := (*card.RefusedError)(nil); errors.As(err, &r) && r.For(guard.Busy) {
			err = fault.Busy.Because(err)
		}
		return d, err
	}))
	assert.Zero(t, locked(), "all is let go")
}
