package layout

// Extent is a stretch of a disk, of a volume or of an image, bytes.
type Extent struct {
	Offset int64 `json:"offset"`
	Length int64 `json:"length"`
}

// End is the first byte behind it.
func (e Extent) End() int64 { return e.Offset + e.Length }
