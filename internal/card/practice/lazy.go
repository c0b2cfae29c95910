package practice

import "encoding/binary"

// A lazy card keeps any sectors, wherever they are, until it has kept as many as are real. In the backing file they are at their own
// addresses; behind them, from the claimed size on, are how many are kept (8 bytes, little endian), and a bit for each sector that is.

// lazyHead is the length of the count.
const lazyHead = 8

// stored is how long the backing file is, bytes.
func (s Spec) stored() int64 {
	if s.Beyond != Lazy {
		return int64(s.Real)
	}
	return int64(s.Claimed) + lazyHead + (int64(s.Claimed)/int64(s.Sector)+7)/8
}

// bits reads the bits of n sectors from first on, with those beside them in the same bytes; at is where they are in the backing file.
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

// allocate keeps the sectors of a write, as long as there is room.
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
	before := used
	for i := range count {
		if b := first%8 + i; used < int64(c.spec.Real)/sector && !isSet(bits, b) {
			bits[b/8] |= 1 << (b % 8)
			used++
		}
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
