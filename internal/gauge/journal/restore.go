package journal

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge/mark"
)

// Found is what stands on a card where a journal says that something stood before.
type Found struct {
	Stamps    int // sectors with a sector stamp of the journal's run
	Same      int // sectors as they were before
	Other     int // sectors with something else
	Unread    int // sectors that can't be read
	Torn      int // sectors with a stamp of the run, of which what was saved can't be trusted
	restoring []Place
}

// Is tells whether the card is that of the journal: a stamp of its run is on it.
func (f Found) Is() bool { return f.Stamps+f.Torn > 0 }

// Done tells whether all has been put back before, or nothing was written.
func (f Found) Done() bool {
	return f.Stamps == 0 && f.Torn == 0 && f.Unread == 0 && f.Same > 0 && f.Other == 0
}

// Nearly tells whether nearly all is as it was, and no stamp is left: what differs did not take what was put back, or
// was written since.
func (f Found) Nearly() bool {
	return f.Stamps == 0 && f.Torn == 0 && f.Other > 0 && f.Same > 9*f.Other
}

// SectorError says that a journal is of a card with other sectors.
type SectorError struct{ Sector int }

func (e *SectorError) Error() string {
	return fmt.Sprintf("the journal is of a card with other sectors than %d bytes", e.Sector)
}

// Look reads all places of the journal on a card with the sector.
func (p Pending) Look(dev io.ReaderAt, sector int) (f Found, err error) {
	pool, err := card.NewPool(1, maxPlace)
	if err != nil {
		return f, err
	}
	defer pool.Close()
	buf, err := pool.Get(context.Background())
	if err != nil {
		return f, err
	}
	// the last first: with addresses that repeat, it may have saved a stamp of those before
	for i := len(p.Batches) - 1; i >= 0; i-- {
		for j := len(p.Batches[i]) - 1; j >= 0; j-- {
			place := p.Batches[i][j]
			if place.Offset%int64(sector) != 0 || len(place.Data)%sector != 0 {
				return f, &SectorError{sector}
			}
			if err := f.look(dev, place, buf[:len(place.Data)], sector, p.Nonce); err != nil {
				return f, err
			}
		}
	}
	var torn Found
	for _, place := range p.Torn {
		if place.Offset%int64(sector) != 0 || len(place.Data)%sector != 0 {
			continue
		}
		if err := torn.look(dev, place, buf[:len(place.Data)], sector, p.Nonce); err != nil {
			return f, err
		}
	}
	f.Torn = torn.Stamps
	return f, nil
}

// look reads a place, and notes which of its sectors are to be written.
func (f *Found) look(dev io.ReaderAt, place Place, buf []byte, sector int, nonce mark.Nonce) error {
	if _, err := dev.ReadAt(buf, place.Offset); err != nil {
		if errors.As(err, new(*card.GoneError)) {
			return err
		}
		f.Unread += len(buf) / sector
		if !HasStamp(place.Data, nonce) {
			f.restoring = append(f.restoring, place)
			return nil
		}
		for at := 0; at < len(buf); at += sector {
			if then := place.Data[at : at+sector]; !HasStamp(then, nonce) {
				f.restoring = append(f.restoring, Place{place.Offset + int64(at), then})
			}
		}
		return nil
	}
	for at := 0; at < len(buf); at += sector {
		now, then := buf[at:at+sector], place.Data[at:at+sector]
		// a stamp was saved where addresses repeat, and what stood there was saved before
		again := HasStamp(then, nonce)
		switch {
		case HasStamp(now, nonce):
			f.Stamps++
			if !again {
				f.restoring = append(f.restoring, Place{place.Offset + int64(at), then})
			}
		case again: // and has been put back
		case bytes.Equal(now, then):
			f.Same++
		default:
			f.Other++
		}
	}
	return nil
}

// HasStamp tells whether there is a stamp of the run in a sector of the card.
func HasStamp(sector []byte, nonce mark.Nonce) bool {
	for ; len(sector) > 0; sector = sector[mark.Size:] {
		if n, _, ok := mark.Know(sector); ok && n == nonce {
			return true
		}
	}
	return false
}

// Restore puts back what stood there before, wherever a stamp of the run stands now, calls displace, which writes so
// much else that the card's own memory has forgotten that, and reads it back. What something else stands on is left: it
// was written since, or never kept anything. It returns how many sectors it has put back, and how many stayed wrong.
func (p Pending) Restore(dev card.Device, f Found, displace func() error) (restored, wrong int, err error) {
	pool, err := card.NewPool(1, maxPlace)
	if err != nil {
		return 0, 0, err
	}
	defer pool.Close()
	buf, err := pool.Get(context.Background())
	if err != nil {
		return 0, 0, err
	}
	each := func(do func(b []byte, p Place) error) error {
		for _, place := range f.restoring {
			err := do(buf[:len(place.Data)], place)
			if errors.As(err, new(*card.GoneError)) {
				return err
			}
		}
		return nil
	}
	if err := each(func(b []byte, p Place) error {
		copy(b, p.Data)
		_, err := dev.WriteAt(b, p.Offset)
		return err
	}); err != nil {
		return 0, 0, err
	}
	if err := errors.Join(dev.Flush(), dev.Forget()); err != nil {
		return 0, 0, err
	}
	if err := displace(); err != nil {
		return 0, 0, err
	}
	sector := dev.SectorSize()
	err = each(func(b []byte, p Place) error {
		_, err := dev.ReadAt(b, p.Offset)
		for at := 0; at < len(b); at += sector {
			if err == nil && bytes.Equal(b[at:at+sector], p.Data[at:at+sector]) {
				restored++
			} else {
				wrong++
			}
		}
		return err
	})
	return restored, wrong, err
}
