package fault

import "golang.org/x/sys/unix"

// What Linux says besides: its block layer has errors of its own for a medium that fails and for a drive that does
// (block/blk-core.c, blk_errors).
var (
	badHere      = []error{unix.ENODATA, unix.EREMOTEIO}
	noMediumHere = []error{unix.ENOMEDIUM}
)
