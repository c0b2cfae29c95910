package gauge

// capacities are those that are printed on cards, in GB.
var capacities = []int64{1, 2, 4, 8, 16, 32, 64, 128, 200, 256, 400, 512, 1000, 1024, 1500, 2000, 2048}

// Edges lists where cards end, begin to repeat, or a reader stops, bytes: every power of two from a MiB on, and every
// capacity that is printed on cards, below a size.
func Edges(size int64) (all []int64) {
	for p := int64(1 << 20); p < size && p > 0; p *= 2 {
		all = append(all, p)
	}
	for _, gb := range capacities {
		if gb*1e9 < size {
			all = append(all, gb*1e9)
		}
	}
	return all
}
