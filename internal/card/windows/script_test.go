package windows

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"sync"

	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/layout"
)

// What computers answer, for tests.

func u32(n ...uint32) (b []byte) {
	for _, v := range n {
		b = le.AppendUint32(b, v)
	}
	return b
}

func pad(b []byte, n int) []byte { return append(b, make([]byte, max(n-len(b), 0))...) }

// descriptorOf is a STORAGE_DEVICE_DESCRIPTOR.
func descriptorOf(bus uint32, removable bool, maker, product, serial string) []byte {
	b := make([]byte, 36)
	le.PutUint32(b, 40)
	if removable {
		b[10] = 1
	}
	le.PutUint32(b[28:], bus)
	for at, text := range map[int]string{12: maker, 16: product, 24: serial} {
		if text != "" {
			le.PutUint32(b[at:], uint32(len(b)))
			b = append(append(b, text...), 0)
		}
	}
	le.PutUint32(b[4:], uint32(len(b)))
	return b
}

// geometryOf is a DISK_GEOMETRY_EX.
func geometryOf(media uint32, sector int, size int64) []byte {
	b := pad(nil, 40)
	le.PutUint32(b[8:], media)
	le.PutUint32(b[20:], uint32(sector))
	le.PutUint64(b[24:], uint64(size))
	return b
}

// part is a partition of a layout.
type part struct {
	start, size int64
	kind        string // a GUID, or a number as 0x0C
	name        string
}

func layoutOf(parts ...part) []byte {
	style := uint32(styleMBR)
	if len(parts) > 0 && len(parts[0].kind) > 4 {
		style = styleGPT
	}
	b := pad(u32(style, uint32(len(parts)), 0x5A17A1B5), layoutHead)
	for i, p := range parts {
		e := pad(nil, layoutEntry)
		le.PutUint32(e, style)
		le.PutUint64(e[8:], uint64(p.start))
		le.PutUint64(e[16:], uint64(p.size))
		le.PutUint32(e[24:], uint32(i+1))
		if style == styleMBR {
			var kind byte
			if _, err := fmt.Sscanf(p.kind, "0x%02X", &kind); err != nil {
				panic(err)
			}
			e[32] = kind
		} else {
			copy(e[32:], guidBytes(p.kind))
			for j, r := range p.name {
				le.PutUint16(e[72+2*j:], uint16(r))
			}
		}
		b = append(b, e...)
	}
	return b
}

func guidBytes(text string) []byte {
	var a uint32
	var b, c uint16
	var d, e []byte
	if _,
		err := fmt.Sscanf(strings.ReplaceAll(text, "-", " "), "%08X %04X %04X %X %X", &a, &b, &c, &d, &e); err != nil {
		panic(err)
	}
	out := le.AppendUint16(le.AppendUint16(u32(a), b), c)
	return append(append(out, d...), e...)
}

// extentsOf is VOLUME_DISK_EXTENTS.
func extentsOf(disk uint32, at ...int64) []byte {
	b := pad(u32(uint32(len(at)/2)), 8)
	for i := 0; i < len(at); i += 2 {
		b = append(b, pad(u32(disk), 8)...)
		b = le.AppendUint64(b, uint64(at[i]))
		b = le.AppendUint64(b, uint64(at[i+1]))
	}
	return b
}

// disk is a disk's answers.
func disk(number int, descriptor, geometry, layout []byte) DiskAnswers {
	a := DiskAnswers{
		Number: number, Device: Answer{Bytes: u32(7, uint32(number), 0)}, Descriptor: Answer{Bytes: descriptor},
		Geometry: Answer{Bytes: geometry}, Layout: Answer{Bytes: layout}, Hotplug: Answer{Bytes: make([]byte, 8)},
		Changes: Answer{Bytes: u32(1)},
	}
	if geometry == nil {
		no := Answer{Error: errNotReady}
		a.Geometry, a.Layout, a.Changes = no, Answer{}, no
	}
	return a
}

// volume is a volume's answers.
func volume(id string, extents []byte, kind, label string, paths ...string) VolumeAnswers {
	return VolumeAnswers{
		Name: `\\?\Volume{` + id + `}\`, Paths: paths, Extents: Answer{Bytes: extents}, Kind: kind, Label: label,
	}
}

// scripted is a system that answers from a Computer, and whose disks are in memory.
type scripted struct {
	mu       sync.Mutex
	computer Computer
	rights   bool
	held     map[string]int       // by name of a volume: how often it refuses to be locked; -1: always
	opened   map[string]int       // by path: how many have it for themselves
	locked   map[string]bool      // volumes
	data     map[int]*medium      // by number of a disk
	asked    []uint32             // control codes that change something, in their order
	users    []guard.Program      // of any volume
	fails    map[uint32]error     // control codes that fail
	network  string               // the letter of a drive on another computer
	types    map[string]DriveType // of roots
}

// medium is what a disk holds.
type medium struct {
	bytes []byte
	fails map[int64]error // by sector
}

// number is an error of Windows.
type number uint32

func (n number) Error() string { return fmt.Sprintf("error %d", uint32(n)) }

// Is gives numbers the kinds that package fault gives them on Windows.
func (n number) Is(kind error) bool {
	return map[number]error{
		errAccessDenied: fault.NoRights, errInUse: fault.Busy, errNotReady: fault.Gone, errNoMedia: fault.NoMedium,
		errInvalid: fault.Misused, errWriteProtect: fault.Locked,
	}[n] == kind
}

func (s *scripted) Number(err error) uint32 {
	var n number
	switch {
	case err == nil:
		return 0
	case errors.As(err, &n):
		return uint32(n)
	}
	return errInvalid
}

func (s *scripted) Drives() (all []int, err error) {
	for _, d := range s.computer.Disks {
		all = append(all, d.Number)
	}
	return all, nil
}

func (s *scripted) Volumes() (all []string, err error) {
	for _, v := range s.computer.Volumes {
		all = append(all, v.Name)
	}
	return all, nil
}

func (s *scripted) volume(name string) *VolumeAnswers {
	for i := range s.computer.Volumes {
		if v := &s.computer.Volumes[i]; strings.TrimSuffix(v.Name, `\`) == strings.TrimSuffix(name, `\`) {
			return v
		}
	}
	return nil
}

func (s *scripted) PathsOf(volume string) ([]string, error) { return s.volume(volume).Paths, nil }

func (s *scripted) FileSystemOf(volume string) (label, kind string, err error) {
	v := s.volume(volume)
	if v.Error != 0 {
		return "", "", number(v.Error)
	}
	return v.Label, v.Kind, nil
}

func (s *scripted) VolumeOf(path string) (volume, root string, err error) {
	if s.network != "" && strings.HasPrefix(path, s.network) {
		return "", s.network, nil
	}
	for _, v := range s.computer.Volumes {
		for _, p := range v.Paths {
			if strings.HasPrefix(path, p) && len(p) > len(root) {
				volume, root = v.Name, p
			}
		}
	}
	if volume == "" {
		return "", "", number(3)
	}
	return volume, root, nil
}

func (s *scripted) TypeOf(root string) DriveType {
	if s.network != "" && root == s.network {
		return DriveRemote
	}
	if kind, ok := s.types[root]; ok {
		return kind
	}
	return DriveRemovable
}

func (s *scripted) Uses() ([]Use, error) {
	if s.computer.Used == nil {
		return nil, number(errAccessDenied)
	}
	return s.computer.Used, nil
}

func (s *scripted) UsersOf(string) []guard.Program { return s.users }

func (s *scripted) Open(name string, how Access) (Handle, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	h := &scriptedHandle{s: s, name: name, disk: -1}
	if m := diskName.FindStringSubmatch(name); m != nil {
		h.disk = numberIn("disk" + m[1])
	} else if s.volume(name) == nil {
		return nil, number(2)
	}
	if !s.rights && how != ToAsk {
		return nil, number(errAccessDenied)
	}
	if how == ToWriteDisk {
		if s.opened[name] > 0 {
			return nil, number(errInUse)
		}
		if s.opened == nil {
			s.opened = map[string]int{}
		}
		s.opened[name]++
		h.alone = true
	}
	return h, nil
}

// scriptedHandle is a disk or volume of a scripted system.
type scriptedHandle struct {
	s     *scripted
	name  string
	disk  int // -1: it is a volume
	alone bool
	locks bool
}

func (h *scriptedHandle) Close() error {
	h.s.mu.Lock()
	defer h.s.mu.Unlock()
	if h.alone {
		h.s.opened[h.name]--
	}
	if h.locks {
		delete(h.s.locked, h.name)
	}
	return nil
}

func (h *scriptedHandle) access(p []byte, off int64, do func(m *medium)) (int, error) {
	h.s.mu.Lock()
	defer h.s.mu.Unlock()
	m := h.s.data[h.disk]
	if m == nil {
		return 0, number(errNotReady)
	}
	if off%512 != 0 || len(p)%512 != 0 || !isAligned(p) {
		return 0, number(errInvalid)
	}
	for at, err := range m.fails {
		if at*512 >= off && at*512 < off+int64(len(p)) {
			return 0, err
		}
	}
	if off+int64(len(p)) > int64(len(m.bytes)) {
		return 0, io.EOF
	}
	do(m)
	return len(p), nil
}

func (h *scriptedHandle) ReadAt(p []byte, off int64) (int, error) {
	return h.access(p, off, func(m *medium) { copy(p, m.bytes[off:]) })
}

// WriteAt refuses what is within a volume that isn't locked, as Windows does.
func (h *scriptedHandle) WriteAt(p []byte, off int64) (int, error) {
	for _, v := range h.s.computer.Volumes {
		extents, _ := parseExtents(v.Extents.Bytes)
		for _, e := range extents {
			within := layout.Extent{Offset: off, Length: int64(len(p))}
			if int(e.disk) == h.disk && within.Offset < e.End() && e.Offset < within.End() &&
				!h.s.locked[strings.TrimSuffix(v.Name, `\`)] {
				return 0, number(errAccessDenied)
			}
		}
	}
	return h.access(p, off, func(m *medium) { copy(m.bytes[off:], p) })
}

func (h *scriptedHandle) Flush() error { return nil }

func (h *scriptedHandle) Control(code uint32, in []byte, _ int) ([]byte, error) {
	h.s.mu.Lock()
	defer h.s.mu.Unlock()
	if err := h.s.fails[code]; err != nil {
		return nil, err
	}
	var a DiskAnswers
	for _, d := range h.s.computer.Disks {
		if d.Number == h.disk {
			a = d
		}
	}
	give := func(a Answer) ([]byte, error) {
		if a.Error != 0 {
			return nil, number(a.Error)
		}
		return a.Bytes, nil
	}
	switch code {
	case getDeviceNumber:
		return give(a.Device)
	case queryProperty:
		return give(a.Descriptor)
	case getGeometry:
		return give(a.Geometry)
	case getHotplug:
		return give(a.Hotplug)
	case getLayout:
		return give(a.Layout)
	case isWritable:
		return give(a.Writable)
	case checkVerify:
		return give(a.Changes)
	case getExtents:
		return give(h.s.volume(h.name).Extents)
	}
	h.s.asked = append(h.s.asked, code)
	if code == lockVolume {
		if left := h.s.held[h.name]; left != 0 {
			h.s.held[h.name] = left - 1
			return nil, number(errAccessDenied)
		}
		if h.s.locked[h.name] {
			return nil, number(errAccessDenied)
		}
		if h.s.locked == nil {
			h.s.locked = map[string]bool{}
		}
		h.s.locked[h.name], h.locks = true, true
	}
	return nil, nil
}
