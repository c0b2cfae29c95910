package card

// Period is the distance at which the addresses of a card repeat that reads something of place a at place b, for all
// the distances b-a that were seen: their greatest common divisor, bytes or blocks as they are. The real size is that,
// or a divisor of it. 0 stands for no distance.
func Period(a, b int64) int64 {
	for b != 0 {
		a, b = b, a%b
	}
	return a
}
