package image

import (
	"cmp"
	"errors"
	"hash"
	"hash/crc32"
	"io"
	"io/fs"
	"path"
	"slices"
	"strings"
)

// slashed is a name with slashes between its parts: some programs have written the other ones.
func slashed(name string) string { return strings.ReplaceAll(name, `\`, "/") }

// kindOf is what a member is by its mode; one that was packed from a pipe says that it is one.
func kindOf(mode fs.FileMode) MemberKind {
	switch {
	case mode.IsDir():
		return MemberFolder
	case mode&fs.ModeSymlink != 0:
		return MemberLink
	case mode&(fs.ModeDevice|fs.ModeSocket) != 0:
		return MemberSpecial
	}
	return MemberFile
}

// membersMax bounds how many members an archive may have: archives of images have a few.
const membersMax = 100_000

// member is a file in an archive.
type member struct {
	name    string
	size    int64
	refusal *UnusableError // why it can't be unpacked; nil if it can
	open    func() (io.ReadCloser, error)
}

// chooseMember finds the member that is the image: the one asked for, or the only one that
// has a partition table or file system, or else the only one that is named like an image. No more
// than peeks members are looked into, from the largest down. The archive's kind is for messages.
func chooseMember(kind string, all []member, s setting, peeks int) (member, error) {
	var files []member
	for _, m := range all {
		if m.size > 0 && !isLitter(m.name) {
			files = append(files, m)
		}
	}
	if s.member != "" {
		return memberNamed(files, s)
	}
	slices.SortStableFunc(files, func(a, b member) int { return cmp.Compare(b.size, a.size) })
	var whole, disks, named []member
	for _, m := range files[:min(len(files), peeks)] {
		switch found := m.probe(s); {
		case found == wholeDisk:
			whole = append(whole, m)
		case found == fileSystem:
			disks = append(disks, m)
		case found == unknown && hasImageName(m.name):
			named = append(named, m)
		}
	}
	switch {
	case len(whole) == 0 && bootFiles(files) != "": // kernels are named like images, and hold file systems
		return member{}, noImage(kind, files, s)
	case len(whole)+len(disks) == 0:
		disks = named
	default:
		disks = append(whole, disks...)
	}
	switch {
	case len(disks) == 1 && disks[0].refusal != nil, len(disks) == 0 && len(files) > 0 && files[0].refusal != nil:
		return member{}, append(disks, files...)[0].refusal
	case len(disks) == 1:
		return disks[0], nil
	case len(disks) > 1:
		return member{}, &ChoiceError{Path: s.path, Members: memberNames(disks)}
	}
	return member{}, noImage(kind, files, s)
}

// noImage says what an archive holds in place of an image.
func noImage(kind string, files []member, s setting) error {
	if boot := bootFiles(files); boot != "" {
		return &UnusableError{Path: s.path, Why: HoldsBootFiles, Name: boot, Count: int64(len(files))}
	}
	e := &UnusableError{Path: s.path, Why: HoldsNoImage, Packing: kind, Count: int64(len(files))}
	if len(files) > 0 {
		e.Name, e.Bytes = files[0].name, files[0].size
	}
	return e
}

// peeksMax bounds how many members are looked into where that is quick.
const peeksMax = 64

func tooManyMembers(path string) error {
	return &UnusableError{Path: path, Why: ManyMembers, Count: membersMax}
}

// bootFiles names a file that a board's boot loader looks for on a FAT file system, if there is one.
func bootFiles(files []member) string {
	for _, m := range files {
		if isBootFile(m.name) {
			return m.name
		}
	}
	return ""
}

func isBootFile(name string) bool {
	name = strings.ToLower(slashed(name))
	return strings.HasSuffix(name, ".dtb") || strings.Contains(name, "efi/boot/boot") ||
		slices.Contains([]string{"extlinux.conf", "boot.scr", "cmdline.txt"}, path.Base(name))
}

func memberNamed(files []member, s setting) (member, error) {
	var based []member
	for _, m := range files {
		if m.name == s.member {
			based = []member{m}
			break
		}
		if isCalled(m.name, s.member) {
			based = append(based, m)
		}
	}
	if len(based) == 1 {
		if based[0].refusal != nil {
			return member{}, based[0].refusal
		}
		return based[0], nil
	}
	if len(based) > 1 {
		files = based
	}
	return member{}, &ChoiceError{Path: s.path, Wanted: s.member, Members: memberNames(files[:min(len(files), 20)])}
}

// isCalled tells whether a member is the one asked for, by its whole name or without its folders.
func isCalled(name, wanted string) bool { return name == wanted || path.Base(name) == wanted }

func memberNames(files []member) []string {
	var names []string
	for _, m := range files {
		names = append(names, m.name)
	}
	slices.Sort(names)
	return names
}

// probe looks into a member.
func (m member) probe(s setting) probed {
	if m.refusal != nil {
		return unknown
	}
	r, err := m.open()
	if err != nil {
		return unknown
	}
	defer r.Close()
	start, err := io.ReadAll(io.LimitReader(r, probeSize))
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) || len(start) == 0 {
		return unknown
	}
	return probe(start, s)
}

// isLitter tells files that some systems add for themselves.
func isLitter(name string) bool {
	return strings.HasPrefix(name, "__MACOSX/") || strings.HasPrefix(path.Base(name), "._")
}

// IsNamed tells whether a file has a name that downloads of images have: that of an image or of a packed file, finished
// or not.
func IsNamed(name string) bool {
	if strings.HasPrefix(name, ".") {
		return false
	}
	return hasImageName(name) || len(withoutEndings(name)) > 1
}

// hasImageName tells a name that images have, packed or not.
func hasImageName(name string) bool {
	for _, n := range withoutEndings(name) {
		switch strings.ToLower(path.Ext(n)) {
		case ".img", ".iso", ".raw", ".wic", ".image", ".sdcard":
			return true
		}
	}
	return false
}

// checkedMember compares a member's size and CRC-32 with those in the archive's directory.
type checkedMember struct {
	io.ReadCloser
	size int64
	want uint32
	sum  hash.Hash32 // nil where the directory has no CRC-32
	n    int64
}

func newCheckedMember(r io.ReadCloser, size int64, crc uint32, has bool) *checkedMember {
	m := &checkedMember{ReadCloser: r, size: size, want: crc}
	if has {
		m.sum = crc32.NewIEEE()
	}
	return m
}

func (m *checkedMember) Read(p []byte) (int, error) {
	n, err := m.ReadCloser.Read(p)
	if m.sum != nil {
		m.sum.Write(p[:n])
	}
	m.n += int64(n)
	switch {
	case m.n > m.size:
		return 0, errors.New("the member is longer than the archive's directory says")
	case err != io.EOF:
		return n, err
	case m.n < m.size:
		return n, errors.New("the member is shorter than the archive's directory says")
	case m.sum != nil && m.sum.Sum32() != m.want:
		return n, errors.New("the member's CRC-32 differs from that in the archive's directory")
	}
	return n, io.EOF
}
