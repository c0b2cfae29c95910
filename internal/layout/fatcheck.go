package layout

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"path"
)

// FATCheck is what a look at a whole volume finds, without changing it. Numbers are those of Microsoft's "FAT: General
// Overview of On-Disk Format", 1.03.
type FATCheck struct {
	// Faults say what is wrong: what no way of using the volume leaves behind, the worst first. Empty: nothing
	Faults []string
	// Unclean says that the volume was not unmounted, so that its tables may be behind what was written
	Unclean bool
	// Folders are where the entries of folders are, bytes from the volume's start
	Folders []Extent
	Files   []FATPlace
}

// FATPlace is a file, and where its entry is.
type FATPlace struct {
	FATFile
	Entry int64 // bytes from the volume's start
}

// maxFaults bounds the faults that are listed.
const maxFaults = 20

// Offsets in the boot sector and in FSInfo, and what is in the table.
const (
	bootBackup     = 50   // BPB_BkBootSec
	bootFSInfo     = 48   // BPB_FSInfo
	fsInfoLead     = 0    // FSI_LeadSig
	fsInfoStruct   = 484  // FSI_StrucSig
	fsInfoFree     = 488  // FSI_Free_Count
	fsInfoNext     = 492  // FSI_Nxt_Free
	fsInfoTrail    = 508  // FSI_TrailSig
	fatCleanBit16  = 15   // of the second entry: the volume was unmounted
	fatCleanBit32  = 27   //
	fatBad         = 0x7  // the low bits of an entry of a bad cluster, above which all are set
	dirtyAt16      = 0x25 // BS_Reserved1, by which systems note that a volume is in use
	dirtyAt32      = 0x41 //
	maxFATClusters = 1 << 28
)

// Dirty is where in the boot sector it is noted that the volume is in use; systems change this byte alone.
func (v *FAT) Dirty() int64 {
	if v.kind == FAT32Kind {
		return dirtyAt32
	}
	return dirtyAt16
}

// FSInfo is where a FAT32 notes how much is free, bytes from its start; ok is false where there is no such place.
func (v *FAT) FSInfo() (at Extent, ok bool) {
	boot := make([]byte, SectorSize)
	if _, err := v.r.ReadAt(boot, 0); err != nil || v.kind != FAT32Kind {
		return at, false
	}
	sector := int64(le.Uint16(boot[bootFSInfo:]))
	if sector == 0 || sector == 0xFFFF || sector*v.sector >= v.table {
		return at, false
	}
	return Extent{sector*v.sector + fsInfoFree, fsInfoNext + 4 - fsInfoFree}, true
}

// Tables are where the file allocation tables are.
func (v *FAT) Tables() Extent { return Extent{v.reservedEnd, v.root - v.reservedEnd} }

// checker is a check at work.
type fatChecker struct {
	*FAT
	FATCheck
	table []byte   // the entries
	used  []uint64 // a bit for each cluster that a chain goes through
}

// Check looks at the whole volume. The error is one of reading.
func (v *FAT) Check() (FATCheck, error) {
	c := &fatChecker{FAT: v}
	length := (int64(v.clusters)+2)*v.entryBits/8 + 4
	length = min(length, v.tableLength)
	c.table = make([]byte, length)
	if _, err := io.ReadFull(io.NewSectionReader(v.r, v.table, length), c.table); err != nil {
		return c.FATCheck, err
	}
	c.table = append(c.table, 0, 0, 0, 0)
	c.used = make([]uint64, (v.clusters+2+63)/64)
	for _, step := range []func() error{c.boot, c.copies, c.reserved, c.walk, c.lost} {
		if err := step(); err != nil {
			return c.FATCheck, err
		}
	}
	return c.FATCheck, nil
}

func (c *fatChecker) fault(format string, args ...any) {
	if len(c.Faults) < maxFaults {
		c.Faults = append(c.Faults, fmt.Sprintf(format, args...))
	}
}

// entry of a cluster.
func (c *fatChecker) entry(n uint32) uint32 {
	bit := int64(n) * c.entryBits
	e := le.Uint32(c.table[bit/8:])
	switch c.entryBits {
	case 12:
		return e >> (bit % 8) & 0xFFF
	case 16:
		return e & 0xFFFF
	}
	return e & 0xFFFFFFF
}

// boot compares the boot sector of a FAT32 with its backup, and reads FSInfo's signatures.
func (c *fatChecker) boot() error {
	boot := make([]byte, SectorSize)
	if _, err := c.r.ReadAt(boot, 0); err != nil {
		return err
	}
	c.Unclean = boot[c.Dirty()]&1 != 0
	if c.kind != FAT32Kind {
		return nil
	}
	if at := int64(le.Uint16(boot[bootBackup:])); at > 0 && at*c.sector < c.reservedEnd {
		backup := make([]byte, SectorSize)
		if _, err := c.r.ReadAt(backup, at*c.sector); err != nil {
			return err
		}
		boot[dirtyAt32], backup[dirtyAt32] = 0, 0
		if !bytes.Equal(boot, backup) {
			c.fault("the boot sector differs from its backup")
		}
	}
	at, ok := c.FSInfo()
	if !ok {
		return nil
	}
	info := make([]byte, SectorSize)
	if _, err := c.r.ReadAt(info, at.Offset-fsInfoFree); err != nil {
		return err
	}
	if string(info[fsInfoLead:4]) != "RRaA" || string(info[fsInfoStruct:488]) != "rrAa" ||
		!bytes.Equal(info[fsInfoTrail:512], []byte{0, 0, 0x55, 0xAA}) {
		c.fault("the sector that notes the free space is damaged")
	}
	for _, b := range append(bytes.Clone(info[4:fsInfoStruct]), info[fsInfoNext+4:fsInfoTrail]...) {
		if b != 0 {
			c.fault("the sector that notes the free space has something where it is to be zero")
			break
		}
	}
	free := uint32(0)
	for n := uint32(2); n < c.clusters+2; n++ {
		if c.entry(n) == 0 {
			free++
		}
	}
	noted, next := le.Uint32(info[fsInfoFree:]), le.Uint32(info[fsInfoNext:])
	if !c.isUnclean() && noted != 0xFFFFFFFF && noted != free {
		c.fault("%d clusters are free, and %d are noted", free, noted)
	}
	if next != 0xFFFFFFFF && next >= c.clusters+2 {
		c.fault("the next free cluster that is noted, %d, is not one of the volume's", next)
	}
	return nil
}

// isUnclean also asks the second entry of the table, by which other systems note it.
func (c *fatChecker) isUnclean() bool {
	switch c.entryBits {
	case 16:
		return c.Unclean || c.entry(1)>>fatCleanBit16&1 == 0
	case 32:
		return c.Unclean || c.entry(1)>>fatCleanBit32&1 == 0
	}
	return c.Unclean
}

// copies compares the two tables.
func (c *fatChecker) copies() error {
	if c.copy == 0 {
		return nil
	}
	a, b := make([]byte, 1<<16), make([]byte, 1<<16)
	for at := int64(0); at < c.tableLength; at += int64(len(a)) {
		n := min(int64(len(a)), c.tableLength-at)
		for _, one := range []struct {
			p  []byte
			at int64
		}{{a[:n], c.FAT.table + at}, {b[:n], c.copy + at}} {
			if _, err := io.ReadFull(io.NewSectionReader(c.r, one.at, n), one.p); err != nil {
				return err
			}
		}
		if !bytes.Equal(a[:n], b[:n]) {
			c.fault("its two file allocation tables differ")
			return nil
		}
	}
	return nil
}

// reserved looks at the first two entries.
func (c *fatChecker) reserved() error {
	boot := make([]byte, 32)
	if _, err := c.r.ReadAt(boot, 0); err != nil {
		return err
	}
	all := uint32(1)<<min(c.entryBits, 28) - 1
	if c.entry(0) != all&^0xFF|uint32(boot[21]) {
		c.fault("the first entry of its table is damaged")
	}
	flags := uint32(0)
	switch c.entryBits {
	case 16:
		flags = 3 << (fatCleanBit16 - 1)
	case 32:
		flags = 3 << (fatCleanBit32 - 1)
	}
	if one := c.entry(1) | flags; one != all && one != all&^7|flags && one != all-7 {
		c.fault("the second entry of its table is damaged")
	}
	return nil
}

// isBad tells entries of clusters that are set aside.
func (c *fatChecker) isBad(e uint32) bool { return e == c.endOfChain-1 }

// chain follows a chain, and gives its clusters' count; where is what it is of, for faults.
func (c *fatChecker) chain(first uint32, where string, see func(at int64) (bool, error)) (count int64, err error) {
	seeing := see != nil
	for n := first; ; {
		if n < 2 || n >= c.clusters+2 {
			c.fault("%s goes on in cluster %d, which is not one of the volume's", where, n)
			return count, nil
		}
		if c.used[n/64]>>(n%64)&1 != 0 {
			c.fault("%s shares cluster %d", where, n)
			return count, nil
		}
		c.used[n/64] |= 1 << (n % 64)
		count++
		if seeing {
			if seeing, err = see(c.data + int64(n-2)*c.cluster); err != nil {
				return count, err
			}
		}
		next := c.entry(n)
		if next >= c.endOfChain {
			return count, nil
		}
		if next == 0 || c.isBad(next) {
			c.fault("%s has no end", where)
			return count, nil
		}
		n = next
	}
}

var errTooMany = errors.New("the volume has more folders than are looked at")

// walk goes through all folders.
func (c *fatChecker) walk() error {
	type folder struct {
		path          string
		first, parent uint32
	}
	todo := []folder{{"", c.rootFolder(), 0}}
	for n := 0; n < len(todo); n++ {
		if n > 100_000 {
			return errTooMany
		}
		f := todo[n]
		names := &folderNames{checker: c, path: f.path, first: f.first, parent: f.parent, root: n == 0}
		names.child = func(name string, first uint32) {
			todo = append(todo, folder{path.Join(f.path, name), first, f.first})
		}
		read := func(at, length int64) (bool, error) {
			piece := make([]byte, length)
			if _, err := io.ReadFull(io.NewSectionReader(c.r, at, length), piece); err != nil {
				return false, err
			}
			c.FATCheck.Folders = append(c.FATCheck.Folders, Extent{at, length})
			for off := int64(0); off+dirEntrySize <= length; off += dirEntrySize {
				if err := names.see(piece[off:off+dirEntrySize], at+off); err != nil {
					return false, err
				}
			}
			return true, nil
		}
		var err error
		if f.first == 0 && c.rootLength > 0 && n == 0 {
			_, err = read(c.root, c.rootLength)
		} else {
			_, err = c.chain(f.first, "folder /"+f.path, func(at int64) (bool, error) { return read(at, c.cluster) })
		}
		if err != nil {
			return err
		}
		names.end()
	}
	return nil
}

// lost looks for clusters that are in use and of no file.
func (c *fatChecker) lost() error {
	if c.isUnclean() {
		return nil // what was being written may be so
	}
	count := 0
	for n := uint32(2); n < c.clusters+2; n++ {
		if e := c.entry(n); e != 0 && !c.isBad(e) && c.used[n/64]>>(n%64)&1 == 0 {
			count++
		}
	}
	if count > 0 {
		c.fault("%d clusters are in use and belong to no file", count)
	}
	return nil
}

// folderNames reads the entries of a folder.
type folderNames struct {
	checker       *fatChecker
	path          string
	first, parent uint32
	root          bool
	child         func(name string, first uint32)

	long  longName
	count int
	ended bool
}

func (f *folderNames) see(e []byte, at int64) error {
	c := f.checker
	f.count++
	switch {
	case f.ended:
		if e[0] != 0 && e[0] != 0xE5 {
			c.fault("folder /%s has something behind its end", f.path)
		}
		return nil
	case e[0] == 0:
		f.ended = true
		f.orphan()
		return nil
	case e[0] == 0xE5:
		f.orphan()
		return nil
	case e[11]&0x3F == attrLongName:
		if e[0]&0x40 == 0 && len(f.long) == 0 {
			c.fault("folder /%s has the end of a long name without its start", f.path)
		}
		if e[0]&0x40 != 0 {
			f.orphan()
		}
		f.long.add(e)
		return nil
	}
	f.entry(e, at)
	f.long = nil
	return nil
}

// orphan says that a long name has no file.
func (f *folderNames) orphan() {
	if len(f.long) > 0 && !f.checker.isUnclean() {
		f.checker.fault("folder /%s has a long name of no file", f.path)
	}
	f.long = nil
}

func (f *folderNames) end() { f.orphan() }

// entry reads the entry of a file or folder.
func (f *folderNames) entry(e []byte, at int64) {
	c := f.checker
	short := shortNameOf(e)
	if e[11]&0xC0 != 0 {
		c.fault("%s in folder /%s has attributes that don't exist", short, f.path)
	}
	if short != "." && short != ".." && !validShort(e[:11]) {
		c.fault("folder /%s has a name that can't be", f.path)
	}
	if len(f.long) > 0 {
		if sum := shortSum(e[:11]); !f.long.isOf(sum) {
			c.fault("the long name of %s in folder /%s is not its own", short, f.path)
		}
	}
	if !validTime(e) {
		c.fault("%s in folder /%s has a time that can't be", short, f.path)
	}
	name := f.long.text(e)
	where := "/" + path.Join(f.path, name)
	first, size := uint32(le.Uint16(e[26:])), int64(le.Uint32(e[28:]))
	if c.entryBits == 32 {
		first |= uint32(le.Uint16(e[20:])) << 16
	}
	switch {
	case e[11]&attrVolume != 0:
		if first != 0 || size != 0 {
			c.fault("the volume's label has contents")
		}
	case f.isDots(short, e, first):
	case e[11]&attrDirectory != 0:
		if size != 0 {
			c.fault("folder %s has the size of a file", where)
		}
		f.child(name, first)
	default:
		c.FATCheck.Files = append(c.FATCheck.Files, FATPlace{
			FATFile{path.Join(f.path, name), size, entryTime(e), first}, at,
		})
		want := (size + c.cluster - 1) / c.cluster
		count := int64(0)
		if first != 0 {
			count, _ = c.chain(first, where, nil) // nothing is read
		}
		if count != want && !(c.isUnclean() && count > want) {
			c.fault("%s has %d clusters, and its size needs %d", where, count, want)
		}
	}
}

// isDots tells the entries of a folder for itself and for the one above, and looks at them.
func (f *folderNames) isDots(short string, e []byte, first uint32) bool {
	c := f.checker
	switch {
	case f.root || f.count > 2:
		return false
	case short == ".":
		if f.count != 1 || first != f.first || e[11]&attrDirectory == 0 {
			c.fault("folder /%s is not what it says of itself", f.path)
		}
	case short == "..":
		above := f.parent
		if above == c.rootFolder() {
			above = 0
		}
		if f.count != 2 || first != above || e[11]&attrDirectory == 0 {
			c.fault("folder /%s is not where it says", f.path)
		}
	default:
		if f.count <= 2 {
			c.fault("folder /%s does not begin as one", f.path)
		}
		return false
	}
	return true
}

// isOf tells whether all parts of a long name are of the short name with a sum, in order.
func (l longName) isOf(sum byte) bool {
	for i, e := range l {
		number := int(e[0] & 0x3F)
		if e[13] != sum || number != len(l)-i || (e[0]&0x40 != 0) != (i == 0) || e[12] != 0 || e[26] != 0 ||
			e[27] != 0 {
			return false
		}
	}
	return true
}

// validShort tells whether a short name has only characters that may be in one (section "Short Directory Entries").
func validShort(name []byte) bool {
	for i, b := range name {
		if b < 0x20 && !(i == 0 && b == 0x05) || bytes.IndexByte([]byte(`"*+,./:;<=>?[\]|`), b) >= 0 || b == 0x7F ||
			b >= 'a' && b <= 'z' {
			return false
		}
	}
	return name[0] != ' '
}

// validTime tells whether the times of an entry can be (section "Date and Time Formats"); zero is none.
func validTime(e []byte) bool {
	for _, at := range []int{24, 16, 18} { // written, made, read
		d := le.Uint16(e[at:])
		if month, day := d>>5&15, d&31; d != 0 && (month < 1 || month > 12 || day < 1) {
			return false
		}
	}
	for _, at := range []int{22, 14} {
		t := le.Uint16(e[at:])
		if t>>11 > 23 || t>>5&63 > 59 || t&31 > 29 {
			return false
		}
	}
	return e[13] <= 199 // tenths of seconds when it was made
}
