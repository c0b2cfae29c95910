package layout

import (
	"errors"
	"io"
)

// ErrFreeUnknown says that it can't be told what of a file system is free.
var ErrFreeUnknown = errors.New("its free space can't be told for certain")

// Free tells which parts of the file system of a kind that starts at r's offset 0, and has no more than size bytes,
// hold nothing: bytes from its start, in order, in whole clusters or blocks. The error says why that can't be told.
func Free(r io.ReaderAt, kind FSKind, size int64) ([]Extent, error) {
	if kind.IsExt() {
		v, err := OpenExt(r, size)
		if err != nil {
			return nil, err
		}
		return v.Free()
	}
	if !kind.IsFAT() {
		return nil, ErrFreeUnknown
	}
	v, err := OpenFAT(r)
	if err != nil {
		return nil, err
	}
	return v.Free()
}

// join adds a stretch to others, the last of which it may follow.
func join(all []Extent, e Extent) []Extent {
	if last := len(all) - 1; last >= 0 && all[last].End() == e.Offset {
		all[last].Length += e.Length
		return all
	}
	return append(all, e)
}

// Free lists the clusters that belong to no file, by all file allocation tables that count.
func (v *FAT) Free() (all []Extent, err error) {
	other := *v
	other.table, other.page, other.pageAt = v.copy, nil, -1
	for n := uint32(2); n < v.clusters+2; n++ {
		next, err := v.next(n)
		if err != nil {
			return nil, err
		}
		if next == 0 && v.copy > 0 {
			if next, err = other.next(n); err != nil {
				return nil, err
			}
		}
		if next == 0 {
			all = join(all, Extent{v.data + int64(n-2)*v.cluster, v.cluster})
		}
	}
	return all, nil
}

// extNoBitmap says of a group that its bitmap of blocks was never written (Linux,
// Documentation/filesystems/ext4/group_descr.rst, bg_flags).
const extNoBitmap = 0x2

// Features that change what bitmaps say (Linux, Documentation/filesystems/ext4/super.rst).
const (
	extRecover  = 0x4   // s_feature_incompat: the journal has what the bitmaps don't
	extBigAlloc = 0x200 // s_feature_ro_compat: a bit is a cluster of blocks
)

// Free lists the blocks that belong to no file, by the bitmaps. Groups without a bitmap count as used. The error is
// ErrFreeUnknown where the journal, or another way of counting, makes the bitmaps say something else.
func (v *Ext) Free() (all []Extent, err error) {
	s := make([]byte, 1024)
	if _, err := v.r.ReadAt(s, 1024); err != nil {
		return nil, err
	}
	if v.incompat&extRecover != 0 || le.Uint32(s[100:])&extBigAlloc != 0 {
		return nil, ErrFreeUnknown
	}
	perGroup := v.perGroup
	for g := range v.groups {
		bitmap, _, _, _, err := v.tables(g)
		if err != nil {
			return nil, err
		}
		d := make([]byte, v.descSize)
		if _, err := v.r.ReadAt(d, (v.first+1)*v.block+g*v.descSize); err != nil {
			return nil, err
		}
		if le.Uint16(d[18:])&extNoBitmap != 0 {
			continue
		}
		used := make([]byte, v.block)
		if _, err := v.r.ReadAt(used, bitmap*v.block); err != nil {
			return nil, err
		}
		for i := range perGroup {
			at := v.first + g*perGroup + i
			if at >= v.blocks {
				break
			}
			if used[i/8]>>(i%8)&1 == 0 {
				all = join(all, Extent{at * v.block, v.block})
			}
		}
	}
	return all, nil
}
