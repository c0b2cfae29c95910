package windows

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"unsafe"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	"zipstamp/internal/card/guard"
)

// Here is this computer.
func Here() *Host { return New(real{}) }

// real asks Windows. It has no state.
type real struct{}

// Number is the number of an error of Windows; 0 for none.
func (real) Number(err error) uint32 {
	var e syscall.Errno
	switch {
	case err == nil:
		return 0
	case errors.As(err, &e):
		return uint32(e)
	}
	return errInvalid
}

// Drives are found among the names of devices, which needs no rights.
func (real) Drives() (numbers []int, err error) {
	names := make([]uint16, 1<<16)
	for {
		n, err := windows.QueryDosDevice(nil, &names[0], uint32(len(names)))
		if errors.Is(err, windows.ERROR_INSUFFICIENT_BUFFER) && len(names) < 1<<24 {
			names = make([]uint16, 2*len(names))
			continue
		}
		if err != nil {
			return nil, os.NewSyscallError("QueryDosDevice", err)
		}
		for _, s := range texts(names[:n]) {
			if m := diskName.FindStringSubmatch(`\\.\` + s); m != nil && strings.HasPrefix(strings.ToLower(s),
				"physical") {
				numbers = append(numbers, numberIn("disk"+m[1]))
			}
		}
		return numbers, nil
	}
}

// texts are those of a list in which each ends with a zero.
func texts(list []uint16) (all []string) {
	for len(list) > 0 {
		s := windows.UTF16ToString(list)
		if s != "" {
			all = append(all, s)
		}
		end := 0
		for end < len(list) && list[end] != 0 {
			end++
		}
		list = list[min(end+1, len(list)):]
	}
	return all
}

func (r real) Volumes() (all []string, err error) {
	var name [windows.MAX_PATH + 1]uint16
	find, err := windows.FindFirstVolume(&name[0], uint32(len(name)))
	if errors.Is(err, windows.ERROR_NO_MORE_FILES) {
		return nil, nil
	}
	if err != nil {
		return nil, os.NewSyscallError("FindFirstVolume", err)
	}
	defer windows.FindVolumeClose(find)
	for {
		all = append(all, windows.UTF16ToString(name[:]))
		err := windows.FindNextVolume(find, &name[0], uint32(len(name)))
		if errors.Is(err, windows.ERROR_NO_MORE_FILES) {
			return append(all, r.onlyLetters(all)...), nil
		}
		if err != nil {
			return nil, os.NewSyscallError("FindNextVolume", err)
		}
	}
}

// byLetter is the name of a volume that is known by its letter alone, as some drivers have it; its root stands behind.
const byLetter = `\\.\`

// onlyLetters are the letters of volumes that are not among others, such as those without a file system. Those of
// drives on other computers, of discs and of memory are none.
func (r real) onlyLetters(volumes []string) (more []string) {
	var known []string
	for _, v := range volumes {
		paths, _ := r.PathsOf(v) // one that can't be seen has no letter
		known = append(known, paths...)
	}
	mask, err := windows.GetLogicalDrives()
	if err != nil {
		return nil
	}
	for i := range 26 {
		root := string(rune('A'+i)) + `:\`
		other := []DriveType{DriveRemote, DriveOptical, DriveMemory}
		if mask&(1<<i) != 0 && !slices.Contains(known, root) && !slices.Contains(other, r.TypeOf(root)) {
			more = append(more, byLetter+root)
		}
	}
	return more
}

func (real) PathsOf(volume string) ([]string, error) {
	if root, ok := strings.CutPrefix(volume, byLetter); ok {
		return []string{root}, nil
	}
	name, err := windows.UTF16PtrFromString(volume)
	if err != nil {
		return nil, err
	}
	paths := make([]uint16, 1<<10)
	for {
		var n uint32
		err := windows.GetVolumePathNamesForVolumeName(name, &paths[0], uint32(len(paths)), &n)
		if errors.Is(err, windows.ERROR_MORE_DATA) && len(paths) < 1<<20 {
			paths = make([]uint16, 2*len(paths))
			continue
		}
		if err != nil {
			return nil, os.NewSyscallError("GetVolumePathNamesForVolumeName", err)
		}
		return texts(paths[:n]), nil
	}
}

func (real) FileSystemOf(volume string) (label, kind string, err error) {
	root, err := windows.UTF16PtrFromString(strings.TrimPrefix(volume, byLetter))
	if err != nil {
		return "", "", err
	}
	var name, system [windows.MAX_PATH + 1]uint16
	if err := windows.GetVolumeInformation(root, &name[0], uint32(len(name)), nil, nil, nil, &system[0],
		uint32(len(system))); err != nil {
		return "", "", os.NewSyscallError("GetVolumeInformation", err)
	}
	return windows.UTF16ToString(name[:]), windows.UTF16ToString(system[:]), nil
}

func (real) VolumeOf(path string) (volume, root string, err error) {
	if path, err = filepath.Abs(path); err != nil {
		return "", "", err
	}
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return "", "", err
	}
	at := make([]uint16, len(path)+windows.MAX_PATH+2)
	if err := windows.GetVolumePathName(name, &at[0], uint32(len(at))); err != nil {
		return "", "", os.NewSyscallError("GetVolumePathName", err)
	}
	root = windows.UTF16ToString(at)
	if windows.GetDriveType(&at[0]) == windows.DRIVE_REMOTE {
		return "", root, nil
	}
	var found [windows.MAX_PATH + 1]uint16
	if err := windows.GetVolumeNameForVolumeMountPoint(&at[0], &found[0], uint32(len(found))); err != nil {
		if rootOf(root) == root {
			return byLetter + root, root, nil
		}
		return "", root, os.NewSyscallError("GetVolumeNameForVolumeMountPoint", err)
	}
	return windows.UTF16ToString(found[:]), root, nil
}

func (real) TypeOf(root string) DriveType {
	name, err := windows.UTF16PtrFromString(root)
	if err != nil {
		return DriveUnknown
	}
	return DriveType(windows.GetDriveType(name))
}

// Uses are the folders of Windows, of the program and of the user, the page files, and the partition that the computer
// starts from.
func (r real) Uses() (all []Use, err error) {
	folder, err := windows.GetSystemWindowsDirectory()
	if err != nil {
		return nil, os.NewSyscallError("GetSystemWindowsDirectory", err)
	}
	all = append(all, Use{How: SystemFolder, Path: folder})
	if partition := setting(`SYSTEM\Setup`, "SystemPartition"); len(partition) == 1 {
		u := Use{How: SystemFolder, Path: partition[0]}
		u.Device, u.Error = r.deviceNumber(`\\?\GLOBALROOT` + partition[0])
		all = append(all, u)
	}
	const memory = `SYSTEM\CurrentControlSet\Control\Session Manager\Memory Management`
	for _, file := range setting(memory, "ExistingPageFiles") {
		all = append(all, Use{How: PageFile, Path: strings.TrimPrefix(file, `\??\`)})
	}
	if own, err := os.Executable(); err == nil {
		all = append(all, Use{How: Program, Path: own})
	}
	if home, err := os.UserHomeDir(); err == nil {
		all = append(all, Use{How: Home, Path: home})
	}
	return all, nil
}

// setting reads texts of the registry, below HKEY_LOCAL_MACHINE; none where there are none.
func setting(key, value string) []string {
	k, err := registry.OpenKey(registry.LOCAL_MACHINE, key, registry.QUERY_VALUE)
	if err != nil {
		return nil
	}
	defer k.Close()
	if all, _, err := k.GetStringsValue(value); err == nil {
		return all
	}
	if one, _, err := k.GetStringValue(value); err == nil && one != "" {
		return []string{one}
	}
	return nil
}

// deviceNumber asks for the disk that a partition is on.
func (r real) deviceNumber(path string) (Raw, uint32) {
	h, err := r.Open(path, ToAsk)
	if err != nil {
		return nil, r.Number(err)
	}
	defer h.Close()
	b, err := h.Control(getDeviceNumber, nil, 12)
	return b, r.Number(err)
}

// Open opens a disk or volume. What is read or written goes through a handle of its own, which the runtime waits on;
// control codes go through another one.
func (real) Open(path string, how Access) (Handle, error) {
	const both = windows.FILE_SHARE_READ | windows.FILE_SHARE_WRITE
	const direct = windows.FILE_FLAG_NO_BUFFERING | windows.FILE_FLAG_OVERLAPPED
	switch how {
	case ToAsk:
		h, err := create(path, 0, both, 0)
		return &handle{control: h}, err
	case ToLock:
		h, err := create(path, windows.GENERIC_READ|windows.GENERIC_WRITE, both, 0)
		return &handle{control: h}, err
	}
	access, share, flags := uint32(windows.GENERIC_READ), uint32(both), uint32(direct)
	if how == ToWriteDisk {
		access, share, flags = access|windows.GENERIC_WRITE, windows.FILE_SHARE_READ,
			direct|windows.FILE_FLAG_WRITE_THROUGH
	}
	data, err := create(path, access, share, flags)
	if err != nil {
		return nil, err
	}
	control, err := create(path, windows.GENERIC_READ, both, 0)
	if err != nil {
		windows.CloseHandle(data)
		return nil, err
	}
	return &handle{control: control, data: os.NewFile(uintptr(data), path)}, nil
}

func create(path string, access, share, flags uint32) (windows.Handle, error) {
	name, err := windows.UTF16PtrFromString(path)
	if err != nil {
		return 0, err
	}
	h, err := windows.CreateFile(name, access, share, nil, windows.OPEN_EXISTING, flags, 0)
	if err != nil {
		return 0, &fs.PathError{Op: "open", Path: path, Err: err}
	}
	return h, nil
}

// handle is a disk or volume that is open.
type handle struct {
	control windows.Handle
	data    *os.File // nil where nothing is read or written
}

func (h *handle) ReadAt(p []byte, off int64) (int, error) {
	if !isAligned(p) {
		return 0, windows.ERROR_INVALID_PARAMETER
	}
	return h.data.ReadAt(p, off)
}

func (h *handle) WriteAt(p []byte, off int64) (int, error) {
	if !isAligned(p) {
		return 0, windows.ERROR_INVALID_PARAMETER
	}
	return h.data.WriteAt(p, off)
}

func (h *handle) Flush() error { return h.data.Sync() }

func (h *handle) Control(code uint32, in []byte, out int) ([]byte, error) {
	var from, to *byte
	if len(in) > 0 {
		from = &in[0]
	}
	answer := make([]byte, out)
	if out > 0 {
		to = &answer[0]
	}
	var n uint32
	err := windows.DeviceIoControl(h.control, code, from, uint32(len(in)), to, uint32(out), &n, nil)
	if err != nil {
		return nil, os.NewSyscallError("DeviceIoControl", err)
	}
	return answer[:min(int(n), out)], nil
}

func (h *handle) Close() error {
	var err error
	if h.data != nil {
		err = h.data.Close()
	}
	return errors.Join(err, windows.CloseHandle(h.control))
}

// Restart Manager (restartmanager.h), which tells what programs have files open.
var (
	restartManager = windows.NewLazySystemDLL("rstrtmgr.dll")
	startSession   = restartManager.NewProc("RmStartSession")
	addResources   = restartManager.NewProc("RmRegisterResources")
	getList        = restartManager.NewProc("RmGetList")
	endSession     = restartManager.NewProc("RmEndSession")
)

// processInfo is RM_PROCESS_INFO.
type processInfo struct {
	id          uint32
	started     windows.Filetime
	name        [256]uint16
	service     [64]uint16
	kind        uint32
	status      uint32
	session     uint32
	restartable int32
}

// Bounds of what is asked of the Restart Manager.
const (
	filesMost = 2000
	usersMost = 32
)

// UsersOf asks for the programs that have files open below a folder. Windows tells of files, not of volumes, so that
// one that only looks at a folder isn't found.
func (real) UsersOf(root string) (all []guard.Program) {
	if restartManager.Load() != nil {
		return nil
	}
	var files []*uint16
	_ = filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error { // what can't be read is left out
		if err != nil {
			return nil
		}
		if len(files) == filesMost {
			return fs.SkipAll
		}
		if name, err := windows.UTF16PtrFromString(path); err == nil && !d.IsDir() {
			files = append(files, name)
		}
		return nil
	})
	if len(files) == 0 {
		return nil
	}
	var session uint32
	var key [33]uint16
	if r, _, _ := startSession.Call(uintptr(unsafe.Pointer(&session)), 0, uintptr(unsafe.Pointer(&key[0]))); r != 0 {
		return nil
	}
	defer func() { _, _, _ = endSession.Call(uintptr(session)) }()
	if r, _, _ := addResources.Call(uintptr(session), uintptr(len(files)), uintptr(unsafe.Pointer(&files[0])), 0, 0, 0,
		0); r != 0 {
		return nil
	}
	var users [usersMost]processInfo
	var needed, reasons uint32
	count := uint32(len(users))
	if r, _, _ := getList.Call(uintptr(session), uintptr(unsafe.Pointer(&needed)), uintptr(unsafe.Pointer(&count)),
		uintptr(unsafe.Pointer(&users[0])), uintptr(unsafe.Pointer(&reasons))); r != 0 {
		return nil
	}
	for _, u := range users[:min(count, usersMost)] {
		all = append(all, guard.Program{ID: int(u.id), Command: windows.UTF16ToString(u.name[:]), How: guard.HasOpen})
	}
	return all
}
