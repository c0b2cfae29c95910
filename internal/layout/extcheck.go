package layout

import (
	"bytes"
	"fmt"
	"slices"
)

// Offsets and flags in the structures of Linux, Documentation/filesystems/ext4, that only a check needs.
const (
	extGDTSums     = 0x10   // s_feature_ro_compat: descriptors have a CRC-16
	extSparse      = 0x1    // likewise: superblocks are not in all groups
	extSparse2     = 0x200  // s_feature_compat: in two groups only
	extInodeUninit = 0x1    // bg_flags
	extBlockUninit = 0x2    //
	extDirTail     = 12     // bytes of a folder's block that have its checksum (struct ext4_dir_entry_tail)
	extDirTailMark = 0xDE   //
	extIndexFlag   = 0x1000 // i_flags: the folder has an index
	extResizable   = 0x10   // s_feature_compat: blocks are kept for more descriptors
	extResize      = 7      // the inode of these
	extDoubly      = 13     // the place in i_block of the doubly indirect block
	mostKept       = 1024   // blocks that are kept for descriptors, on file systems with blocks of 4 KiB
)

// ExtFault is something in a file system that no way of using it leaves behind.
type ExtFault struct {
	At   Extent // where, bytes from its start
	What string
}

// Check compares what the file system's own structures say of each other: their checksums where they have any, and
// otherwise what the bitmaps say with what the inodes do. nodes are those of Nodes. The error is one of reading, or
// ErrFreeUnknown where a journal is to be replayed first.
func (v *Ext) Check(nodes []*ExtNode) (faults []ExtFault, err error) {
	super := make([]byte, 1024)
	if _, err := v.r.ReadAt(super, 1024); err != nil {
		return nil, err
	}
	if v.incompat&extRecover != 0 {
		return nil, ErrFreeUnknown
	}
	c := &extChecker{Ext: v, super: super, roCompat: le.Uint32(super[100:])}
	if err := c.groupsAgree(); err != nil {
		return nil, err
	}
	if err := c.backups(); err != nil {
		return nil, err
	}
	if err := c.resizing(nodes); err != nil {
		return nil, err
	}
	if v.sums {
		err = c.folders(nodes)
	} else if c.roCompat&extBigAlloc == 0 && v.wrong == nil {
		err = c.recount(nodes)
	}
	return c.faults, err
}

type extChecker struct {
	*Ext
	super    []byte
	roCompat uint32
	faults   []ExtFault
	free     int64 // blocks that descriptors say are free
}

func (c *extChecker) fault(at Extent, format string, args ...any) {
	if len(c.faults) < maxFaults {
		c.faults = append(c.faults, ExtFault{at, fmt.Sprintf(format, args...)})
	}
}

// descriptor of a group.
func (c *extChecker) descriptor(g int64) ([]byte, Extent, error) {
	d := make([]byte, c.descSize)
	at := Extent{(c.first+1)*c.block + g*c.descSize, c.descSize}
	_, err := c.r.ReadAt(d, at.Offset)
	return d, at, err
}

// groupsAgree compares descriptors and bitmaps with their checksums, and the superblock's counts with theirs where it
// was unmounted.
func (c *extChecker) groupsAgree() error {
	var freeBlocks, freeInodes int64
	for g := range c.groups {
		d, at, err := c.descriptor(g)
		if err != nil {
			return err
		}
		flags := le.Uint16(d[18:])
		freeBlocks += int64(le.Uint16(d[12:]))
		freeInodes += int64(le.Uint16(d[14:]))
		if c.descSize >= 64 {
			freeBlocks += int64(le.Uint16(d[44:])) << 16
			freeInodes += int64(le.Uint16(d[46:])) << 16
		}
		if c.sums || c.roCompat&extGDTSums != 0 {
			if le.Uint16(d[30:]) != c.descriptorSum(g, d) {
				c.fault(at, "the descriptor of group %d doesn't agree with its checksum", g)
				continue
			}
		}
		if !c.sums {
			continue
		}
		blocks, inodes, _, _, err := c.tables(g)
		if err != nil {
			return err
		}
		for _, one := range []struct {
			what   string
			block  int64
			bytes  int64
			low    int
			high   int
			uninit bool
		}{
			{"blocks", blocks, c.perGroup / 8, 24, 56, flags&extBlockUninit != 0},
			{"inodes", inodes, c.inodes / 8, 26, 58, flags&extInodeUninit != 0},
		} {
			if one.uninit {
				continue
			}
			bitmap := make([]byte, c.block)
			if _, err := c.r.ReadAt(bitmap, one.block*c.block); err != nil {
				return err
			}
			got, want := crc32c(c.seed, bitmap[:one.bytes]), uint32(le.Uint16(d[one.low:]))
			if c.descSize >= 64 {
				want |= uint32(le.Uint16(d[one.high:])) << 16
			} else {
				got &= 0xFFFF
			}
			if one.what == "inodes" && slices.ContainsFunc(bitmap[one.bytes:], func(b byte) bool { return b != 0xFF }) {
				got = ^want // what is behind its end is in use
			}
			if got != want {
				c.fault(Extent{one.block * c.block, c.block},
					"the bitmap of %s of group %d doesn't agree with its checksum",
					one.what, g)
			}
		}
	}
	c.free = freeBlocks
	return nil
}

// descriptorSum is the checksum of a group's descriptor (group_descr.rst).
func (c *extChecker) descriptorSum(g int64, d []byte) uint16 {
	var number [4]byte
	le.PutUint32(number[:], uint32(g))
	if c.sums {
		sum := crc32c(crc32c(c.seed, number[:]), d[:30])
		sum = crc32c(sum, []byte{0, 0})
		return uint16(crc32c(sum, d[32:]))
	}
	sum := crc16(0xFFFF, c.super[104:120])
	sum = crc16(sum, number[:])
	sum = crc16(sum, d[:30])
	if c.descSize > 32 {
		sum = crc16(sum, d[32:])
	}
	return sum
}

// crc16 goes on with the CRC-16 of the ANSI polynomial, reflected (Linux, lib/crc16.c).
func crc16(crc uint16, p []byte) uint16 {
	for _, b := range p {
		crc ^= uint16(b)
		for range 8 {
			crc = crc>>1 ^ 0xA001&-(crc&1)
		}
	}
	return crc
}

// hasSuper tells whether a group has a copy of the superblock (super.rst, s_feature_ro_compat, sparse_super).
func (c *extChecker) hasSuper(g int64) bool {
	if le.Uint32(c.super[92:])&extSparse2 != 0 {
		return g == int64(le.Uint32(c.super[0x24C:])) || g == int64(le.Uint32(c.super[0x250:]))
	}
	if c.roCompat&extSparse == 0 || g <= 1 {
		return true
	}
	for _, base := range []int64{3, 5, 7} {
		n := base
		for n < g {
			n *= base
		}
		if n == g {
			return true
		}
	}
	return false
}

// backups looks at the copies of the superblock: what never changes in them is as in the first, and their checksums are
// right.
func (c *extChecker) backups() error {
	for g := int64(1); g < c.groups; g++ {
		if !c.hasSuper(g) {
			continue
		}
		at := Extent{(c.first + g*c.perGroup) * c.block, 1024}
		s := make([]byte, 1024)
		if _, err := c.r.ReadAt(s, at.Offset); err != nil {
			return err
		}
		switch {
		case le.Uint16(s[56:]) != 0xEF53 || string(s[104:120]) != string(c.super[104:120]):
			c.fault(at, "a copy of the superblock is damaged")
		case c.sums && le.Uint32(s[100:])&extSumsFlag != 0 && crc32c(^uint32(0), s[:1020]) != le.Uint32(s[1020:]):
			c.fault(at, "a copy of the superblock doesn't agree with its checksum")
		}
	}
	return nil
}

// resizing looks at the blocks that are kept free behind the descriptors, for more of them: the resize inode lists them
// by a doubly indirect block, and each lists its own copies, which are as far behind the start of their groups
// (Linux, fs/ext4/resize.c, reserve_backup_gdb and verify_reserved_gdb).
func (c *extChecker) resizing(nodes []*ExtNode) error {
	i := slices.IndexFunc(nodes, func(n *ExtNode) bool { return n.Number == extResize })
	kept := int64(le.Uint16(c.super[206:])) // s_reserved_gdt_blocks
	if i < 0 || le.Uint32(c.super[92:])&extResizable == 0 || kept == 0 || kept > min(c.block/4, mostKept) {
		return nil
	}
	n, descs := nodes[i], (c.groups*c.descSize+c.block-1)/c.block
	list, copies, want := make([]byte, c.block), make([]byte, c.block), make([]byte, c.block)
	var supers []int64
	for g := int64(1); g < c.groups && len(supers) < len(want)/4; g++ {
		if c.hasSuper(g) {
			supers = append(supers, g)
		}
	}
	doubly := int64(le.Uint32(n.root[extDoubly*4:]))
	if _, err := c.r.ReadAt(list, doubly*c.block); err != nil {
		return err
	}
	for i := range kept {
		block := c.first + 1 + descs + i
		if int64(le.Uint32(list[(descs+i)%(c.block/4)*4:])) != block {
			c.fault(Extent{doubly * c.block, c.block}, "the resize inode has lost a block that is kept for descriptors")
			continue
		}
		clear(want)
		for j, g := range supers {
			le.PutUint32(want[j*4:], uint32(block+g*c.perGroup))
		}
		if _, err := c.r.ReadAt(copies, block*c.block); err != nil {
			return err
		}
		if !bytes.Equal(copies, want) {
			c.fault(Extent{block * c.block, c.block}, "a block that is kept for descriptors doesn't list its copies")
		}
	}
	return nil
}

// inodeSeed is what checksums of an inode's blocks begin with.
func (c *extChecker) inodeSeed(n *ExtNode) uint32 {
	var id [4]byte
	le.PutUint32(id[:], uint32(n.Number))
	return crc32c(crc32c(c.seed, id[:]), n.generation[:])
}

// folders compares the blocks of folders with their checksums.
func (c *extChecker) folders(nodes []*ExtNode) error {
	for _, n := range nodes {
		if !n.Folder || n.flags&extInlineFlag != 0 {
			continue
		}
		seed := c.inodeSeed(n)
		buf := make([]byte, c.block)
		first := true
		for _, e := range n.Extents {
			for at := e.Offset; at < e.End(); at += c.block {
				if _, err := c.r.ReadAt(buf, at); err != nil {
					return err
				}
				if le.Uint16(buf) == 0xF30A { // of the tree of extents
					continue
				}
				indexed := n.flags&extIndexFlag != 0
				tail := buf[c.block-extDirTail:]
				isTail := le.Uint32(tail) == 0 && le.Uint16(tail[4:]) == extDirTail && tail[6] == 0 &&
					tail[7] == extDirTailMark
				switch {
				case isTail && crc32c(seed, buf[:c.block-extDirTail]) != le.Uint32(tail[8:]):
					c.fault(Extent{at, c.block}, "a block of folder %s doesn't agree with its checksum", n.Path)
				case !isTail && !(indexed && (first || c.isIndex(buf))):
					c.fault(Extent{at, c.block}, "a block of folder %s has lost its checksum", n.Path)
				}
				first = false
			}
		}
	}
	return nil
}

// isIndex tells the blocks of a folder's index: one empty entry over all of it.
func (c *extChecker) isIndex(b []byte) bool {
	return le.Uint32(b) == 0 && int64(le.Uint16(b[4:])) == c.block&0xFFFF
}

// recount compares the bitmaps with the blocks that inodes and the file system itself have.
func (c *extChecker) recount(nodes []*ExtNode) error {
	if c.roCompat&extBigAlloc != 0 {
		return nil
	}
	used := make([]byte, (c.blocks+7)/8)
	set := func(block, count int64) {
		for i := block; i < block+count && i < c.blocks; i++ {
			used[i/8] |= 1 << (i % 8)
		}
	}
	set(0, c.first)
	for g := range c.groups {
		start := c.first + g*c.perGroup
		if g == 0 || c.hasSuper(g) {
			descs := (c.groups*c.descSize + c.block - 1) / c.block
			set(start, 1+descs+int64(le.Uint16(c.super[206:]))) // s_reserved_gdt_blocks
		}
		blocks, inodes, table, _, err := c.tables(g)
		if err != nil {
			return err
		}
		set(blocks, 1)
		set(inodes, 1)
		set(table, (c.inodes*c.inodeSize+c.block-1)/c.block)
	}
	for _, n := range nodes {
		for _, e := range n.Extents {
			set(e.Offset/c.block, e.Length/c.block)
		}
	}
	for g := range c.groups {
		d, at, err := c.descriptor(g)
		if err != nil {
			return err
		}
		if le.Uint16(d[18:])&extBlockUninit != 0 && c.roCompat&extGDTSums != 0 {
			continue
		}
		block, _, _, _, err := c.tables(g)
		if err != nil {
			return err
		}
		bitmap := make([]byte, c.block)
		if _, err := c.r.ReadAt(bitmap, block*c.block); err != nil {
			return err
		}
		free, wrong := int64(0), false
		for i := range 8 * c.block {
			n := c.first + g*c.perGroup + i
			is := bitmap[i/8]>>(i%8)&1 != 0
			if i >= c.perGroup || n >= c.blocks { // what is behind is in use
				wrong = wrong || !is
				continue
			}
			if !is {
				free++
			}
			wrong = wrong || is != (used[n/8]>>(n%8)&1 != 0)
		}
		noted := int64(le.Uint16(d[12:]))
		if c.descSize >= 64 {
			noted |= int64(le.Uint16(d[44:])) << 16
		}
		switch {
		case wrong:
			c.fault(Extent{block * c.block, c.block}, "the bitmap of blocks of group %d isn't what its files have", g)
		case free != noted:
			c.fault(at, "%d blocks of group %d are free, and its descriptor says %d", free, g, noted)
		}
		if err := c.recountInodes(g, d); err != nil {
			return err
		}
	}
	return nil
}

// recountInodes compares a group's bitmap of inodes with these.
func (c *extChecker) recountInodes(g int64, d []byte) error {
	if le.Uint16(d[18:])&extInodeUninit != 0 && c.roCompat&extGDTSums != 0 {
		return nil
	}
	_, block, table, _, err := c.tables(g)
	if err != nil {
		return err
	}
	bitmap, nodes := make([]byte, c.block), make([]byte, c.inodes*c.inodeSize)
	if _, err := c.r.ReadAt(bitmap, block*c.block); err != nil {
		return err
	}
	if _, err := c.r.ReadAt(nodes, table*c.block); err != nil {
		return err
	}
	free := int64(0)
	for i := range 8 * c.block {
		is := bitmap[i/8]>>(i%8)&1 != 0
		want := true
		if i < c.inodes {
			b := nodes[i*c.inodeSize:]
			want = g == 0 && i < extFirst-1 || le.Uint16(b) != 0 && le.Uint16(b[26:]) != 0
			if !is {
				free++
			}
		}
		if is != want {
			c.fault(Extent{block * c.block, c.block}, "the bitmap of inodes of group %d isn't what its inodes say", g)
			return nil
		}
	}
	if noted := int64(le.Uint16(d[14:])); c.descSize < 64 && free != noted {
		_, at, _ := c.descriptor(g) // it was read before
		c.fault(at, "%d inodes of group %d are free, and its descriptor says %d", free, g, noted)
	}
	return nil
}
