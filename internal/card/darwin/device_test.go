package darwin_test

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/darwin"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/guard"
)

func TestDevice(t *testing.T) {
	c, err := card.Finder{Host: darwin.ScriptedReader()}.Find("disk4")
	require.NoError(t, err)
	require.NoError(t, cardtest.TestDevice(func() (card.Device, error) {
		d, err := c.Open()
		if r := (*card.RefusedError)(nil); errors.As(err, &r) && r.For(guard.Busy) {
			err = fault.Busy.Because(err)
		}
		return d, err
	}))
}
