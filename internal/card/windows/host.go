// Package windows is the card.Host of Windows. Its disks can't be used yet, and it refuses them; practice cards and
// plain files don't need it.
package windows

import "zipstamp/internal/card"

// Host is this computer.
type Host struct{ card.Unsupported }

// Local is how things are called here.
func (Host) Local() card.Local { return card.Local{System: "Windows", Example: "disk3"} }
