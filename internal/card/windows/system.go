package windows

import (
	"io"
	"unsafe"

	"zipstamp/internal/card/guard"
)

// System is what is asked of Windows. Errors are its numbers, as Number gives them.
type System interface {
	Drives() ([]int, error)                                     // N of all \\.\PhysicalDriveN
	Volumes() ([]string, error)                                 // \\?\Volume{GUID}\
	PathsOf(volume string) ([]string, error)                    // letters and folders at which it can be seen
	FileSystemOf(volume string) (label, kind string, err error) //
	// VolumeOf is the volume that a path is on, which needn't be there, and the folder at which that can be seen. It is
	// empty for a path on another computer.
	VolumeOf(path string) (volume, root string, err error)
	TypeOf(root string) DriveType
	Uses() ([]Use, error) // paths that the system or the program uses, without their volumes
	Open(name string, how Access) (Handle, error)
	UsersOf(root string) []guard.Program // programs that have files open below a folder, as far as that can be known
	Number(err error) uint32
}

// Handle is a disk or volume that is open.
type Handle interface {
	io.ReaderAt
	io.WriterAt
	Control(code uint32, in []byte, out int) ([]byte, error) // out: the most that it gives, bytes
	Flush() error
	Close() error
}

// Access is how something is opened.
type Access uint8

// The ways. The last two go round the computer's memory: whole sectors, from buffers of a card.Pool.
const (
	ToAsk       Access = iota // nothing is read or written; that needs no rights
	ToLock                    // a volume, beside others, to lock it
	ToReadDisk                // beside others
	ToWriteDisk               // nobody else can write it meanwhile
)

// leastAlignment is that of memory for access without the system's: the smallest sector (Microsoft, "File Buffering",
// Alignment and File Access Requirements), bytes. Some drivers let more pass; so that it isn't left to them, all is
// refused that doesn't keep to it.
const leastAlignment = 512

func isAligned(p []byte) bool {
	return uintptr(unsafe.Pointer(unsafe.SliceData(p)))%leastAlignment == 0
}

// DriveType is what GetDriveType says of a root.
type DriveType uint32

// The types (winbase.h).
const (
	DriveUnknown DriveType = iota
	DriveNoRoot
	DriveRemovable
	DriveFixed
	DriveRemote
	DriveOptical
	DriveMemory
)

// Control codes (Windows Driver Kit: ntddstor.h, ntdddisk.h, ntddvol.h, winioctl.h). Those up to the lock ask for
// nothing that needs rights.
const (
	getDeviceNumber  = 0x2D1080 // IOCTL_STORAGE_GET_DEVICE_NUMBER
	queryProperty    = 0x2D1400 // IOCTL_STORAGE_QUERY_PROPERTY
	getGeometry      = 0x0700A0 // IOCTL_DISK_GET_DRIVE_GEOMETRY_EX
	getHotplug       = 0x2D0C14 // IOCTL_STORAGE_GET_HOTPLUG_INFO
	getLayout        = 0x070050 // IOCTL_DISK_GET_DRIVE_LAYOUT_EX
	isWritable       = 0x070024 // IOCTL_DISK_IS_WRITABLE
	checkVerify      = 0x2D0800 // IOCTL_STORAGE_CHECK_VERIFY2
	getExtents       = 0x560000 // IOCTL_VOLUME_GET_VOLUME_DISK_EXTENTS
	lockVolume       = 0x090018 // FSCTL_LOCK_VOLUME
	dismountVolume   = 0x090020 // FSCTL_DISMOUNT_VOLUME
	updateProperties = 0x070140 // IOCTL_DISK_UPDATE_PROPERTIES
	mediaRemoval     = 0x2D4804 // IOCTL_STORAGE_MEDIA_REMOVAL
	ejectMedia       = 0x2D4808 // IOCTL_STORAGE_EJECT_MEDIA
)

// Lengths of answers, bytes: more than any disk of today has to say.
const (
	descriptorMost = 4 << 10
	layoutMost     = layoutHead + 130*layoutEntry
	volumeMost     = 8 + 24*64
)
