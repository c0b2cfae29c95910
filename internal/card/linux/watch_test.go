//go:build linux

package linux_test

import (
	"context"
	"errors"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"zipstamp/internal/card"
	"zipstamp/internal/card/here"
)

func TestWatchingEndsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancelCause(context.Background())
	stop := errors.New("stopped")
	ready := false
	time.AfterFunc(200*time.Millisecond, func() { cancel(stop) })
	err := here.Cards().Watch(ctx, func() { ready = true }, func(card.Change) error { return nil })
	assert.ErrorIs(t, err, stop)
	assert.True(t, ready)
}
