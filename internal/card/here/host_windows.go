package here

import (
	"zipstamp/internal/card"
	"zipstamp/internal/card/windows"
)

func host() card.Host { return windows.Here() }
