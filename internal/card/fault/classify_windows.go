package fault

import (
	"errors"
	"slices"

	"golang.org/x/sys/windows"
)

// kinds are the errors of Windows (System Error Codes).
var kinds = map[Fault][]error{
	BadPlace: {
		windows.ERROR_CRC, windows.ERROR_SECTOR_NOT_FOUND, windows.ERROR_IO_DEVICE, windows.ERROR_READ_FAULT,
		windows.ERROR_WRITE_FAULT, windows.ERROR_SEEK,
	},
	Gone: {
		windows.ERROR_NOT_READY, windows.ERROR_DEVICE_NOT_CONNECTED, windows.ERROR_NO_SUCH_DEVICE,
		windows.ERROR_DEV_NOT_EXIST, windows.ERROR_GEN_FAILURE, windows.ERROR_DEVICE_REMOVED,
		windows.ERROR_MEDIA_CHANGED,
	},
	NoMedium: {windows.ERROR_NO_MEDIA_IN_DRIVE},
	Locked:   {windows.ERROR_WRITE_PROTECT},
	Full:     {windows.ERROR_DISK_FULL, windows.ERROR_HANDLE_DISK_FULL},
	Busy: {
		windows.ERROR_SHARING_VIOLATION, windows.ERROR_LOCK_VIOLATION, windows.ERROR_BUSY, windows.ERROR_DRIVE_LOCKED,
	},
	NoRights: {windows.ERROR_ACCESS_DENIED, windows.ERROR_PRIVILEGE_NOT_HELD},
	Misused:  {windows.ERROR_INVALID_PARAMETER},
}

// Of classifies an error of an access. One that is of no kind stays as it is.
func Of(err error) error {
	for kind, errs := range kinds {
		if slices.ContainsFunc(errs, func(e error) bool { return errors.Is(err, e) }) {
			return kind.Because(err)
		}
	}
	return err
}

// Opening classifies an error of opening a device or file.
func Opening(err error) error { return Of(err) }
