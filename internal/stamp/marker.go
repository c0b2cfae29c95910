package stamp

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/binary"
	"fmt"
	mathrand "math/rand/v2"
	"path/filepath"
	"time"
	"unicode/utf8"

	"zipstamp/internal/card"
	"zipstamp/internal/digest"
)

// marker is what the first block holds while the others are read back: in each sector a random nonce, the sector's
// number and a word by which it is known, what is being stamped, and noise to its end. It is no partition table. The
// zero value is no marker.
type marker struct {
	nonce  [16]byte
	sector int
	Mark
}

// Mark is what a marker says of the stamp that has left it on a card, since it didn't come to its end.
type Mark struct {
	Image   ImageID
	Started time.Time // to the second
	Name    string    // of the image's file
}

// ImageID is by what an image is known while it is stamped: the start of the download's seal. The zero value is none,
// of an image that was not read before.
type ImageID [16]byte

// Where what stands in each sector of a marker.
const (
	markerWord    = 24
	markerIs      = "zipstamp marker"
	markerImage   = 40
	markerStarted = 56 // seconds since 1970, 8 bytes
	markerSum     = 64 // the start of the BLAKE3 digest of the 24 bytes before and of the name, 8 bytes
	markerLength  = 72 // of the name, 1 byte
	markerName    = 73
	maxMarkerName = 128
)

// IsMarked tells whether the start of a card is that of one whose stamp was interrupted.
func IsMarked(start []byte) bool {
	return len(start) >= markerWord+len(markerIs) && string(start[markerWord:markerWord+len(markerIs)]) == markerIs
}

// ReadMark reads what the start of a card says of the stamp that was interrupted, at least one sector of it; ok is
// false where there is no marker, or one that doesn't say that.
func ReadMark(start []byte) (m Mark, ok bool) {
	if !IsMarked(start) || len(start) < 512 || start[markerLength] > maxMarkerName {
		return Mark{}, false
	}
	name := start[markerName:][:start[markerLength]]
	if sum := markSum(start[markerImage:markerSum], name); !bytes.Equal(sum, start[markerSum:markerLength]) {
		return Mark{}, false
	}
	seconds := binary.LittleEndian.Uint64(start[markerStarted:])
	return Mark{ImageID(start[markerImage:]), time.Unix(int64(seconds), 0), string(name)}, true
}

// MarkOn is the mark at the start of a card whose stamp was interrupted, as far as it can be read; nil where there is
// none.
func MarkOn(start []byte) *Mark {
	if !IsMarked(start) {
		return nil
	}
	m, _ := ReadMark(start) // one that is torn says nothing more
	return &m
}

func markSum(facts, name []byte) []byte {
	sum := digest.SumBlock(append(bytes.Clone(facts), name...))
	return sum[:markerLength-markerSum]
}

// put writes it into a sector.
func (m Mark) put(sector []byte) {
	copy(sector[markerImage:], m.Image[:])
	binary.LittleEndian.PutUint64(sector[markerStarted:], uint64(m.Started.Unix()))
	name := m.Name
	for len(name) > maxMarkerName { // whole characters
		_, size := utf8.DecodeLastRuneInString(name)
		name = name[:len(name)-size]
	}
	sector[markerLength] = byte(len(name))
	copy(sector[markerName:], name)
	copy(sector[markerSum:], markSum(sector[markerImage:markerSum], []byte(name)))
}

// id is by what the image is known; the zero value where it was not read before.
func (k Known) id() ImageID { return ImageID(k.Seal[:]) }

// is tells whether an image that was known by something is this one.
func (k Known) is(id ImageID) bool { return id != ImageID{} && id == k.id() }

// placeMarker writes it.
func (r *run) placeMarker(buf []byte) error {
	if r.marker.sector == 0 {
		if _, err := rand.Read(r.marker.nonce[:]); err != nil {
			return fmt.Errorf("get a random number: %w", err)
		}
		r.marker.sector = r.dev.SectorSize()
		r.marker.Mark = Mark{r.job.Known.id(), time.Now(), filepath.Base(r.job.Source.Path())}
	}
	for at, end := int64(0), min(BlockSize, r.dev.Size()); at < end; {
		p := buf[:min(end-at, int64(len(buf)))]
		r.marker.fill(p, at)
		if _, err := r.dev.WriteAt(p, at); err != nil {
			return err
		}
		at += int64(len(p))
	}
	return nil
}

// fill puts the marker's part at an offset into p.
func (m *marker) fill(p []byte, at int64) {
	var seed [32]byte
	binary.LittleEndian.PutUint64(seed[copy(seed[:], m.nonce[:]):], uint64(at))
	noise := mathrand.NewChaCha8(seed)
	_, _ = noise.Read(p) // never fails
	for i := 0; i*m.sector < len(p); i++ {
		s := p[i*m.sector:][:m.sector]
		copy(s, m.nonce[:])
		binary.LittleEndian.PutUint64(s[len(m.nonce):], uint64(at)/uint64(m.sector)+uint64(i))
		copy(s[markerWord:], markerIs)
		m.put(s)
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

// knows tells whether a card is the one that is being stamped: it starts as it did before anything was written, then
// with the marker, and at the end with the image's first sector. What many cards start with says nothing.
func (r *run) knows(d card.Device) bool {
	buf, err := r.spot.Get(context.Background())
	if err != nil {
		return false
	}
	defer r.spot.Put(buf)
	if _, err := d.ReadAt(buf, 0); err != nil {
		return false
	}
	if r.marker.sector == 0 {
		r.mu.Lock()
		defer r.mu.Unlock()
		return len(r.start) > 0 && bytes.HasPrefix(buf, r.start) && !alike(r.start)
	}
	return bytes.HasPrefix(buf, r.marker.nonce[:]) || r.State == Uncertain && r.first != nil && bytes.HasPrefix(buf,
		r.first[:r.marker.sector])
}

// alike tells whether all bytes are the same, as on a card that was never written.
func alike(p []byte) bool { return bytes.Equal(p[1:], p[:len(p)-1]) }
