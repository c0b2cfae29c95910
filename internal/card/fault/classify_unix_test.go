//go:build unix

package fault_test

import (
	"errors"
	"os"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"

	"zipstamp/internal/card/fault"
)

// TestKindsOfErrors has those that all Unixes give; errors of no kind stay as they are.
func TestKindsOfErrors(t *testing.T) {
	for kind, all := range map[fault.Fault][]error{
		fault.BadPlace: {syscall.EIO}, fault.Full: {syscall.ENOSPC, syscall.EDQUOT, syscall.EFBIG},
		fault.Gone: {syscall.ENODEV, syscall.ENXIO}, fault.Locked: {syscall.EROFS, syscall.EPERM},
	} {
		for _, e := range all {
			err := fault.Of(&os.PathError{Op: "write", Path: "x", Err: e})
			assert.ErrorIs(t, err, kind, "%v", e)
			assert.ErrorIs(t, err, e)
		}
	}
	assert.ErrorIs(t, fault.Opening(syscall.EPERM), fault.NoRights)
	odd := errors.New("odd")
	assert.Equal(t, odd, fault.Of(odd))
	assert.NoError(t, fault.Of(nil))
}
