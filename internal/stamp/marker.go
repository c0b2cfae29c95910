package stamp

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	mathrand "math/rand/v2"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/meter"
)

// marker is what the first block holds while the others are read back: in each sector a random nonce, the sector's
// number and a word by which it is known, and noise to its end. It is no partition table. The zero value is no marker.
type marker struct {
	nonce  [16]byte
	sector int
}

// The word, and where it stands in each sector of a marker.
const (
	markerWord = 24
	markerIs   = "zipstamp marker"
)

// IsMarked tells whether the start of a card is that of one whose stamp was interrupted.
func IsMarked(start []byte) bool {
	return len(start) >= markerWord+len(markerIs) && string(start[markerWord:markerWord+len(markerIs)]) == markerIs
}

// placeMarker writes it.
func (r *run) placeMarker() error {
	start := time.Now()
	if r.marker.sector == 0 {
		if _, err := rand.Read(r.marker.nonce[:]); err != nil {
			return fmt.Errorf("get a random number: %w", err)
		}
		r.marker.sector = r.dev.SectorSize()
	}
	length := min(BlockSize, r.dev.Size())
	buf, err := r.pool.Get(context.Background())
	if err != nil {
		return err
	}
	defer r.pool.Put(buf)
	r.marker.fill(buf[:length])
	if _, err := r.dev.WriteAt(buf[:length], 0); err != nil {
		return err
	}
	r.took(meter.Write, 0, start)
	return nil
}

func (m *marker) fill(p []byte) {
	var seed [32]byte
	copy(seed[:], m.nonce[:])
	noise := mathrand.NewChaCha8(seed)
	_, _ = noise.Read(p) // never fails
	for i := 0; i*m.sector < len(p); i++ {
		s := p[i*m.sector:][:m.sector]
		copy(s, m.nonce[:])
		binary.LittleEndian.PutUint64(s[len(m.nonce):], uint64(i))
		copy(s[markerWord:], markerIs)
		s[510], s[511] = 0, 0 // never the signature of a boot sector
	}
}

// distance looks for the marker in what was read at an offset, and returns how far from its own place it is, in
// bytes; 0 if it isn't there.
func (m *marker) distance(p []byte, offset int64) int64 {
	if m.sector == 0 {
		return 0
	}
	for at := 0; at < len(p); at += m.sector {
		if s := p[at:]; bytes.HasPrefix(s, m.nonce[:]) {
			own := int64(binary.LittleEndian.Uint64(s[len(m.nonce):])) * int64(m.sector)
			return offset + int64(at) - own
		}
	}
	return 0
}

// spotSize is how much of a card's start is read to know it again, bytes: a sector of any size.
const spotSize = 4096

// knows tells whether a card is the one that is being stamped: it starts with the marker, or, at the end, with the
// image's first sector.
func (r *run) knows(d card.Device) bool {
	buf, err := r.spot.Get(context.Background())
	if err != nil {
		return false
	}
	defer r.spot.Put(buf)
	if _, err := d.ReadAt(buf, 0); err != nil {
		return false
	}
	return bytes.HasPrefix(buf, r.marker.nonce[:]) || r.State == Uncertain && r.first != nil && bytes.HasPrefix(buf,
		r.first[:r.marker.sector])
}
