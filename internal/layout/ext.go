package layout

import (
	"encoding/binary"
	"errors"
	"hash/crc32"
	"io"
	"path"
	"time"
)

// Ext is an ext2, ext3 or ext4 file system that is read: which of its blocks are whose. Numbers are offsets in the
// structures of Linux, Documentation/filesystems/ext4. Everything read is bounded, and what makes no sense is left out.
type Ext struct {
	r         io.ReaderAt
	block     int64 // bytes
	blocks    int64
	first     int64 // the block that the first group starts with
	perGroup  int64 // blocks
	inodes    int64 // in a group
	inodeSize int64
	descSize  int64
	groups    int64
	incompat  uint32
	sums      bool   // metadata has checksums
	seed      uint32 // of them
	claimed   int64  // blocks that inodes say are theirs
	pieces    int    // stretches in which those are
	wrong     error  // why not all inodes could be followed
	Mounted   time.Time
	Written   time.Time
	SumRight  bool // the superblock's checksum is right, or there is none
}

// Bounds of what is read.
const (
	maxExtGroups = 1 << 17 // 16 TiB with blocks of 4 KiB
	maxExtNodes  = 4 << 20
	maxExtTable  = 128 << 20 // bytes of a group's inodes
	maxExtDepth  = 5
	maxExtNames  = 1 << 21
	maxExtPieces = 4 << 20 // stretches of all files
	extRoot      = 2
	extJournal   = 8
	extFirst     = 11 // of the inodes that aren't the file system's own
)

// Incompatible features that matter here.
const (
	extMetaBG     = 0x10
	ext64Bit      = 0x80
	extInline     = 0x8000
	extSumsFlag   = 0x400 // s_feature_ro_compat: metadata_csum
	extSeedFlag   = 0x2000
	extExtentFlag = 0x80000 // i_flags: the inode has extents
	extInlineFlag = 0x10000000
)

var castagnoli = crc32.MakeTable(crc32.Castagnoli)

// crc32c goes on with a checksum as Linux does, without the inversions of the usual one.
func crc32c(crc uint32, p []byte) uint32 { return ^crc32.Update(^crc, castagnoli, p) }

// OpenExt reads the superblock of a file system that starts at r's offset 0, and has no more than size bytes.
func OpenExt(r io.ReaderAt, size int64) (*Ext, error) {
	s := make([]byte, 1024)
	if _, err := r.ReadAt(s, 1024); err != nil {
		return nil, err
	}
	v := &Ext{
		r: r, blocks: int64(le.Uint32(s[4:])), first: int64(le.Uint32(s[20:])), perGroup: int64(le.Uint32(s[32:])),
		inodes: int64(le.Uint32(s[40:])), inodeSize: 128, descSize: 32, incompat: le.Uint32(s[96:]),
		Mounted: unixTime(s[44:]), Written: unixTime(s[48:]), SumRight: true,
	}
	if shift := le.Uint32(s[24:]); le.Uint16(s[56:]) != 0xEF53 || shift > 6 {
		return nil, errors.New("no ext file system")
	} else {
		v.block = 1024 << shift
	}
	if v.incompat&ext64Bit != 0 {
		v.blocks |= int64(le.Uint32(s[0x150:])) << 32
		v.descSize = max(int64(le.Uint16(s[0xFE:])), 32)
	}
	if le.Uint32(s[76:]) >= 1 {
		v.inodeSize = int64(le.Uint16(s[88:]))
	}
	if le.Uint32(s[100:])&extSumsFlag != 0 {
		v.sums = true
		v.seed = crc32c(^uint32(0), s[104:120])
		if v.incompat&extSeedFlag != 0 {
			v.seed = le.Uint32(s[0x270:])
		}
		v.SumRight = crc32c(^uint32(0), s[:1020]) == le.Uint32(s[1020:])
	}
	if v.perGroup <= 0 || v.perGroup > 8*v.block || v.inodes <= 0 || v.inodes > 8*v.block || v.inodeSize < 128 ||
		v.inodeSize > v.block || v.descSize > 1024 || v.blocks <= v.first ||
		v.blocks > 1<<50/v.block {
		return nil, errors.New("the superblock makes no sense")
	}
	if v.inodes*v.inodeSize > maxExtTable {
		return nil, errors.New("its tables of inodes are too large")
	}
	if v.groups = (v.blocks - v.first + v.perGroup - 1) / v.perGroup; v.groups > maxExtGroups {
		return nil, errors.New("the file system is too large")
	}
	if v.blocks*v.block > size || v.groups*v.inodes*v.inodeSize > size {
		return nil, errors.New("the superblock says that the file system is larger than its room")
	}
	return v, nil
}

func unixTime(b []byte) time.Time { return time.Unix(int64(le.Uint32(b)), 0).UTC() }

// ExtNode is an inode that is in use, and the blocks that are its own.
type ExtNode struct {
	Number   int64
	Path     string // of the first name that was found; empty where none was
	Folder   bool
	Own      bool      // the file system's own: its journal, and the like
	Journal  bool      // it is the journal
	Changed  time.Time // the later of when its contents and the inode were changed
	Made     time.Time // zero where it doesn't say
	At       Extent    // the inode itself, bytes from the file system's start
	Extents  []Extent  // its blocks
	SumRight bool      // the inode's checksum is right, or there is none

	flags      uint32
	generation [4]byte // i_generation
	root       []byte  // i_block
}

// tables are where a group's bitmaps and inodes are, as blocks.
func (v *Ext) tables(group int64) (bitmap, inodeBitmap, table int64, unused bool, err error) {
	at := (v.first+1)*v.block + group*v.descSize
	if v.incompat&extMetaBG != 0 {
		return 0, 0, 0, false, errors.New("its group descriptors are spread (meta_bg), which is not supported")
	}
	d := make([]byte, v.descSize)
	if _, err := v.r.ReadAt(d, at); err != nil {
		return 0, 0, 0, false, err
	}
	bitmap, inodeBitmap, table = int64(le.Uint32(d)), int64(le.Uint32(d[4:])), int64(le.Uint32(d[8:]))
	if v.descSize >= 64 {
		bitmap |= int64(le.Uint32(d[32:])) << 32
		inodeBitmap |= int64(le.Uint32(d[36:])) << 32
		table |= int64(le.Uint32(d[40:])) << 32
	}
	return bitmap, inodeBitmap, table, le.Uint16(d[18:])&1 != 0, nil
}

// Metadata lists where the superblocks, descriptors, bitmaps and tables are; the files' own blocks are of none of
// these.
func (v *Ext) Metadata() (all []Extent, err error) {
	all = append(all, Extent{0, (v.first+1)*v.block + (v.groups*v.descSize+v.block-1)/v.block*v.block})
	for g := range v.groups {
		bitmap, inodeBitmap, table, _, err := v.tables(g)
		if err != nil {
			return all, err
		}
		all = append(all, Extent{bitmap * v.block, v.block}, Extent{inodeBitmap * v.block, v.block}, Extent{
			table * v.block, (v.inodes*v.inodeSize + v.block - 1) / v.block * v.block,
		})
	}
	return all, nil
}

// IsInodes tells which of Metadata's stretches are tables of inodes; what is in the others, Check compares.
func (v *Ext) IsInodes(e Extent) bool { return e.Offset > 0 && e.Length > v.block }

// Nodes reads all inodes that are in use, with the names that folders give them. The error says why it isn't all; what
// was read counts.
func (v *Ext) Nodes() ([]*ExtNode, error) {
	var all []*ExtNode
	byNumber := map[int64]*ExtNode{}
	for g := range v.groups {
		_, inodeBitmap, table, unused, err := v.tables(g)
		if err != nil {
			return all, err
		}
		if unused {
			continue
		}
		used := make([]byte, v.block)
		nodes := make([]byte, v.inodes*v.inodeSize)
		if _, err := v.r.ReadAt(used, inodeBitmap*v.block); err != nil {
			return all, err
		}
		if _, err := v.r.ReadAt(nodes, table*v.block); err != nil {
			return all, err
		}
		for i := range v.inodes {
			if used[i/8]>>(i%8)&1 == 0 {
				continue
			}
			n := v.node(g*v.inodes+i+1, nodes[i*v.inodeSize:(i+1)*v.inodeSize])
			if n == nil {
				continue
			}
			n.At = Extent{table*v.block + i*v.inodeSize, v.inodeSize}
			if len(all) == maxExtNodes {
				return all, errors.New("it has too many files")
			}
			all = append(all, n)
			byNumber[n.Number] = n
		}
	}
	v.name(byNumber)
	return all, v.wrong
}

// node reads an inode; nil if it holds nothing.
func (v *Ext) node(number int64, b []byte) *ExtNode {
	mode := le.Uint16(b)
	n := &ExtNode{
		Number: number, Own: number < extFirst && number != extRoot, Journal: number == extJournal,
		flags: le.Uint32(b[32:]), root: b[40:100],
		generation: [4]byte(b[100:104]), SumRight: true,
	}
	if le.Uint16(b[26:]) == 0 && !n.Own || mode == 0 {
		return nil
	}
	n.Folder = mode&0xF000 == 0x4000
	n.Changed = unixTime(b[12:]) // i_ctime, which changes with the contents too
	if written := unixTime(b[16:]); written.After(n.Changed) {
		n.Changed = written
	}
	extra := int64(0)
	if v.inodeSize > 128 {
		extra = int64(le.Uint16(b[128:]))
	}
	if extra >= 24 && 128+extra <= v.inodeSize {
		n.Made = unixTime(b[144:])
	}
	n.SumRight = v.inodeIsRight(number, b)
	if kind := mode & 0xF000; kind != 0x8000 && kind != 0x4000 && (kind != 0xA000 || le.Uint32(b[28:]) == 0) ||
		n.flags&extInlineFlag != 0 {
		return n // it has no blocks
	}
	if n.flags&extExtentFlag != 0 {
		v.extents(n, n.root, 0)
	} else {
		v.mapped(n)
	}
	return n
}

// inodeIsRight tells whether an inode agrees with its checksum, if it has one.
func (v *Ext) inodeIsRight(number int64, b []byte) bool {
	if !v.sums {
		return true
	}
	c := make([]byte, len(b))
	copy(c, b)
	want := uint32(le.Uint16(b[124:]))
	le.PutUint16(c[124:], 0)
	high := v.inodeSize > 128 && le.Uint16(b[128:]) >= 4
	if high {
		want |= uint32(le.Uint16(b[130:])) << 16
		le.PutUint16(c[130:], 0)
	}
	var id [4]byte
	le.PutUint32(id[:], uint32(number))
	got := crc32c(crc32c(crc32c(v.seed, id[:]), b[100:104]), c)
	if !high {
		got &= 0xFFFF
	}
	return got == want
}

// own adds blocks to a node, if they are on the disk. A block is one node's, and once, so no more are claimed than
// there are; this bounds all that is read.
func (v *Ext) own(n *ExtNode, block, count int64) bool {
	if v.wrong != nil || block <= 0 || count <= 0 || block > v.blocks-count {
		return false
	}
	if v.claimed += count; v.claimed > v.blocks {
		v.wrong = errors.New("its files claim more blocks than there are")
		return false
	}
	if v.pieces++; v.pieces > maxExtPieces {
		v.wrong = errors.New("its files are in too many pieces")
		return false
	}
	s := Extent{block * v.block, count * v.block}
	if last := len(n.Extents) - 1; last >= 0 && n.Extents[last].Offset+n.Extents[last].Length == s.Offset {
		n.Extents[last].Length += s.Length
	} else {
		n.Extents = append(n.Extents, s)
	}
	return true
}

// extents reads a tree of extents (ifork.rst).
func (v *Ext) extents(n *ExtNode, p []byte, depth int) {
	if le.Uint16(p) != 0xF30A || depth > maxExtDepth {
		return
	}
	count, leaf := int(le.Uint16(p[2:])), le.Uint16(p[6:]) == 0
	for i := range min(count, len(p)/12-1) {
		e := p[12+12*i:]
		if leaf {
			length := int64(le.Uint16(e[4:]))
			if length > 32768 { // not yet written
				length -= 32768
			}
			v.own(n, int64(le.Uint32(e[8:]))|int64(le.Uint16(e[6:]))<<32, length)
			continue
		}
		child := int64(le.Uint32(e[4:])) | int64(le.Uint16(e[8:]))<<32
		if !v.own(n, child, 1) {
			continue
		}
		buf := make([]byte, v.block)
		if _, err := v.r.ReadAt(buf, child*v.block); err == nil {
			n.SumRight = n.SumRight && v.extentsAreRight(n, buf)
			v.extents(n, buf, depth+1)
		}
	}
}

// extentsAreRight tells whether a block of a tree of extents agrees with its checksum, which stands behind the room for
// its entries (ifork.rst, struct ext4_extent_tail).
func (v *Ext) extentsAreRight(n *ExtNode, p []byte) bool {
	at := 12 + 12*int64(le.Uint16(p[4:]))
	if !v.sums || le.Uint16(p) != 0xF30A || at+4 > v.block {
		return !v.sums
	}
	var id [4]byte
	le.PutUint32(id[:], uint32(n.Number))
	return crc32c(crc32c(crc32c(v.seed, id[:]), n.generation[:]), p[:at]) == le.Uint32(p[at:])
}

// mapped reads the blocks of an inode without extents: twelve, and three trees of one, two and three levels.
func (v *Ext) mapped(n *ExtNode) {
	var tree func(block int64, levels int)
	tree = func(block int64, levels int) {
		if !v.own(n, block, 1) || levels == 0 {
			return
		}
		buf := make([]byte, v.block)
		if _, err := v.r.ReadAt(buf, block*v.block); err != nil {
			return
		}
		for ; len(buf) > 0; buf = buf[4:] {
			if b := int64(le.Uint32(buf)); b != 0 {
				tree(b, levels-1)
			}
		}
	}
	for i := range 15 {
		if b := int64(binary.LittleEndian.Uint32(n.root[4*i:])); b != 0 {
			tree(b, max(i-11, 0))
		}
	}
}

// name walks the folders.
func (v *Ext) name(nodes map[int64]*ExtNode) {
	root := nodes[extRoot]
	if root == nil {
		return
	}
	root.Path = "/"
	names := 0
	for queue := []*ExtNode{root}; len(queue) > 0; queue = queue[1:] {
		folder := queue[0]
		v.entries(folder, func(number int64, name string) bool {
			child := nodes[number]
			if child != nil && child.Path == "" && !child.Own {
				child.Path = path.Join(folder.Path, name)
				if child.Folder {
					queue = append(queue, child)
				}
			}
			names++
			return names < maxExtNames
		})
	}
}

// entries reads a folder (directory.rst). The blocks of an index look like such with one empty entry.
func (v *Ext) entries(folder *ExtNode, see func(number int64, name string) bool) {
	buf := make([]byte, v.block)
	for _, s := range folder.Extents {
		for at := s.Offset; at < s.Offset+s.Length; at += v.block {
			if _, err := v.r.ReadAt(buf, at); err != nil {
				return
			}
			for p := buf; len(p) >= 8; {
				length, nameLength := int(le.Uint16(p[4:])), int(p[6])
				if length < 8 || length > len(p) || 8+nameLength > length {
					break
				}
				name := string(p[8 : 8+nameLength])
				if number := int64(le.Uint32(p)); number != 0 && name != "." && name != ".." && !see(number, name) {
					return
				}
				p = p[length:]
			}
		}
	}
}
