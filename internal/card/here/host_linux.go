package here

import (
	"zipstamp/internal/card"
	"zipstamp/internal/card/linux"
)

func host() card.Host { return linux.Host{} }
