//go:build !linux

package card

import (
	"context"
	"errors"
	"runtime"
)

// Watch says that it can't be done here.
func Watch(context.Context, func(), func(Change) error) error {
	return errors.New("cards that are put in are noticed on Linux only, and not on " + runtime.GOOS)
}
