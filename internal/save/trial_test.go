package save

import (
	"bytes"
	"context"
	"errors"
	"math/rand/v2"
	"os"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
	"zipstamp/internal/testbed"
)

// TestCopyOfAnyCard copies cards that have bad and unsteady places, are pulled out, and are written between two runs: a
// copy is of one state of the card, but for the places that it names.
func TestCopyOfAnyCard(t *testing.T) {
	seed, trials := testbed.Seed(t), testbed.Trials(5, 40)
	whole, anew, gaps := 0, 0, 0
	for i := range trials {
		random := rand.New(rand.NewPCG(seed, uint64(i)))
		holds := make([]byte, 512*(1+random.IntN(3*Piece/512)))
		for at := 0; at < len(holds); at += 8 << random.IntN(4) { // of all degrees of noise
			holds[at] = byte(random.Uint32())
		}
		place := func() int { return random.IntN(len(holds) / 512) }
		var faults []practice.Fault
		var odd []layout.Extent // what is wrong in the same way at both readings can't be told from what the card holds
		for range random.IntN(4) {
			f := practice.Fault{
				Kind: practice.FailRead, Sector: int64(place()),
				Count: int64(1 + random.IntN(9)), Times: random.IntN(3),
			}
			switch random.IntN(3) {
			case 0:
				f.Kind, f.Times = practice.Misread, 1
			case 1:
				f.Kind, f.Times, f.Chance = practice.Misread, 0, 0.7
				odd = append(odd, layout.Extent{Offset: f.Sector * 512, Length: f.Count * 512})
			}
			f.Count = min(f.Count, int64(len(holds)/512)-f.Sector)
			faults = append(faults, f)
		}
		format := []Format{Raw, Zstd, Gzip}[random.IntN(3)]
		out := &file{}
		var kept *Progress
		var result Result
		for gone := random.IntN(3); ; gone-- {
			spec := practice.Spec{Faults: faults, Seed: random.Uint64() >> 1}
			if gone > 0 {
				spec.GoneAfter = practice.Size(512 * (1 + place()))
			}
			d, data := cardtest.Insert(t, t.TempDir(), spec, holds)
			job := Job{
				Device: d, Meter: new(meter.Meter), Out: out, Format: format, Carry: kept,
				Keep: func(p Progress) error { kept = &p; return nil },
			}
			var err error
			result, err = job.Run(context.Background())
			if err == nil {
				err = job.Compare(context.Background(), bytes.NewReader(unpack(t, format, out.data)), &result)
			}
			require.NoError(t, errors.Join(d.Close(), os.Remove(data)))
			if err == nil {
				break
			}
			if errors.Is(err, ErrOtherCard) { // its first piece is another one: the person has to say what that is
				out, kept = &file{}, nil
			} else {
				require.True(t, gone > 0 && errors.As(err, new(*card.GoneError)), "trial %d, seed %d: %v", i, seed, err)
			}
			if random.IntN(2) == 0 {
				holds[max(place()*512, min(Piece, len(holds)-1))]++
			}
		}
		whole++
		if result.Anew {
			anew++
		}
		got := unpack(t, format, out.data)
		require.Len(t, got, len(holds))
		for _, e := range result.Unread {
			require.Zero(t, len(bytes.Trim(got[e.Offset:e.End()], "\x00")), "trial %d, seed %d", i, seed)
		}
		named := slices.Concat(result.Unread, result.Unsteady)
		gaps += len(named)
		for _, e := range append(named, odd...) {
			copy(got[e.Offset:min(e.End(), int64(len(got)))], holds[e.Offset:])
		}
		require.True(t, bytes.Equal(holds, got), "trial %d, seed %d: faults %+v, %+v", i, seed, faults, result)
	}
	t.Logf("%d copies, %d of them begun anew, with %d places that are named", whole, anew, gaps)
}
