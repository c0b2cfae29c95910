package card

// Change is a card that came or went.
type Change struct {
	Card    *Card
	Arrived bool
}
