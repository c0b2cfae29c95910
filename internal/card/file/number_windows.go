package file

import (
	"fmt"

	"golang.org/x/sys/windows"
)

// Number is the number of a file on its file system, and when the file was made: a number may be given again. Empty if
// the file isn't there.
func Number(path string) string {
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return ""
	}
	const share = windows.FILE_SHARE_READ | windows.FILE_SHARE_WRITE | windows.FILE_SHARE_DELETE
	h, err := windows.CreateFile(name, 0, share, nil, windows.OPEN_EXISTING, windows.FILE_FLAG_BACKUP_SEMANTICS, 0)
	if err != nil {
		return ""
	}
	defer windows.CloseHandle(h)
	var info windows.ByHandleFileInformation
	if windows.GetFileInformationByHandle(h, &info) != nil {
		return ""
	}
	return fmt.Sprintf("%d:%d", uint64(info.FileIndexHigh)<<32|uint64(info.FileIndexLow),
		info.CreationTime.Nanoseconds())
}
