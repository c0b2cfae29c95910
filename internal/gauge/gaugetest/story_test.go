package gaugetest

import (
	"context"
	"errors"
	"math"
	"math/rand/v2"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/here"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/gauge/pace"
	"zipstamp/internal/gauge/spots"
	"zipstamp/internal/gauge/whole"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
	"zipstamp/internal/state"
	"zipstamp/internal/testbed"
)

var errStop = errors.New("stopped")

// counted is a card that counts accesses and does something at one.
type counted struct {
	card.Device
	n  atomic.Int64
	at func(n int64)
}

func (c *counted) ReadAt(p []byte, off int64) (int, error) {
	c.at(c.n.Add(1))
	return c.Device.ReadAt(p, off)
}

func (c *counted) WriteAt(p []byte, off int64) (int, error) {
	c.at(c.n.Add(1))
	return c.Device.WriteAt(p, off)
}

// kinds of cards whose contents spots have to leave as they are.
var kinds = map[string]practice.Spec{
	"honest": {Claimed: 48e6, Real: 48e6},
	"wrap":   {Claimed: 480e6, Real: 31 * 7919 * 512 / 4, Beyond: practice.Wrap},
	"drop":   {Claimed: 480e6, Real: 33e6, Beyond: practice.Drop, Reads: practice.Noise},
	"ends":   {Claimed: 480e6, Real: 33e6, Beyond: practice.Ends},
}

// oneIfShort leaves out all kinds but one, if the run is not a long one.
func oneIfShort(t *testing.T, name string) {
	if !testbed.Long() && name != "wrap" {
		t.Skip("one kind of card is enough; ZIPSTAMP_LONG=1 has all")
	}
}

// TestStoppedSpotsPutBack stops a test in each of its phases: all is put back, and the error says why it ended.
func TestStoppedSpotsPutBack(t *testing.T) {
	for name, spec := range kinds {
		t.Run(name, func(t *testing.T) {
			oneIfShort(t, name)
			r := reader(t)
			random := rand.New(rand.NewPCG(1, 2))
			spec.Version = practice.Version
			seen := map[meter.Phase]bool{}
			for _, phase := range []meter.Phase{
				meter.Save, meter.Sample, meter.Look, meter.Search, meter.Bound, meter.PutBack,
			} {
				d, err := r.Insert(spec)
				require.NoError(t, err)
				require.NoError(t, r.Fill(int64(spec.Real), random))
				before, err := r.Sum()
				require.NoError(t, err)
				ctx, stop := context.WithCancelCause(context.Background())
				var m meter.Meter
				in := 0
				c := &counted{Device: d, at: func(int64) {
					if m.Read().Phase == phase {
						if in++; in == 3 {
							stop(errStop)
							seen[phase] = true
						}
					}
				}}
				rep, restored, err := spots.Test{Device: c, Meter: &m, Nonce: Nonce(random), Seed: 3, Places: 100}.Run(
					ctx,
				)
				if seen[phase] && phase != meter.PutBack {
					require.ErrorIs(t, err, errStop, phase)
				} else {
					require.NoError(t, err, "what is put back is put back to the end")
				}
				assert.True(t, restored, phase)
				if err != nil && rep.Loss == nil {
					assert.Equal(t, gauge.Inconclusive, rep.Verdict)
				}
				after, err := r.Sum()
				require.NoError(t, err)
				assert.Equal(t, before, after, "stopped in %s", phase)
				require.NoError(t, d.Close())
			}
			assert.True(t, seen[meter.Save] && seen[meter.Sample] && seen[meter.Look] && seen[meter.Search] &&
				seen[meter.PutBack])
			assert.Equal(t, name != "honest", seen[meter.Bound])
		})
	}
}

// filled puts a card in that holds noise, and starts a journal for it.
func filled(
	t *testing.T, r Reader, spec practice.Spec, random *rand.Rand,
) (d card.Device, before [32]byte, nonce mark.Nonce, folder state.Place, j *journal.Journal) {
	t.Helper()
	d, err := r.Insert(spec)
	require.NoError(t, err)
	real := spec.Real
	if real == 0 {
		real = spec.Claimed
	}
	require.NoError(t, r.Fill(int64(real), random))
	before, err = r.Sum()
	require.NoError(t, err)
	nonce, folder = Nonce(random), state.Place{Home: r.Folder, Folder: "journals"}
	j, err = journal.Create(folder, journal.Head{
		Card: card.Record{Size: d.Size(), Name: "a.card"}, Nonce: nonce, Started: time.Now(),
	})
	require.NoError(t, err)
	return d, before, nonce, folder, j
}

// TestPulledOutCardIsPutRight pulls a card out, or cuts the power, at any moment of a test, and puts back what the
// journal has.
func TestPulledOutCardIsPutRight(t *testing.T) {
	for name, spec := range kinds {
		t.Run(name, func(t *testing.T) {
			oneIfShort(t, name)
			t.Parallel()
			r := reader(t)
			spec.Version = practice.Version
			pulled := 0
			for i := range uint64(14) {
				random := rand.New(rand.NewPCG(9, i))
				broken := spec
				if i%2 == 0 {
					broken.GoneAfter = practice.Size(1 + random.Int64N(24e6))
				} else {
					broken.PowerCutAfter, broken.Seed = practice.Size(1+random.Int64N(9e6)), i
				}
				d, before, nonce, folder, j := filled(t, r, broken, random)
				_, restored, err := spots.Test{Device: d, Nonce: nonce, Seed: i, Places: 100, Journal: j}.Run(
					context.Background(),
				)
				require.NoError(t, d.Close())
				if restored {
					require.NoError(t, j.Remove())
				} else {
					require.ErrorAs(t, err, new(*card.GoneError))
					require.NoError(t, j.Close())
					pulled++
					putRight(t, r, spec, folder)
				}
				after, err := r.Sum()
				require.NoError(t, err)
				assert.Equal(t, before, after, "%d: %v", i, broken)
			}
			assert.Greater(t, pulled, 5)
		})
	}
}

// TestNothingIsUndoneWhileACardKeepsItsPower has cards whose addresses repeat and that store late. What spots put back,
// or what is put back after them, is not undone by a command that follows and writes what it reads.
func TestNothingIsUndoneWhileACardKeepsItsPower(t *testing.T) {
	r := reader(t)
	cards := uint64(testbed.Trials(3, 12))
	seed := testbed.Seed(t)
	for i := range cards {
		random := rand.New(rand.NewPCG(seed, i))
		spec := practice.Spec{
			Version: practice.Version, Real: practice.Size(40<<20+random.Int64N(80<<20)) / 512 * 512,
			Beyond: practice.Wrap, Cache: practice.Size(random.Int64N(gauge.Displaced/512+1)) * 512,
		}
		spec.Claimed, spec.WriteBack = 2*spec.Real+practice.Size(random.Int64N(1000))*512, spec.Cache > 0
		d, before, nonce, folder, j := filled(t, r, spec, random)
		until := int64(math.MaxInt64)
		if i%3 > 0 {
			until = random.Int64N(20_000)
		}
		rep, restored,
			err := spots.Test{Device: &killed{Device: d, until: until}, Nonce: nonce, Seed: i, Journal: j}.Run(
			context.Background(),
		)
		if restored {
			require.NoError(t, j.Remove())
		} else {
			require.ErrorAs(t, err, new(*card.GoneError))
			require.NoError(t, j.Close())
			restore(t, d, folder)
		}
		if random.IntN(4) > 0 {
			paced, err := pace.Test{Device: d, Seed: i}.Run(context.Background())
			require.NoError(t, err)
			require.Positive(t, paced.Written)
		} else {
			rep, restored, err = spots.Test{Device: d, Nonce: Nonce(random), Seed: i + 1}.Run(context.Background())
			require.NoError(t, err)
			require.True(t, restored)
		}
		require.NoError(t, d.Close())
		after, err := r.Sum()
		require.NoError(t, err)
		require.Equal(t, before, after, "card %d, until %d: %+v; restored: %v, %v", i, until, spec, restored, rep.Loss)
	}
}

// killed is a card of which a process that is killed after some accesses sees no more; the card keeps its power.
type killed struct {
	card.Device
	until int64
}

func (k *killed) access(do func([]byte, int64) (int, error), p []byte, off int64) (int, error) {
	if k.until--; k.until < 0 {
		return 0, &card.GoneError{Card: "a.card", Err: fault.Gone}
	}
	return do(p, off)
}

func (k *killed) ReadAt(p []byte, off int64) (int, error) { return k.access(k.Device.ReadAt, p, off) }

func (k *killed) WriteAt(p []byte, off int64) (int, error) { return k.access(k.Device.WriteAt, p, off) }

// displacing makes the card forget what stood there before it was put right.
func displacing(t *testing.T, d card.Device, folder state.Place, p journal.Pending) func() error {
	return func() error {
		j, err := journal.Create(folder, p.Head)
		require.NoError(t, err)
		all, err := spots.Displace(d, nil, p, j)
		require.True(t, all)
		return errors.Join(err, j.Remove())
	}
}

// putRight puts the card in again, whole, and restores it.
func putRight(t *testing.T, r Reader, spec practice.Spec, folder state.Place) {
	t.Helper()
	require.NoError(t, os.Remove(r.path()))
	spec.Backing = filepath.Base(r.path()) + ".data"
	data := r.path() + ".data"
	require.NoError(t, os.Rename(data, data+".kept")) // to make the card anew
	require.NoError(t, practice.Create(r.path(), spec))
	require.NoError(t, os.Rename(data+".kept", data))
	c, err := here.Cards().Find(r.path())
	require.NoError(t, err)
	d, err := c.Open()
	require.NoError(t, err)
	defer d.Close()
	restore(t, d, folder)
}

// restore puts back what is kept for a card.
func restore(t *testing.T, d card.Device, folder state.Place) {
	t.Helper()
	all, err := journal.All(folder.Path())
	require.NoError(t, err)
	for _, p := range all {
		require.NoError(t, p.Err)
		found, err := p.Look(d, d.SectorSize())
		require.NoError(t, err)
		if found.Is() {
			_, wrong, err := p.Restore(d, found, displacing(t, d, folder, p))
			require.NoError(t, err)
			assert.Zero(t, wrong)
		}
		again, err := p.Look(d, d.SectorSize())
		require.NoError(t, err)
		assert.False(t, again.Is(), "nothing of the test is left")
	}
}

// TestJournalIsForItsCardOnly doesn't write to a card on which nothing of the test is, or only where something is.
func TestJournalIsForItsCardOnly(t *testing.T) {
	r := reader(t)
	random := rand.New(rand.NewPCG(4, 4))
	d, err := r.Insert(practice.Spec{Version: practice.Version, Claimed: 16e6})
	require.NoError(t, err)
	defer d.Close()
	require.NoError(t, r.Fill(16e6, random))
	before, err := r.Sum()
	require.NoError(t, err)
	p := journal.Pending{
		Head: journal.Head{Nonce: mark.Nonce{7}, Card: card.Record{Size: d.Size()}},
		Batches: [][]journal.Place{
			{{Offset: 4096, Data: make([]byte, 4096)}, {Offset: 81920, Data: make([]byte, 4096)}},
		},
	}
	found, err := p.Look(d, 512)
	require.NoError(t, err)
	assert.False(t, found.Is())
	assert.False(t, found.Done())
	after, err := r.Sum()
	require.NoError(t, err)
	assert.Equal(t, before, after)

	// Of two places one has a stamp of the test, in one sector; the rest was written since, and stays.
	pool, err := card.NewPool(1, 4096)
	require.NoError(t, err)
	defer pool.Close()
	buf, err := pool.Get(context.Background())
	require.NoError(t, err)
	mark.NewRun(p.Nonce).Fill(buf[:512], 10)
	_, err = d.WriteAt(buf[:512], 10*512)
	require.NoError(t, err)
	found, err = p.Look(d, 512)
	require.NoError(t, err)
	assert.True(t, found.Is())
	restored, wrong, err := p.Restore(d, found, func() error { return nil })
	require.NoError(t, err)
	assert.Equal(t, []int{1, 0}, []int{restored, wrong})
	_, err = p.Look(d, 8192)
	assert.ErrorContains(t, err, "other sectors")
}

// TestConfidenceHolds measures how often a card of which just so much is bad that the stated confidence should find it
// passes all the same.
func TestConfidenceHolds(t *testing.T) {
	const places = 100
	cards := testbed.Trials(30, 200)
	share := spots.Confidence(places, 0.98)
	assert.InDelta(t, 0.962, share, 0.001)
	r := reader(t)
	passed, confident := 0, 0
	for i := range uint64(cards) {
		random := rand.New(rand.NewPCG(33, i))
		const size = 100 << 20
		spec := practice.Spec{Version: practice.Version, Claimed: size}
		runs := int64(1 + random.IntN(40))
		bad := int64((1-share)*size/512) + 1
		for n := range runs {
			part := int64(size / 512 / runs)
			count := bad / runs
			spec.Faults = append(spec.Faults, practice.Fault{
				Kind: practice.FailRead, Sector: n*part + random.Int64N(part-count), Count: count,
			})
		}
		d, err := r.Insert(spec)
		require.NoError(t, err)
		rep, _, err := spots.Test{Device: d, Nonce: Nonce(random), Seed: random.Uint64(), Places: places}.Run(
			context.Background(),
		)
		require.NoError(t, err)
		if rep.Verdict == gauge.Holds {
			passed++
		}
		if rep.Places == places { // all of those that the confidence is computed from are right
			confident++
		}
		require.NoError(t, d.Close())
	}
	// At most 2 % of 200, and three standard deviations more.
	assert.LessOrEqual(t, confident, 4+3*2)
	assert.LessOrEqual(t, passed, confident)
	t.Logf("%d of %d passed, %d with all places right", passed, cards, confident)
}

// TestWholeIsCarriedOn interrupts a test again and again.
func TestWholeIsCarriedOn(t *testing.T) {
	for name, spec := range map[string]practice.Spec{
		"honest": {Claimed: 150e6},
		"faulty": {
			Claimed: 150e6,
			Faults: []practice.Fault{
				{Kind: practice.Flip, Sector: 7777, Count: 3}, {Kind: practice.FailRead, Sector: 200000},
			},
		},
		"wrap": {Claimed: 300e6, Real: 100_000_256, Beyond: practice.Wrap},
		"drop": {Claimed: 300e6, Real: 100_000_256, Beyond: practice.Drop},
	} {
		t.Run(name, func(t *testing.T) {
			r := reader(t)
			random := rand.New(rand.NewPCG(8, 8))
			spec.Version = practice.Version
			d, err := r.Insert(spec)
			require.NoError(t, err)
			defer d.Close()
			var kept *whole.Progress
			nonce := Nonce(random)
			var rep *gauge.Report
			stops, spoilt := 0, int64(0)
			for {
				ctx, stop := context.WithCancelCause(context.Background())
				limit := 5 + random.Int64N(40)
				c := &counted{Device: d, at: func(n int64) {
					if n == limit && stops < 12 {
						stop(errStop)
					}
				}}
				keep := func(p whole.Progress) error { kept = &p; return nil }
				rep, err = whole.Test{Device: c, Nonce: nonce, Carry: kept, Keep: keep}.Run(ctx)
				if err == nil {
					break
				}
				require.ErrorIs(t, err, errStop)
				stops++
				if kept != nil && kept.Head > 0 {
					still, err := kept.Still(d)
					require.NoError(t, err)
					require.True(t, still)
				}
				// somebody else writes something: it is written again
				if name == "honest" && kept != nil && kept.Head > 32<<20 {
					_, err := d.WriteAt(make([]byte, 1<<20), 20<<20)
					require.NoError(t, err)
					spoilt += 1 << 20
				}
			}
			for _, p := range rep.Writing {
				assert.Less(t, p.Took, time.Hour)
			}
			assert.Greater(t, stops, 3)
			assert.True(t, rep.Resumed)
			switch name {
			case "honest":
				assert.Equal(t, gauge.Holds, rep.Verdict)
				assert.Equal(t, spoilt > 0, rep.Unkept > 0, "what was lost meanwhile is noted")
				assert.LessOrEqual(t, rep.Unkept, spoilt)
			case "faulty":
				assert.Equal(t, gauge.Counts{Worn: 3, Bits: 3, Unreadable: 1}, rep.Bad)
			default:
				require.NotNil(t, rep.Loss)
				assert.Equal(t, int64(100_000_256), rep.Loss.Real)
				assert.Equal(t, name == "wrap", rep.Loss.Repeats)
			}
			// Something else was written since: it is not carried on.
			require.NoError(t, r.Fill(100_000_256, random))
			still, err := whole.Progress{Nonce: nonce, Size: d.Size(), First: d.Size(), Head: 80 << 20}.Still(d)
			require.NoError(t, err)
			assert.False(t, still)
		})
	}
}

// TestUnsteadyAndLimited are the cards and readers that are neither good nor counterfeit.
func TestUnsteadyAndLimited(t *testing.T) {
	r := reader(t)
	test := func(spec practice.Spec, first int64) (*gauge.Report, error) {
		spec.Version = practice.Version
		d, err := r.Insert(spec)
		require.NoError(t, err)
		defer d.Close()
		return whole.Test{Device: d, First: first}.Run(context.Background())
	}
	rep, err := test(practice.Spec{
		Claimed: 64e6, Faults: []practice.Fault{{Kind: practice.Misread, Sector: 4000, Count: 2, Times: 1}},
	}, 0)
	require.NoError(t, err)
	assert.Equal(t, gauge.Unsteady, rep.Verdict)
	assert.Equal(t, gauge.Counts{Unsteady: 2}, rep.Bad)
	rep, err = test(practice.Spec{
		Claimed: 64e6, Faults: []practice.Fault{{Kind: practice.FailRead, Sector: 4000, Times: 1}},
	}, 0)
	require.NoError(t, err)
	assert.Equal(t, gauge.Unsteady, rep.Verdict, "it failed once, and then went right")
	rep, err = test(practice.Spec{Claimed: 640e6, ReaderLimit: 100e6}, 0)
	require.NoError(t, err)
	assert.Equal(t, gauge.Inconclusive, rep.Verdict, "errors, not lies")
	assert.Equal(t, int64(100_000_000/512*512), rep.Limit)
	rep, err = test(practice.Spec{Claimed: 640e6, Real: 300e6, Beyond: practice.Drop}, 64<<20)
	require.NoError(t, err)
	assert.Equal(t, gauge.Holds, rep.Verdict)
	assert.Equal(t, []gauge.Stretch{
		{Extent: layout.Extent{Length: 64 << 20}, State: gauge.Good},
		{Extent: layout.Extent{Offset: 64 << 20, Length: 640e6 - 64<<20}, State: gauge.Unwritten},
	}, rep.Extents)
	rep, err = test(practice.Spec{Claimed: 64e6, ReadOnlyAfter: 20e6}, 0)
	require.ErrorAs(t, err, new(*card.IOError))
	assert.Equal(t, gauge.Inconclusive, rep.Verdict)
	rep, err = test(practice.Spec{Claimed: 64e6, GoneAfter: 90e6}, 0)
	require.ErrorAs(t, err, new(*card.GoneError))
	assert.Equal(t, gauge.Inconclusive, rep.Verdict)
	rep, err = test(practice.Spec{
		Claimed: 64e6, Real: 20e6, Beyond: practice.Drop, Faults: []practice.Fault{{Kind: practice.Flip, Sector: 9000}},
	}, 0)
	require.NoError(t, err)
	assert.Equal(t, gauge.Counterfeit, rep.Verdict)
	assert.Equal(t, int64(1), rep.Bad.Worn, "both counterfeit and faulty")
	d, err := r.Insert(practice.Spec{Version: practice.Version, Claimed: 200e6, Real: 90e6, Beyond: practice.Wrap})
	require.NoError(t, err)
	rep, err = whole.Test{Device: d, ToTheEnd: true}.Run(context.Background())
	require.NoError(t, err)
	require.NoError(t, d.Close())
	assert.Equal(t, &gauge.Loss{Repeats: true, Real: 90_000_000 / 512 * 512, Exact: true, ReadsAs: rep.Loss.ReadsAs},
		rep.Loss)
	assert.Equal(t, gauge.Counts{}, rep.Bad)
	assert.GreaterOrEqual(t, rep.Written, int64(200e6))
}

// remembered is a card of any size that keeps sector stamps by their numbers, so that it takes no room; and it takes
// the time that a card takes.
type remembered struct {
	card.Device // none: what is not here isn't used
	run         mark.Run
	claimed     int64
	real        int64
	rate        float64 // bytes a second
	kept        int64   // stamps of their own places stand in [0, kept)
}

func (c *remembered) Size() int64         { return c.claimed }
func (c *remembered) SectorSize() int     { return 512 }
func (c *remembered) Flush() error        { return nil }
func (c *remembered) Forget() error       { return nil }
func (c *remembered) Access() card.Access { return card.Simulated }

func (c *remembered) wait(n int) { time.Sleep(time.Duration(float64(n) / c.rate * 1e9)) }

func (c *remembered) WriteAt(p []byte, off int64) (int, error) {
	c.wait(len(p))
	if off <= c.kept && c.run.Right(p, off/512) == len(p)/512 {
		c.kept = max(c.kept, min(off+int64(len(p)), c.real))
	}
	return len(p), nil
}

func (c *remembered) ReadAt(p []byte, off int64) (int, error) {
	c.wait(len(p))
	n := min(max(c.kept-off, 0), int64(len(p)))
	c.run.Fill(p[:n], off/512)
	clear(p[n:])
	return len(p), nil
}

// TestCounterfeitTerabytesAreKnownInAnHour tests a card that claims 2 TB and holds 32 GB, in simulated time.
func TestCounterfeitTerabytesAreKnownInAnHour(t *testing.T) {
	if !testbed.Long() {
		t.Skip("it makes and compares 16 GB of stamps: ZIPSTAMP_LONG=1")
	}
	synctest.Test(t, func(t *testing.T) {
		const real, claimed, rate = 8e9, 2e12, 5e6
		nonce := mark.Nonce{1}
		c := &remembered{run: mark.NewRun(nonce), claimed: claimed / 512 * 512, real: real / 512 * 512, rate: rate}
		var before, during runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		start := time.Now()
		var said []whole.Expectation
		verdict := time.Duration(0)
		rep,
			err := whole.Test{
			Device: c, Nonce: nonce, Expect: func(e whole.Expectation) { said = append(said, e) },
			Keep: func(whole.Progress) error {
				verdict = time.Since(start)
				runtime.ReadMemStats(&during)
				return nil
			},
		}.Run(context.Background())
		require.NoError(t, err)
		require.NotNil(t, rep.Loss)
		assert.Equal(t, gauge.Loss{Real: c.real, Exact: true, ReadsAs: "zeros"}, *rep.Loss)
		assert.LessOrEqual(t, float64(rep.Early), 1.02*real)
		assert.LessOrEqual(t, float64(rep.Written), 1.03*real)
		require.Len(t, said, 1)
		assert.InDelta(t, claimed/rate, said[0].Write.Seconds(), 8000, "days, it is said beforehand")
		assert.InDelta(t, 1600, verdict.Seconds(), 100, "half an hour, in truth")
		assert.Less(t, int64(during.HeapAlloc)-int64(before.HeapAlloc), int64(32<<20), "memory is flat")
		t.Logf("written until it was known: %.4f of the real size; in all %.4f; simulated time %v",
			float64(rep.Early)/real, float64(rep.Written)/real, time.Since(start))
	})
}

func TestReadsAsIsSaid(t *testing.T) {
	r := reader(t)
	for reads, want := range map[practice.Reads]string{
		practice.Zeros: "zeros", practice.FF: "0xFF", practice.Noise: "not written there",
		practice.Changing: "differs each time", practice.Last: "elsewhere",
	} {
		for method, run := range map[string]func(card.Device) (*gauge.Report, error){
			"whole": func(d card.Device) (*gauge.Report, error) {
				return whole.Test{Device: d}.Run(context.Background())
			},
			"spots": func(d card.Device) (*gauge.Report, error) {
				rep, _, err := spots.Test{Device: d, Places: 50}.Run(context.Background())
				return rep, err
			},
		} {
			if method == "spots" && reads == practice.Last {
				continue // what was written last is what was there before
			}
			d, err := r.Insert(practice.Spec{
				Version: practice.Version, Claimed: 200e6, Real: 50e6, Beyond: practice.Drop, Reads: reads,
			})
			require.NoError(t, err)
			rep, err := run(d)
			require.NoError(t, err)
			require.NotNil(t, rep.Loss)
			assert.True(t, strings.Contains(string(rep.Loss.ReadsAs), want), "%s, %s: %q", reads, method,
				rep.Loss.ReadsAs)
			require.NoError(t, d.Close())
		}
	}
}

// tired is a card that fails at its start while what was there is put back.
type tired struct {
	card.Device
	meter *meter.Meter
	op    string
}

func (d tired) fails(op string, off int64) error {
	if op == d.op && off == 0 && d.meter.Read().Phase == meter.PutBack {
		return &card.IOError{Op: op, Card: "a.card", Offset: off, Err: fault.BadPlace}
	}
	return nil
}

func (d tired) ReadAt(p []byte, off int64) (int, error) {
	if err := d.fails("read", off); err != nil {
		return 0, err
	}
	return d.Device.ReadAt(p, off)
}

func (d tired) WriteAt(p []byte, off int64) (int, error) {
	if err := d.fails("write", off); err != nil {
		return 0, err
	}
	return d.Device.WriteAt(p, off)
}

// TestWhatIsNotSeenToBeBackStaysSaved: a place that fails when it is put back, or cannot be read after that, is kept
// for another reader.
func TestWhatIsNotSeenToBeBackStaysSaved(t *testing.T) {
	for _, op := range []string{"read", "write"} {
		r := reader(t)
		random := rand.New(rand.NewPCG(5, 1))
		spec := practice.Spec{Version: practice.Version, Claimed: 48e6}
		d, before, nonce, folder, j := filled(t, r, spec, random)
		var m meter.Meter
		rep, restored, err := spots.Test{
			Device: tired{d, &m, op}, Meter: &m, Nonce: nonce, Seed: 2, Places: 100, Journal: j,
		}.Run(context.Background())
		require.NoError(t, err)
		assert.False(t, restored, op)
		assert.Equal(t, int64(1), rep.Changed, op)
		require.NoError(t, errors.Join(j.Close(), d.Close()))
		putRight(t, r, spec, folder)
		after, err := r.Sum()
		require.NoError(t, err)
		assert.Equal(t, before, after, op)
	}
}
