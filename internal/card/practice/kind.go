package practice

import (
	"context"
	"errors"
	"io/fs"

	"zipstamp/internal/card"
)

// Kind is the card.FileKind of practice cards.
func Kind(path string, _ fs.FileInfo) (*card.File, error) {
	s, err := Load(path)
	switch {
	case errors.Is(err, ErrNotSpec):
		return nil, nil
	case err != nil:
		return nil, err
	}
	f := &card.File{
		Source: source{s}, Kind: card.Practice, Size: int64(s.Claimed), SectorSize: s.Sector, Model: s.Model,
		Serial: s.Serial, ReadOnly: s.ReadOnly, Keeps: s.Backing,
	}
	if s.ResetsAfter > 0 {
		f.Source = resetting{source{s}}
	}
	return f, nil
}

// source is a practice card that can be put in.
type source struct{ spec Spec }

// Open puts it in.
func (s source) Open(_ context.Context, mode card.Mode) (card.Medium, error) {
	open := Open
	if mode == card.ToRead {
		open = OpenToRead
	}
	c, err := open(s.spec)
	if err != nil {
		return nil, err
	}
	return c, nil
}

// resetting is one whose reader is reset once.
type resetting struct{ source }

// Again is the card as it comes back.
func (r resetting) Again() card.Source {
	r.spec.ResetsAfter = 0
	return r.source
}
