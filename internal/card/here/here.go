// Package here says which cards this computer can have: the host of its system, and the kinds of files that stand for
// cards. It is the only place that chooses a system.
package here

import (
	"zipstamp/internal/card"
	"zipstamp/internal/card/file"
	"zipstamp/internal/card/practice"
)

// Cards finds this computer's cards.
func Cards() card.Finder {
	return card.Finder{Host: host(), Kinds: []card.FileKind{practice.Kind, file.Kind}}
}
