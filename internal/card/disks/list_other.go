//go:build !linux

package disks

import (
	"errors"
	"runtime"
)

// Tree is where the kernel's files are; only Linux has them.
type Tree struct{ Root string }

// List says that it can't be done here.
func (Tree) List() ([]Disk, error) {
	return nil, errors.New("disks can be listed on Linux only; on " + runtime.GOOS + " a card is a plain file or a practice card")
}

// Swaps are none that are known.
func (Tree) Swaps() []string { return nil }
