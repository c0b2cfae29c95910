//go:build !linux

package card

import "errors"

// openBlock is never reached: findBlock refuses block devices on this system.
func openBlock(string) (medium, error) { return nil, errors.ErrUnsupported }
