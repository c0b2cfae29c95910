package gauge

import (
	"zipstamp/internal/meter"
)

// Class is a mark that is printed on cards, and what it promises at least. The promises are of the SD Association's
// public pages on speed classes: speed class, UHS speed class and video speed class for writing in sequence,
// application performance class for accesses to 4 KiB here and there.
type Class struct {
	Name   string
	Write  float64 // in sequence, bytes a second
	Reads  float64 // accesses a second; 0 where the mark promises none
	Writes float64
}

// Classes are all marks.
var classes = []Class{
	{Name: "Class 2", Write: 2e6},
	{Name: "Class 4", Write: 4e6},
	{Name: "Class 6", Write: 6e6},
	{Name: "Class 10", Write: 10e6},
	{Name: "U1", Write: 10e6},
	{Name: "U3", Write: 30e6},
	{Name: "V6", Write: 6e6},
	{Name: "V10", Write: 10e6},
	{Name: "V30", Write: 30e6},
	{Name: "V60", Write: 60e6},
	{Name: "V90", Write: 90e6},
	{Name: "A1", Write: 10e6, Reads: 1500, Writes: 500},
	{Name: "A2", Write: 10e6, Reads: 4000, Writes: 2000},
}

// Meets lists the marks whose promise is kept by writing in sequence at a rate, the best of each kind, and with
// accesses a second where these are known (0: not known, so that A1 and A2 are left out).
func Meets(write, reads, writes float64) (names []string) {
	best := map[string]string{}
	var kinds []string
	for _, c := range classes {
		if write < c.Write || reads < c.Reads || writes < c.Writes {
			continue
		}
		kind := c.Name[:1]
		if best[kind] == "" {
			kinds = append(kinds, kind)
		}
		best[kind] = c.Name
	}
	for _, k := range kinds {
		names = append(names, best[k])
	}
	return names
}

// slowFor is over how many bytes, or how large a part of what was written, a rate must last to count as sustained.
const slowFor = 16 << 20

// Slowest is the stretch that took longest for its length, of stretches that are long enough to count: its rate, in
// bytes a second, and where it starts. Without a stretch the rate is 0.
func Slowest(points []meter.Point) (rate float64, at int64) {
	for i := range points {
		bytes, seconds := int64(0), 0.0
		for j := i; j < len(points) && bytes < slowFor; j++ {
			bytes += points[j].Bytes
			seconds += points[j].Took.Seconds()
		}
		if bytes < slowFor && i > 0 || seconds <= 0 {
			continue
		}
		if r := float64(bytes) / seconds; rate == 0 || r < rate {
			rate, at = r, points[i].Offset
		}
	}
	return rate, at
}
