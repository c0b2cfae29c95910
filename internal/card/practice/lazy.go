package practice

import "encoding/binary"

// A lazy card keeps any sectors, wherever they are, until it has kept as many as are real. In the backing file they are
// at their own addresses; behind them, from the claimed size on, are how many have been kept in all (8 bytes, little
// endian), and a bit for each sector that is. A card that loses the oldest has a list behind that: the number of the
// sector (8 bytes) that each of its real ones keeps, by turns.

// lazyHead is the length of the count, and of an entry of the list.
const lazyHead = 8

// keepsAnywhere tells whether addresses don't tell what is kept.
func (s Spec) keepsAnywhere() bool { return s.Beyond == Lazy || s.Beyond == Oldest }

// stored is how long the backing file is, bytes.
func (s Spec) stored() int64 {
	if !s.keepsAnywhere() {
		return int64(s.Real)
	}
	n := s.listAt()
	if s.Beyond == Oldest {
		n += lazyHead * int64(s.Real) / int64(s.Sector)
	}
	return n
}

// listAt is where the list is in the backing file.
func (s Spec) listAt() int64 {
	return int64(s.Claimed) + lazyHead + (int64(s.Claimed)/int64(s.Sector)+7)/8
}

// bits reads the bits of n sectors from first on, with those beside them in the same bytes; at is where they are in the
// backing file.
func (c *Card) bits(first, n int64) (bits []byte, at int64, err error) {
	at = int64(c.spec.Claimed) + lazyHead + first/8
	bits = make([]byte, (first+n-1)/8-first/8+1)
	_, err = c.backing.ReadAt(bits, at)
	return bits, at, err
}

func isSet(bits []byte, i int64) bool { return bits[i/8]>>(i%8)&1 != 0 }

// kept tells whether the sector at off is kept, and for how many bytes, of n, that goes on so.
func (c *Card) kept(off, n int64) (kept bool, room int64, err error) {
	sector := int64(c.spec.Sector)
	first, count := off/sector, n/sector
	bits, _, err := c.bits(first, count)
	if err != nil {
		return false, n, err
	}
	kept = isSet(bits, first%8)
	same := int64(1)
	for same < count && isSet(bits, first%8+same) == kept {
		same++
	}
	return kept, same * sector, nil
}

// allocate keeps the sectors of a write: as long as there is room, or in the place of those that have been kept
// longest.
func (c *Card) allocate(off, n int64) error {
	sector := int64(c.spec.Sector)
	first, count := off/sector, n/sector
	bits, at, err := c.bits(first, count)
	if err != nil {
		return err
	}
	var head [lazyHead]byte
	if _, err := c.backing.ReadAt(head[:], int64(c.spec.Claimed)); err != nil {
		return err
	}
	used := int64(binary.LittleEndian.Uint64(head[:]))
	before, room := used, int64(c.spec.Real)/sector
	for i := range count {
		b := first%8 + i
		if isSet(bits, b) || used >= room && c.spec.Beyond == Lazy {
			continue
		}
		if c.spec.Beyond == Oldest {
			lost, err := c.turn(used%room, first+i, used >= room)
			if err != nil {
				return err
			}
			switch own := lost - first + first%8; {
			case lost < 0:
			case lost >= first && lost < first+count: // of this very write
				bits[own/8] &^= 1 << (own % 8)
			default:
				if err := c.lose(lost, bits, at); err != nil {
					return err
				}
			}
		}
		bits[b/8] |= 1 << (b % 8)
		used++
	}
	if used == before {
		return nil
	}
	binary.LittleEndian.PutUint64(head[:], uint64(used))
	if _, err := c.backing.WriteAt(bits, at); err != nil {
		return err
	}
	_, err = c.backing.WriteAt(head[:], int64(c.spec.Claimed))
	return err
}

// turn gives an entry of the list to a sector, and returns the one that it was of; -1 if it was of none.
func (c *Card) turn(entry, to int64, full bool) (lost int64, err error) {
	var b [lazyHead]byte
	at := c.spec.listAt() + entry*lazyHead
	lost = -1
	if full {
		if _, err := c.backing.ReadAt(b[:], at); err != nil {
			return 0, err
		}
		lost = int64(binary.LittleEndian.Uint64(b[:]))
	}
	binary.LittleEndian.PutUint64(b[:], uint64(to))
	_, err = c.backing.WriteAt(b[:], at)
	return lost, err
}

// lose takes the bit of a sector away. bits are those at hand, of the backing file from at on.
func (c *Card) lose(sector int64, bits []byte, at int64) error {
	one, where, err := c.bits(sector, 1)
	if err != nil {
		return err
	}
	if i := where - at; i >= 0 && i < int64(len(bits)) {
		bits[i] &^= 1 << (sector % 8)
		return nil
	}
	one[0] &^= 1 << (sector % 8)
	_, err = c.backing.WriteAt(one, where)
	return err
}
