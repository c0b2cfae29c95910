//go:build !linux && !darwin && !windows

package here

import (
	"runtime"

	"zipstamp/internal/card"
)

func host() card.Host { return card.Unsupported{System: runtime.GOOS} }
