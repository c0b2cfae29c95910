//go:build unix

package fault

import (
	"errors"
	"slices"

	"golang.org/x/sys/unix"
)

// opening are errors of opening a device or file; they are about the user's rights, where those of an access say that
// it is locked.
var opening = map[Fault][]error{
	NoRights: {unix.EACCES, unix.EPERM},
}

// kinds are the errors of accesses.
var kinds = map[Fault][]error{
	BadPlace: append([]error{unix.EIO, unix.ETIMEDOUT, unix.EILSEQ}, badHere...),
	Gone:     {unix.ENODEV, unix.ENXIO},
	NoMedium: noMediumHere,
	Locked:   {unix.EROFS, unix.EPERM, unix.EACCES},
	Full:     {unix.ENOSPC, unix.EDQUOT, unix.EFBIG},
	Busy:     {unix.EBUSY, unix.EWOULDBLOCK},
	Misused:  {unix.EINVAL},
}

// Of classifies an error of an access. One that is of no kind stays as it is.
func Of(err error) error { return of(err, kinds) }

// Opening classifies an error of opening a device or file.
func Opening(err error) error {
	if c := of(err, opening); c != err {
		return c
	}
	return Of(err)
}

func of(err error, kinds map[Fault][]error) error {
	for kind, errs := range kinds {
		if slices.ContainsFunc(errs, func(e error) bool { return errors.Is(err, e) }) {
			return kind.Because(err)
		}
	}
	return err
}
