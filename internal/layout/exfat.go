package layout

import (
	"bytes"
	"io"
	"math/bits"
	"unicode/utf16"
)

// TypeExFAT is the partition type of exFAT, which it shares with NTFS (Microsoft, "exFAT file system specification",
// section 10.2).
const TypeExFAT = 0x07

// Constants of exFAT (the same specification; sections in brackets).
const (
	exfatBoot        = 12              // sectors of a boot region [2]
	exfatFirst       = 2               // the first cluster [3.1.9]
	exfatMost        = 1<<32 - 11      // clusters [3.1.9]
	exfatSumAt       = 11              // the sector with the checksum [3.4]
	exfatEntryLabel  = 0x83            // [7.3]
	exfatEntryBitmap = 0x81            // [7.1]
	exfatEntryUpcase = 0x82            // [7.2]
	exfatInUse       = 0x80            // [6.2.1.4]
	exfatMedia       = 0xFFFFFFF8      // [4.1.1]
	exfatEnd         = 0xFFFFFFFF      // [4.1.3]
	exfatExtended    = "\x00\x00U\xaa" // [3.2.2]
)

// NewExFAT is an empty exFAT file system to be made.
type NewExFAT struct {
	Label  string // as Label gives it; may be empty
	Serial uint32
	Sector int   // logical sector of the card, bytes
	Start  int64 // of the volume on the card, bytes; a multiple of ExFATAlign
	Size   int64 // of the volume, bytes
}

// ExFATAlign is to what a partition with exFAT and its data area are aligned on a card of so many bytes: more than for
// FAT, since large cards have large units (ours, in steps with the sizes of clusters).
func ExFATAlign(card int64) int64 {
	switch {
	case card <= 32<<30:
		return AlignTo
	case card <= 128<<30:
		return 16 << 20
	case card <= 512<<30:
		return 32 << 20
	}
	return 64 << 20
}

// exfatCluster is the size of clusters on a card of so many bytes.
func exfatCluster(card int64) int64 {
	switch {
	case card <= 256<<20:
		return 4 << 10
	case card <= 32<<30:
		return 32 << 10
	case card <= 128<<30:
		return 128 << 10
	case card <= 512<<30:
		return 256 << 10
	}
	return 512 << 10
}

// ExFATPlan is an exFAT file system that has been laid out.
type ExFATPlan struct {
	NewExFAT
	total, fatAt, fat, heap, cluster, clusters int64 // sectors; clusters of them
	bitmap, upcase, root                       run
}

// Plan lays the file system out. The error is ErrTooSmall.
func (f NewExFAT) Plan() (*ExFATPlan, error) {
	p := &ExFATPlan{NewExFAT: f}
	sector, card := int64(f.Sector), f.Start+f.Size
	align := ExFATAlign(card) / sector
	p.total = f.Size / sector
	p.cluster = max(exfatCluster(card)/sector, 1)
	p.fatAt = max(roundUp(2*exfatBoot, p.cluster), p.cluster)
	p.fat = roundUp((p.total/p.cluster+exfatFirst)*4, sector) / sector
	p.heap = roundUp(f.Start/sector+p.fatAt+p.fat, align) - f.Start/sector
	p.clusters = min((p.total-p.heap)/p.cluster, exfatMost)
	if p.clusters < 16 {
		return nil, ErrTooSmall
	}
	next := int64(exfatFirst)
	take := func(bytes int64) run {
		r := run{next, roundUp(bytes, p.cluster*sector) / (p.cluster * sector)}
		next += r.count
		return r
	}
	p.bitmap, p.upcase, p.root = take(p.bitmapSize()), take(int64(len(upcaseTable))), take(1)
	if next-exfatFirst > p.clusters {
		return nil, ErrTooSmall
	}
	return p, nil
}

func (p *ExFATPlan) bitmapSize() int64 { return (p.clusters + 7) / 8 }

// used is how many clusters are.
func (p *ExFATPlan) used() int64 { return p.bitmap.count + p.upcase.count + p.root.count }

// Kind is the kind of file system.
func (p *ExFATPlan) Kind() FSKind { return ExFATKind }

// PartitionType is the type of its partition.
func (p *ExFATPlan) PartitionType() byte { return TypeExFAT }

// MetadataSize is how many bytes Metadata has: whole sectors.
func (p *ExFATPlan) MetadataSize() int64 { return (p.heap + p.used()*p.cluster) * int64(p.Sector) }

// Metadata is the two boot regions, the file allocation table, and the first clusters: the bitmap, the up-case table
// and the root.
func (p *ExFATPlan) Metadata() io.Reader {
	sector := int64(p.Sector)
	padded := func(b []byte, length int64) io.Reader {
		return io.MultiReader(bytes.NewReader(b), Zeros(length-int64(len(b))))
	}
	clusters := func(b []byte, r run) io.Reader { return padded(b, r.count*p.cluster*sector) }
	boot := p.bootRegion()
	return io.MultiReader(
		bytes.NewReader(boot), bytes.NewReader(boot), Zeros((p.fatAt-2*exfatBoot)*sector),
		padded(p.table(), (p.heap-p.fatAt)*sector),
		clusters(p.bitmapOf(), p.bitmap), clusters(upcaseTable, p.upcase), clusters(p.rootEntries(), p.root),
	)
}

// bootRegion is a boot region: the boot sector, and what belongs to it [3].
func (p *ExFATPlan) bootRegion() []byte {
	sector := p.Sector
	region := make([]byte, exfatBoot*sector)
	b := region[:sector]
	copy(b, "\xEB\x76\x90EXFAT   ")
	le.PutUint64(b[64:], uint64(p.Start/int64(sector)))
	le.PutUint64(b[72:], uint64(p.total))
	le.PutUint32(b[80:], uint32(p.fatAt))
	le.PutUint32(b[84:], uint32(p.fat))
	le.PutUint32(b[88:], uint32(p.heap))
	le.PutUint32(b[92:], uint32(p.clusters))
	le.PutUint32(b[96:], uint32(p.root.first))
	le.PutUint32(b[100:], p.Serial)
	le.PutUint16(b[104:], 0x0100) // version 1.00
	b[108] = byte(bits.TrailingZeros(uint(sector)))
	b[109] = byte(bits.TrailingZeros64(uint64(p.cluster)))
	b[110], b[111] = 1, 0x80 // one table; the drive's number for boot code
	b[112] = byte(p.used() * 100 / p.clusters)
	for i := 120; i < mbrEnd; i++ {
		b[i] = 0xF4 // halt [3.1.18]
	}
	copy(b[mbrEnd:], bootMark)
	for i := 1; i <= 8; i++ {
		copy(region[(i+1)*sector-len(exfatExtended):], exfatExtended)
	}
	sum := uint32(0)
	for i, c := range region[:exfatSumAt*sector] {
		if i != 106 && i != 107 && i != 112 { // flags and the share in use, which change
			sum = bits.RotateLeft32(sum, -1) + uint32(c)
		}
	}
	for at := exfatSumAt * sector; at < len(region); at += 4 {
		le.PutUint32(region[at:], sum)
	}
	return region
}

// table is the start of the file allocation table, as far as it isn't zero.
func (p *ExFATPlan) table() []byte {
	b := le.AppendUint32(le.AppendUint32(nil, exfatMedia), exfatEnd)
	for _, r := range []run{p.bitmap, p.upcase, p.root} {
		for c := r.first; c < r.first+r.count-1; c++ {
			b = le.AppendUint32(b, uint32(c+1))
		}
		b = le.AppendUint32(b, exfatEnd)
	}
	return b
}

// bitmapOf has a bit for each cluster in use.
func (p *ExFATPlan) bitmapOf() []byte {
	b := make([]byte, p.bitmapSize())
	for c := range p.used() {
		b[c/8] |= 1 << (c % 8)
	}
	return b
}

func (p *ExFATPlan) rootEntries() []byte {
	b := make([]byte, 3*dirEntrySize)
	label, bitmap, upcase := b[:dirEntrySize], b[dirEntrySize:2*dirEntrySize], b[2*dirEntrySize:]
	name := utf16.Encode([]rune(p.Label))
	label[0], label[1] = exfatEntryLabel, byte(len(name))
	if len(name) == 0 {
		label[0] &^= exfatInUse
	}
	for i, u := range name {
		le.PutUint16(label[2+2*i:], u)
	}
	bitmap[0] = exfatEntryBitmap
	le.PutUint32(bitmap[20:], uint32(p.bitmap.first))
	le.PutUint64(bitmap[24:], uint64(p.bitmapSize()))
	upcase[0] = exfatEntryUpcase
	sum := uint32(0)
	for _, c := range upcaseTable {
		sum = bits.RotateLeft32(sum, -1) + uint32(c)
	}
	le.PutUint32(upcase[4:], sum)
	le.PutUint32(upcase[20:], uint32(p.upcase.first))
	le.PutUint64(upcase[24:], uint64(len(upcaseTable)))
	return b
}
