package card

import (
	"os"

	"zipstamp/internal/card/practice"
)

// OpenToCompare opens the card to read it from the medium and not from this computer's memory, without keeping others from using it. Writing
// it fails. The error is a *RefusedError.
func (c *Card) OpenToCompare() (Device, error) {
	var m medium
	var err error
	switch c.Kind {
	case Practice:
		var p *practice.Card
		if p, err = practice.OpenToRead(c.spec); err == nil {
			m = practiceMedium{p}
		}
	case Block:
		m, err = asMedium(openBlockToRead(c.Path))
	default:
		m, err = openPlainToRead(c.Path)
	}
	if err != nil {
		refused := c.refusedOpen(err).(*RefusedError)
		refused.Reasons[0] = readable(refused.Reasons[0])
		return nil, refused
	}
	return guarded{m, c.Given}, nil
}

func openPlainToRead(path string) (medium, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, err
	}
	return &plain{file: f, size: info.Size() / 512 * 512, sector: 512, access: Dropped}, nil
}
