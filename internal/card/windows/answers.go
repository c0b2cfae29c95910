// Package windows is the card.Host of Windows.
//
// What it asks of the system goes through a seam (System), and what comes back is bytes. What those say is found out by
// functions that call nothing, so that the bytes of any computer give the same answer anywhere: computers that somebody
// reports become test cases.
package windows

import (
	"encoding/hex"
	"encoding/json"
	"fmt"
)

// Raw is bytes as a control code gave them. In JSON it is hex.
type Raw []byte

// MarshalJSON writes hex.
func (r Raw) MarshalJSON() ([]byte, error) { return json.Marshal(hex.EncodeToString(r)) }

// UnmarshalJSON reads hex.
func (r *Raw) UnmarshalJSON(text []byte) error {
	var digits string
	if err := json.Unmarshal(text, &digits); err != nil {
		return err
	}
	b, err := hex.DecodeString(digits)
	*r = b
	return err
}

// Answer is what a control code gave: bytes, or the number of an error.
type Answer struct {
	Bytes Raw    `json:"bytes,omitempty"`
	Error uint32 `json:"error,omitempty"` // of Windows (System Error Codes); 0: none
}

// Computer is all that the system answers of its disks and volumes.
type Computer struct {
	Disks   []DiskAnswers   `json:"disks"`
	Volumes []VolumeAnswers `json:"volumes"`
	// volumes that the running system uses, by what is on them; nil if that could not be found out
	Used []Use `json:"used"`
}

// DiskAnswers are those of \\.\PhysicalDriveN.
type DiskAnswers struct {
	Number     int    `json:"number"`
	Device     Answer `json:"device"`     // STORAGE_DEVICE_NUMBER
	Descriptor Answer `json:"descriptor"` // STORAGE_DEVICE_DESCRIPTOR
	Geometry   Answer `json:"geometry"`   // DISK_GEOMETRY_EX
	Hotplug    Answer `json:"hotplug"`    // STORAGE_HOTPLUG_INFO
	Layout     Answer `json:"layout"`     // DRIVE_LAYOUT_INFORMATION_EX
	Writable   Answer `json:"writable"`   // nothing, or why it isn't
	Changes    Answer `json:"changes"`    // how often a medium was put in: ULONG
}

// VolumeAnswers are those of a volume, \\?\Volume{GUID}\.
type VolumeAnswers struct {
	Name    string   `json:"name"`
	Paths   []string `json:"paths"`   // letters, as E:\, and folders
	Extents Answer   `json:"extents"` // VOLUME_DISK_EXTENTS
	Device  Answer   `json:"device"`  // STORAGE_DEVICE_NUMBER, which tells the disk where the other doesn't
	Label   string   `json:"label,omitempty"`
	Kind    string   `json:"kind,omitempty"`  // of the file system, as Windows calls it
	Error   uint32   `json:"error,omitempty"` // why neither could be read
}

// Use is a volume that the running system, or this program, uses.
type Use struct {
	How    How    `json:"how"`
	Path   string `json:"path"`
	Volume string `json:"volume"`           // its name; empty: the path is on none
	Device Raw    `json:"device,omitempty"` // or STORAGE_DEVICE_NUMBER of a partition that has no volume's name
	Error  uint32 `json:"error,omitempty"`  // why the volume could not be found out
}

// How a volume is used.
type How string

// The uses.
const (
	SystemFolder How = "system"    // Windows itself, or what it starts from
	PageFile     How = "page file" //
	Program      How = "program"   // this one
	Home         How = "home"      // of the user
)

// Errors of Windows that answers have (System Error Codes).
const (
	errAccessDenied  = 5
	errWriteProtect  = 19
	errNotReady      = 21
	errBadLength     = 24
	errNotSupported  = 50
	errLockViolation = 33
	errInUse         = 32
	errBadDevice     = 66
	errInvalid       = 87
	errNoMedia       = 1112
	errLocked        = 0x80310000 // FVE_E_LOCKED_VOLUME: BitLocker
)

// errorText is an error of which only the number is known.
type errorText uint32

func (e errorText) Error() string { return fmt.Sprintf("Windows error %d", uint32(e)) }
