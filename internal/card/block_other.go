//go:build !linux

package card

import (
	"context"
	"errors"

	"zipstamp/internal/card/disks"
)

// block is never made: block devices are refused on this system when they are looked for.
type block struct{ medium }

func openBlock(string) (*block, error) { return nil, errors.ErrUnsupported }

func openBlockToRead(string) (*block, error) { return nil, errors.ErrUnsupported }

func openByDesktop(_ context.Context, _ string, denied error) (*block, error) { return nil, denied }

func (*block) differs(*Card) string { return "" }

func (*block) dropPartitions([]disks.Part) {}

func (*block) letGo(context.Context, *Card, Leaving) Left { return Left{} }

func (*Card) free(context.Context) error { return nil }

func desktopHelps() bool { return false }

func writable(string) bool { return true }
