package receipt

import (
	"crypto/sha256"
	"encoding/hex"

	"zipstamp/internal/layout"
)

// Table is the partition table that was stamped, for telling what was changed later. Sizes and offsets are in bytes.
type Table struct {
	Scheme string      `json:"scheme"`
	Boot   string      `json:"boot_code"` // SHA-256 of what is before it, in hex
	Parts  []TablePart `json:"partitions"`
}

// TablePart is a partition.
type TablePart struct {
	Number int    `json:"number"`
	Start  int64  `json:"start"`
	Length int64  `json:"length"`
	Type   string `json:"type"` // its number or GUID
}

// maxTable is how many partitions a receipt lists; of a table with more nothing is kept.
const maxTable = 128

// TableOf is what a receipt keeps of a table; boot is the code before it. nil where there is none.
func TableOf(t layout.Table, boot []byte) *Table {
	if t.Scheme == layout.NoTable || len(t.Parts) > maxTable {
		return nil
	}
	sum := sha256.Sum256(boot)
	out := &Table{Scheme: string(t.Scheme), Boot: hex.EncodeToString(sum[:]), Parts: []TablePart{}}
	for _, p := range t.Parts {
		out.Parts = append(out.Parts, TablePart{p.Number, p.Start, p.Length, p.ID})
	}
	return out
}

// Layout gives the table back, and the digest of the boot code; nil where it isn't whole.
func (t *Table) Layout() (was *layout.Table, boot [32]byte) {
	if t == nil {
		return nil, boot
	}
	sum, err := hex.DecodeString(t.Boot)
	if err != nil || len(sum) != len(boot) {
		return nil, boot
	}
	was = &layout.Table{Scheme: layout.Scheme(t.Scheme)}
	for _, p := range t.Parts {
		was.Parts = append(was.Parts, layout.Part{Number: p.Number, Start: p.Start, Length: p.Length, ID: p.Type})
	}
	return was, [32]byte(sum)
}
