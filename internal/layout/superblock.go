package layout

import (
	"bytes"
	"encoding/binary"
	"encoding/hex"
	"errors"
	"io"
	"slices"
	"strings"
)

// FSKind is the kind of a file system, as it is called everywhere; empty if none is known.
type FSKind string

// The kinds of file systems, and of what stands in their place.
const (
	FAT12Kind    FSKind = "FAT12"
	FAT16Kind    FSKind = "FAT16"
	FAT32Kind    FSKind = "FAT32"
	ExFATKind    FSKind = "exFAT"
	NTFSKind     FSKind = "NTFS"
	Ext2Kind     FSKind = "ext2"
	Ext3Kind     FSKind = "ext3"
	Ext4Kind     FSKind = "ext4"
	BtrfsKind    FSKind = "btrfs"
	F2FSKind     FSKind = "f2fs"
	XFSKind      FSKind = "xfs"
	SquashFSKind FSKind = "squashfs"
	EROFSKind    FSKind = "erofs"
	SwapKind     FSKind = "swap"
	ISOKind      FSKind = "ISO 9660"
	LUKSKind     FSKind = "LUKS, encrypted"
	BitLocker    FSKind = "BitLocker, encrypted"
	LVMKind      FSKind = "LVM"
	RAIDKind     FSKind = "a part of a RAID array"
	ZFSKind      FSKind = "a part of a ZFS pool"
	FATKind      FSKind = "FAT" // where only that is known
)

// IsFAT tells the kinds that OpenFAT reads.
func (k FSKind) IsFAT() bool { return k == FAT12Kind || k == FAT16Kind || k == FAT32Kind }

// IsExt tells the kinds that OpenExt reads.
func (k FSKind) IsExt() bool { return k == Ext2Kind || k == Ext3Kind || k == Ext4Kind }

// FileSystem is what a superblock says of a file system.
type FileSystem struct {
	Kind  FSKind
	Label string
	Size  int64 // bytes; 0 where it doesn't say
	// UUID is the number that it got when it was made, by which it is told apart from others, in hexadecimal digits;
	// empty where it has none
	UUID string
}

// superblock is a file system known by the bytes at its start.
type superblock struct {
	Mark
	read func(head []byte, r io.ReaderAt) FileSystem
	bare bool // images of disks start with it, without a partition table
}

// headLength is how much of a partition's start the superblocks are in: that of btrfs is the last, at 64 KiB.
const headLength = 68 << 10

// superblocks are tried in this order. The numbers in the functions are offsets in the structures named there.
var superblocks = []superblock{
	// ECMA-119 section 8.4; before FAT, since a disc may have a boot sector too
	{Mark{32769, "CD001"}, iso9660, true},
	{Mark{3, "EXFAT   "}, exFAT, false}, // exFAT file system specification, section 3.1
	{Mark{3, "NTFS    "}, ntfs, false},  //
	// util-linux, libblkid/src/superblocks/bitlocker.c; on what can be taken out it looks like FAT, but for its GUID
	{Mark{3, "-FVE-FS-"}, named(BitLocker), false},
	{Mark{424, "\x3b\xd6\x67\x49\x29\x2e\xd8\x4a\x83\x99\xf6\xa3\x39\xe3\xd0\x01"}, named(BitLocker), false},
	{Mark{1024 + 56, "\x53\xef"}, ext, true}, // Linux, Documentation/filesystems/ext4/super.rst
	{Mark{0, "hsqs"}, squashfs, true},        // Linux, fs/squashfs/squashfs_fs.h
	// Linux, include/uapi/linux/btrfs_tree.h, struct btrfs_super_block
	{Mark{64<<10 + 64, "_BHRfS_M"}, btrfs, true},
	{Mark{1024, "\x10\x20\xf5\xf2"}, f2fs, true},        // Linux, include/linux/f2fs_fs.h
	{Mark{0, "XFSB"}, xfs, true},                        // Linux, fs/xfs/libxfs/xfs_format.h, struct xfs_dsb
	{Mark{1024, "\xe2\xe1\xf5\xe0"}, erofs, true},       // Linux, fs/erofs/erofs_fs.h
	{Mark{4096 - 10, "SWAPSPACE2"}, swap, false},        // Linux, include/linux/swap.h, union swap_header
	{Mark{16384 - 10, "SWAPSPACE2"}, swap, false},       // likewise, with pages of 16 KiB, and of 64 KiB
	{Mark{65536 - 10, "SWAPSPACE2"}, swap, false},       //
	{Mark{0, "LUKS\xba\xbe"}, named(LUKSKind), false},   // LUKS2 On-Disk Format Specification
	{Mark{512 + 24, "LVM2 001"}, named(LVMKind), false}, //
	{Mark{510, bootMark}, fat, true},                    // last: the mark says little
}

// StartsLikeDisk tells whether head, the first 72 KiB or less of something, is the start of a disk: of one with a
// partition table, or of a file system that images have without one.
func StartsLikeDisk(head []byte) bool {
	for _, sector := range gptSectors {
		if (Mark{int(sector), gptMark}).In(head) {
			return true
		}
	}
	return slices.ContainsFunc(superblocks, func(s superblock) bool { return s.bare && s.In(head) })
}

// HasTable tells whether head, the first 72 KiB or less of something, is the start of a disk with a partition table, or
// of an optical disc.
func HasTable(head []byte) bool {
	for _, sector := range gptSectors {
		if (Mark{int(sector), gptMark}).In(head) {
			return true
		}
	}
	if len(head) < SectorSize {
		return false
	}
	table, protective := ParseMBR(head, SectorSize)
	return table.Scheme != NoTable || protective || superblocks[0].In(head)
}

// Identify finds out which file system starts at r's offset 0. Errors are those of r.
func Identify(r io.ReaderAt) (FileSystem, error) {
	head := make([]byte, headLength)
	n, err := r.ReadAt(head, 0)
	if err != nil && !errors.Is(err, io.EOF) {
		return FileSystem{}, err
	}
	// past a short disk's end there is nothing: zeros
	for _, s := range superblocks {
		if s.In(head[:n]) {
			if fs := s.read(head, r); fs.Kind != "" {
				fs.UUID = fs.Kind.id(head)
				return fs, nil
			}
		}
	}
	return FileSystem{}, nil
}

// id is the number that a file system got when it was made, of the start of its partition: the sources are those of the
// readers of superblocks.
func (k FSKind) id(head []byte) string {
	at := map[FSKind][2]int{
		FAT12Kind: {39, 4}, FAT16Kind: {39, 4}, FAT32Kind: {67, 4}, ExFATKind: {100, 4}, NTFSKind: {72, 8},
		Ext2Kind: {1024 + 104, 16}, Ext3Kind: {1024 + 104, 16}, Ext4Kind: {1024 + 104, 16},
		BtrfsKind: {64<<10 + 32, 16}, F2FSKind: {1024 + 108, 16}, XFSKind: {32, 16}, EROFSKind: {1024 + 48, 16},
		SwapKind: {1024 + 12, 16},
	}[k]
	id := head[at[0]:][:at[1]]
	if allZeros(id) {
		return ""
	}
	return hex.EncodeToString(id)
}

func allZeros(p []byte) bool { return len(bytes.TrimLeft(p, "\x00")) == 0 }

func named(kind FSKind) func([]byte, io.ReaderAt) FileSystem {
	return func([]byte, io.ReaderAt) FileSystem { return FileSystem{Kind: kind} }
}

var le = binary.LittleEndian

// text is a label of fixed length, filled up with zeros or spaces.
func text(b []byte) string {
	b, _, _ = bytes.Cut(b, []byte{0})
	return strings.ToValidUTF8(strings.TrimRight(string(b), " "), "?")
}

// positive is a size that makes sense, or 0.
func positive(n uint64, unit uint64) int64 {
	if unit == 0 || n > 1<<62/unit {
		return 0
	}
	return int64(n * unit)
}

func iso9660(head []byte, _ io.ReaderAt) FileSystem {
	d := head[32768:] // the Primary Volume Descriptor
	return FileSystem{
		Kind: ISOKind, Label: text(d[40:72]),
		Size: positive(uint64(le.Uint32(d[80:])), uint64(le.Uint16(d[128:]))),
	}
}

func ntfs(head []byte, _ io.ReaderAt) FileSystem {
	return FileSystem{Kind: NTFSKind, Size: positive(le.Uint64(head[40:]), uint64(le.Uint16(head[11:])))}
}

func ext(head []byte, _ io.ReaderAt) FileSystem {
	const (
		hasJournal = 0x4   // s_feature_compat
		is64bit    = 0x80  // s_feature_incompat
		ext4Only   = 0x2C0 // likewise: extents, 64bit, flex_bg
		ext4Compat = 0x478 // s_feature_ro_compat: huge_file, gdt_csum, dir_nlink, extra_isize, metadata_csum
	)
	s := head[1024:]
	compat, incompat, roCompat := le.Uint32(s[92:]), le.Uint32(s[96:]), le.Uint32(s[100:])
	kind := Ext2Kind
	switch {
	case incompat&ext4Only != 0 || roCompat&ext4Compat != 0:
		kind = Ext4Kind
	case compat&hasJournal != 0:
		kind = Ext3Kind
	}
	blocks, shift := uint64(le.Uint32(s[4:])), le.Uint32(s[24:])
	if incompat&is64bit != 0 {
		blocks |= uint64(le.Uint32(s[0x150:])) << 32
	}
	if shift > 6 { // 64 KiB are the largest blocks
		return FileSystem{}
	}
	return FileSystem{Kind: kind, Label: text(s[120:136]), Size: positive(blocks, 1024<<shift)}
}

func squashfs(head []byte, _ io.ReaderAt) FileSystem {
	return FileSystem{Kind: SquashFSKind, Size: positive(le.Uint64(head[40:]), 1)}
}

func btrfs(head []byte, _ io.ReaderAt) FileSystem {
	s := head[64<<10:]
	return FileSystem{Kind: BtrfsKind, Label: text(s[0x12B : 0x12B+256]), Size: positive(le.Uint64(s[0x70:]), 1)}
}

func f2fs(head []byte, _ io.ReaderAt) FileSystem {
	s := head[1024:]
	shift := le.Uint32(s[16:])
	if shift > 16 {
		return FileSystem{}
	}
	return FileSystem{Kind: F2FSKind, Label: utf16Text(s[124 : 124+1024]), Size: positive(le.Uint64(s[36:]), 1<<shift)}
}

func xfs(head []byte, _ io.ReaderAt) FileSystem {
	be := binary.BigEndian
	return FileSystem{
		Kind: XFSKind, Label: text(head[108:120]),
		Size: positive(be.Uint64(head[8:]), uint64(be.Uint32(head[4:]))),
	}
}

func erofs(head []byte, _ io.ReaderAt) FileSystem {
	s := head[1024:]
	if s[12] > 16 {
		return FileSystem{}
	}
	return FileSystem{Kind: EROFSKind, Label: text(s[64:80]), Size: positive(uint64(le.Uint32(s[36:])), 1<<s[12])}
}

func swap(head []byte, _ io.ReaderAt) FileSystem {
	return FileSystem{Kind: SwapKind, Label: text(head[1052:1068])}
}

// exFAT's label stands in the root directory.
func exFAT(head []byte, r io.ReaderAt) FileSystem {
	sector, cluster := head[108], head[109] // as powers of two
	if sector < 9 || sector > 12 || cluster > 25-sector {
		return FileSystem{}
	}
	fs := FileSystem{Kind: ExFATKind, Size: positive(le.Uint64(head[72:]), 1<<sector)}
	heap, root := int64(le.Uint32(head[88:])), int64(le.Uint32(head[96:]))
	at := (heap + (root-2)<<cluster) << sector
	entries := make([]byte, 32*16)
	n, _ := r.ReadAt(entries, at)
	for e := entries[:n]; len(e) >= 32; e = e[32:] {
		if e[0] == 0x83 && e[1] <= 11 { // Volume Label Directory Entry, section 7.3
			fs.Label = utf16Text(e[2 : 2+2*e[1]])
		}
	}
	return fs
}

func fat(head []byte, r io.ReaderAt) FileSystem {
	v, err := openFAT(head, r)
	if err != nil {
		return FileSystem{}
	}
	return FileSystem{Kind: v.kind, Label: v.label(), Size: v.sectors * v.sector}
}
