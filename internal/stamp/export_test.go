package stamp

import "time"

// FixSlower fixes the rate of writing divided by that of reading, so that what is written doesn't depend on the
// machine.
func (j *Job) FixSlower(ratio float64) { j.slower = ratio }

// DiscardPays tells whether discarding a share of zeros pays, after blocks of which such shares were on the card
// already. slower is the rate of writing divided by that of reading; 0: a short burst of writing was as fast.
func DiscardPays(slower, zeros float64, there ...float64) bool {
	p := newPays(nil, false, slower)
	for _, share := range there {
		began := time.Now().Add(-50 * time.Millisecond)
		p.last = began
		p.compared(anyBlock, BlockSize, int64(share*BlockSize), false, began)
	}
	p.last = time.Now().Add(-50 * time.Millisecond)
	p.wroteBytes(BlockSize, p.last)
	return p.discardPays(zeros)
}
