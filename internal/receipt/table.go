package receipt

import (
	"crypto/sha256"
	"encoding/hex"
	"io"

	"zipstamp/internal/digest"
	"zipstamp/internal/layout"
	"zipstamp/internal/recheck"
)

// Table is the partition table that was stamped, for telling what was changed later. Sizes and offsets are in bytes.
type Table struct {
	Scheme string `json:"scheme"`
	Boot   string `json:"boot_code"`             // SHA-256 of what is before it, in hex
	From   int64  `json:"behind_from,omitempty"` // where the table ends
	// the digest, as of parts, of what is from there to 64 KiB, in hex
	Behind string      `json:"behind,omitempty"`
	Parts  []TablePart `json:"partitions"`
}

// TablePart is a partition.
type TablePart struct {
	Number int    `json:"number"`
	Start  int64  `json:"start"`
	Length int64  `json:"length"`
	Type   string `json:"type"` // its number or GUID
	// the digest, as of parts, of the superblock or boot sector at its start, in hex, of file systems that are looked
	// into
	Super  string `json:"superblock,omitempty"`
	Faulty bool   `json:"faulty,omitempty"` // something in the file system was wrong when it was stamped
}

// maxTable is how many partitions a receipt lists; of a table with more nothing is kept.
const maxTable = 128

// TableOf is what a receipt keeps of a table, and of the file systems behind it; start is the first digest.HeadPiece
// bytes, and card reads what was stamped. nil where there is none.
func TableOf(d layout.Disk, start []byte, card io.ReaderAt) *Table {
	t := d.Table
	if t.Scheme == layout.NoTable || len(t.Parts) > maxTable || len(start) != digest.HeadPiece {
		return nil
	}
	sum := sha256.Sum256(start[:layout.BootCode])
	from := recheck.TableEnd(t)
	behind := digest.SumPart([]digest.Block{digest.SumBlock(start[from:])}, 1)
	out := &Table{
		Scheme: string(t.Scheme), Boot: hex.EncodeToString(sum[:]), From: from, Behind: hex.EncodeToString(behind[:]),
		Parts: []TablePart{},
	}
	for _, p := range d.Parts {
		one := TablePart{Number: p.Number, Start: p.Start, Length: p.Length, Type: p.Part.ID}
		if sum, err := recheck.SumSuper(card, p.Start); err == nil && (p.Kind.IsFAT() || p.Kind.IsExt()) {
			one.Super = hex.EncodeToString(sum[:])
			one.Faulty = p.Kind.IsFAT() && isFaulty(io.NewSectionReader(card, p.Start, p.Length))
		}
		out.Parts = append(out.Parts, one)
	}
	return out
}

// isFaulty tells whether something is wrong in a FAT volume. Others take longer to be looked through than that is
// worth.
func isFaulty(r io.ReaderAt) bool {
	v, err := layout.OpenFAT(r)
	if err != nil {
		return true
	}
	c, err := v.Check()
	return err != nil || len(c.Faults) > 0
}

// Was gives the table back, as recheck needs it; what isn't whole is not known.
func (t *Table) Was() (was recheck.Start) {
	if t == nil {
		return was
	}
	boot, err := hex.DecodeString(t.Boot)
	if err != nil || len(boot) != len(was.Boot) {
		return was
	}
	was.Boot = [32]byte(boot)
	was.Table = &layout.Table{Scheme: layout.Scheme(t.Scheme)}
	for _, p := range t.Parts {
		if sum, err := hex.DecodeString(p.Super); err == nil && len(sum) == len(digest.Part{}) {
			was.Supers = append(was.Supers, recheck.Super{
				Partition: p.Number, Digest: digest.Part(sum), Faulty: p.Faulty,
			})
		}
		was.Table.Parts = append(was.Table.Parts, layout.Part{
			Number: p.Number, Start: p.Start, Length: p.Length, ID: p.Type,
		})
	}
	if behind, err := hex.DecodeString(t.Behind); err == nil && len(behind) == len(was.Behind) && t.From > 0 &&
		t.From < digest.HeadPiece {
		was.Behind, was.From = digest.Part(behind), t.From
	}
	return was
}
