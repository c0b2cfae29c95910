package check

import (
	"encoding/json"
	"errors"
	"time"

	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/state"
)

// CopyEnding is that of the file beside a copy of a card, which says who made it and what is missing in it.
const CopyEnding = ".copy.json"

// CopyVersion is the version of that file.
const CopyVersion = 1

// maxCopy bounds such a file, bytes.
const maxCopy = 64 << 10

// Copy is what is known of a copy of a card that the program made: docs/formats.md. Its digests show that it is as it
// was saved; nobody published them.
type Copy struct {
	Version  int       `json:"card_copy"`
	Made     time.Time `json:"made"`
	Name     string    `json:"file"`
	Card     string    `json:"card"` // the name that it had
	Model    string    `json:"model,omitempty"`
	Serial   string    `json:"serial,omitempty"`
	SHA256   string    `json:"sha256"`
	Image    string    `json:"image_sha256"` // of what is packed in it
	Missing  int64     `json:"missing"`      // bytes of the card that could not be read, and are zeros in it
	Unsteady int64     `json:"unsteady"`     // bytes that did not read the same twice
}

// Whole tells whether all of the card is in it, as far as is known.
func (c *Copy) Whole() bool { return c.Missing == 0 && c.Unsteady == 0 }

// Has tells whether a digest is one that the program wrote when it made the copy.
func (c *Copy) Has(d digest.Digest) bool {
	return c != nil && d.Algorithm == digest.SHA256 && (d.Hex() == c.SHA256 || d.Hex() == c.Image)
}

// ReadCopy reads what lies beside a file, if that is a copy; nil if it isn't.
func ReadCopy(path string) *Copy {
	if path == image.Input {
		return nil
	}
	text, err := state.ReadFile(path+CopyEnding, maxCopy)
	var c Copy
	if err != nil || json.Unmarshal(text, &c) != nil || c.valid() != nil {
		return nil
	}
	return &c
}

func (c *Copy) valid() error {
	file, err := digest.Parse(c.SHA256)
	img, other := digest.Parse(c.Image)
	if c.Version != CopyVersion || c.Missing < 0 || c.Unsteady < 0 || err == nil && file.Algorithm != digest.SHA256 ||
		other == nil && img.Algorithm != digest.SHA256 {
		return errors.New("no description of a copy")
	}
	return errors.Join(err, other)
}

// findCopy notes that the image is a copy of a card, and adds its digest where nothing else has it. Where the note
// beside it is missing, the sums themselves say who made them.
func (p *Published) findCopy(path string, asked bool) {
	if p.Copy = ReadCopy(path); p.Copy == nil {
		p.Copy = copyOf(p.Digests)
		return
	}
	if asked {
		return
	}
	p.Wrong = nil // sums of downloads say nothing of it
	for _, d := range p.Digests {
		if p.Copy.Has(d.Digest) {
			return
		}
	}
	own, _ := digest.Parse(p.Copy.SHA256) // it is valid
	p.Digests = append(p.Digests, digest.Published{Digest: own, From: path + CopyEnding, File: p.Copy.Name})
}

// copyOf is what sums say of a copy, the digests of which are in them; nil if they are no copy's.
func copyOf(digests []digest.Published) (c *Copy) {
	for _, d := range digests {
		if d.Sums == nil {
			continue
		}
		card, made, is := d.Sums.CopyAbove(d.Line)
		switch {
		case !is:
		case c == nil:
			c = &Copy{Version: CopyVersion, Made: made, Name: d.File, Card: card, SHA256: d.Hex(), Image: d.Hex()}
		default:
			c.Image = d.Hex()
		}
	}
	return c
}

// IsOwn tells whether all that agrees are digests of a copy's own, which the program wrote when it made it.
func (r Report) IsOwn() bool {
	if r.Copy == nil || r.SignedBy() != nil {
		return false
	}
	for _, h := range r.Published {
		if h.Matched != Neither && !r.Copy.Has(h.Digest) {
			return false
		}
	}
	return true
}
