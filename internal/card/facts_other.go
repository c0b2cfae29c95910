//go:build !linux

package card

import "runtime"

// findBlock refuses block devices: they are supported on Linux.
func (c *Card) findBlock() error {
	return &RefusedError{
		Card:    c.Given,
		Reasons: []string{"block devices are supported on Linux only; on " + runtime.GOOS + " a card is a plain file or a practice card"},
		Next:    "make a practice card: zipstamp practice new FILE --claimed 64MB",
	}
}

func swapFiles(string) []string { return nil }

func isNoMedium(error) bool { return false }
