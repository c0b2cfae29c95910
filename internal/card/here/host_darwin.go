package here

import (
	"zipstamp/internal/card"
	"zipstamp/internal/card/darwin"
)

func host() card.Host { return darwin.Here() }
