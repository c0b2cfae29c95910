package fetch

import (
	"hash"

	"zipstamp/internal/digest"
)

// checkedPieces writes a download, and compares each piece that has a digest when it is whole.
type checkedPieces struct {
	*Download
	sum  hash.Hash // of the piece at hand
	at   int64     // bytes that there are
	from int64     // where the piece at hand starts
}

// pieces takes up writing behind what is there.
func (d *Download) pieces(size int64) (*checkedPieces, error) {
	c := &checkedPieces{Download: d, at: size}
	p := d.Want.Pieces
	if len(p.Sums) == 0 {
		return c, nil
	}
	c.from = size / p.Length * p.Length
	c.sum = p.Algorithm.New()
	if err := d.Part.digests(c.sum, c.from, size); err != nil {
		return nil, err
	}
	d.Part.hold(c.from)
	return c, nil
}

// comparePieces compares the pieces that came before their digests were known.
func (d *Download) comparePieces() error {
	p := d.Want.Pieces
	if len(p.Sums) == 0 {
		return nil
	}
	d.Part.hold(0)
	size := d.Part.Size()
	for i := range p.Sums {
		start := int64(i) * p.Length
		n := min(p.Length, d.Want.Size-start)
		if start+n > size {
			break
		}
		sum := p.Algorithm.New()
		if err := d.Part.digests(sum, start, start+n); err != nil {
			return err
		}
		if !p.is(i, sum) {
			return d.Part.back(start)
		}
	}
	return nil
}

func (p Pieces) is(i int, sum hash.Hash) bool {
	return digest.New(p.Algorithm, sum.Sum(nil)) == p.Sums[i]
}

func (c *checkedPieces) write(b []byte) error {
	p := c.Want.Pieces
	for len(b) > 0 {
		take := int64(len(b))
		if c.sum != nil {
			take = min(take, c.end()-c.at)
		}
		if take == 0 {
			return c.otherLength(c.source(), c.at+int64(len(b)))
		}
		if _, err := c.Part.Write(b[:take]); err != nil {
			return err
		}
		c.at += take
		if c.sum != nil {
			c.sum.Write(b[:take])
			if c.at == c.end() {
				if err := c.ended(p); err != nil {
					return err
				}
			}
		}
		b = b[take:]
	}
	return nil
}

// end is where the piece at hand ends.
func (c *checkedPieces) end() int64 { return min(c.from+c.Want.Pieces.Length, c.Want.Size) }

// ended compares a piece that is whole. A wrong one is given up, and fetched again, from another host if there is one.
func (c *checkedPieces) ended(p Pieces) error {
	if !p.is(int(c.from/p.Length), c.sum) {
		from := c.source()
		if err := c.Part.back(c.from); err != nil {
			return err
		}
		c.tell(Event{Kind: WrongPiece, At: c.from, To: from.Address})
		c.wrong[c.from]++
		return &Error{
			Why: OtherDigest, URL: from.Shown(), Host: from.Host(), Got: c.from, retry: c.wrong[c.from] < pieceTries,
		}
	}
	c.from = c.at
	c.sum.Reset()
	c.Part.hold(c.from)
	return nil
}
