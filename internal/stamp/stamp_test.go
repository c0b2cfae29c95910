package stamp_test

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/klauspost/compress/gzip"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"pgregory.net/rapid"

	"zipstamp/internal/card"
	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/check"
	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
	"zipstamp/internal/stamp"
	"zipstamp/internal/testbed"
)

// plainBeyonds are what cards do beyond their real size, whatever the order in which they are written.
var plainBeyonds = []practice.Beyond{practice.Wrap, practice.Drop, practice.Lazy, practice.Ends}

const mib = 1 << 20

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// noise is an image of noise with a boot signature; zero makes stretches of zeros. The race detector, which would take
// most of its time here, leaves it alone.
//
//go:norace
func noise(size int, seed uint64, zero ...[2]int) []byte {
	r := rand.NewPCG(seed, 1)
	d := make([]byte, size)
	for i := 0; i+8 <= size; i += 8 {
		binary.LittleEndian.PutUint64(d[i:], r.Uint64())
	}
	for _, z := range zero {
		clear(d[z[0]:z[1]])
	}
	d[510], d[511] = 0x55, 0xAA
	return d
}

// rig is an image and a practice card, with what the card held before: noise with two partition tables.
type rig struct {
	image   *image.File
	packed  image.Contents
	backing string
	spec    practice.Spec
}

// newRig makes an image file, packed as gzip if asked, and a card.
func newRig(t cardtest.TB, dir string, img []byte, packed bool, s practice.Spec) *rig {
	t.Helper()
	path := filepath.Join(dir, "disk.img")
	contents := img
	if packed {
		var b bytes.Buffer
		z := gzip.NewWriter(&b)
		_, err := z.Write(img)
		require.NoError(t, err)
		require.NoError(t, z.Close())
		contents = b.Bytes()
	}
	require.NoError(t, os.WriteFile(path, contents, 0o600))
	f, err := image.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	c, err := f.Look("")
	require.NoError(t, err)
	s.Version, s.Backing = practice.Version, filepath.Join(dir, "a.card.data")
	real := s.Real
	if real == 0 {
		real = s.Claimed
	}
	old := noise(int(real), 99)
	copy(old[512:], "EFI PART")
	copy(old[len(old)-512:], "EFI PART")
	require.NoError(t, os.WriteFile(s.Backing, old, 0o600))
	return &rig{f, c, s.Backing, s}
}

// insert opens the practice card as the program does.
func (r *rig) insert(t cardtest.TB) card.Device {
	t.Helper()
	holds, err := os.ReadFile(r.backing)
	require.NoError(t, err)
	d, _ := cardtest.Insert(t, filepath.Dir(r.backing), r.spec, holds)
	return d
}

// run stamps, and takes the card out.
func (r *rig) run(t cardtest.TB, ctx context.Context, change func(*stamp.Job)) (stamp.Result, error) {
	t.Helper()
	d := r.insert(t)
	defer d.Close()
	job := stamp.Job{
		Source: stamp.OfImage(r.image, r.packed), Cards: []stamp.Target{{Device: d, Meter: new(meter.Meter)}},
		ReadBack: true, Repairs: stamp.DefaultRepairs,
	}
	ended := make(chan struct{})
	var watch sync.WaitGroup
	defer watch.Wait()
	defer close(ended)
	watch.Go(func() { // as whoever shows it does
		for {
			select {
			case <-ended:
				return
			case <-time.After(time.Millisecond):
				job.Cards[0].Meter.Read()
			}
		}
	})
	if change != nil {
		change(&job)
	}
	out := job.Run(ctx)[0]
	return out.Result, out.Err
}

// held is what the card gives when it is put in again without its faults.
func (r *rig) held(t cardtest.TB, n int) []byte {
	t.Helper()
	s := r.spec
	s.Faults, s.GoneAfter, s.ReadOnlyAfter, s.Cache, s.WriteBack, s.Volatile = nil, 0, 0, 0, false, false
	c, err := practice.Open(s)
	require.NoError(t, err)
	defer c.Close()
	p := make([]byte, (n+511)/512*512)
	_, err = c.ReadAt(p, 0)
	require.NoError(t, err)
	return p[:n]
}

// requireNoTable checks that nothing at the card's start or end looks like a partition table.
func (r *rig) requireNoTable(t cardtest.TB) {
	t.Helper()
	head := r.held(t, 4096)
	require.False(t, head[510] == 0x55 && head[511] == 0xAA, "boot signature")
	require.NotEqual(t, "EFI PART", string(head[512:520]))
}

func TestStampedCardHoldsTheImage(t *testing.T) {
	t.Parallel()
	for name, packed := range map[string]bool{"raw": false, "gzip": true} {
		for _, size := range []int{512, 100_001, 4 * mib, 4*mib + 1, 13*mib + 513} {
			img := noise(size, 5)
			r := newRig(t, t.TempDir(), img, packed, practice.Spec{Claimed: 24 * mib})
			result, err := r.run(t, context.Background(), nil)
			require.NoError(t, err, name)
			require.True(t, bytes.Equal(img, r.held(t, size)), "%s, %d", name, size)
			assert.Equal(t, stamp.Verified, result.State)
			assert.EqualValues(t, []int64{int64(size), int64(size), int64(size)}, []int64{
				result.Size, result.Written, result.Verified,
			})
			assert.EqualValues(t, 16896, result.Cleared, "the old backup table")
			data, err := os.ReadFile(r.backing)
			require.NoError(t, err)
			assert.NotEqual(t, "EFI PART", string(data[len(data)-512:][:8]))
			h := digest.NewHasher(digest.SHA256)
			h.Write(img)
			if packed {
				assert.Empty(t, result.Image, "the download's says as much")
				assert.Len(t, result.Download, 1)
			} else {
				assert.Equal(t, h.Digests(), result.Image)
			}
			padding := r.held(t, (size+511)/512*512)[size:]
			assert.Equal(t, make([]byte, len(padding)), padding, "the last sector is padded with zeros")
		}
	}
}

// TestNoCardThatLiesIsCalledGood has cards of any real size, and images with zeros in any places: what is
// called good holds the image.
func TestNoCardThatLiesIsCalledGood(t *testing.T) {
	t.Parallel()
	testbed.Check(t, 12, func(rt *rapid.T) {
		dir, err := os.MkdirTemp(t.TempDir(), "")
		require.NoError(rt, err)
		size := rapid.IntRange(1, 24*mib/512).Draw(rt, "image sectors") * 512
		var zeros [][2]int
		for range rapid.IntRange(0, 3).Draw(rt, "stretches of zeros") {
			start := rapid.IntRange(0, size/512).Draw(rt, "from") * 512
			zeros = append(zeros, [2]int{start, rapid.IntRange(start/512, size/512).Draw(rt, "to") * 512})
		}
		spec := practice.Spec{
			Claimed: 32 * mib,
			Real:    practice.Size(rapid.IntRange(2*mib/512, 32*mib/512).Draw(rt, "real sectors")) * 512,
			Beyond:  rapid.SampledFrom(plainBeyonds).Draw(rt, "beyond"),
			Reads: rapid.SampledFrom([]practice.Reads{
				practice.Zeros, practice.FF, practice.Noise, practice.Changing, practice.Last,
			}).Draw(rt, "reads"),
		}
		if rapid.Bool().Draw(rt, "worn") {
			spec.Faults = []practice.Fault{{
				Kind: rapid.SampledFrom([]practice.FaultKind{
					practice.Flip, practice.Misread, practice.FailRead, practice.FailWrite,
				}).Draw(rt, "fault"),
				Sector: rapid.Int64Range(0, 32*mib/512-1).Draw(rt, "faulty sector"),
				Times:  rapid.IntRange(0, 5).Draw(rt, "times"),
			}}
		}
		img := noise(size, uint64(size), zeros...)
		r := newRig(rt, dir, img, false, spec)
		defer r.image.Close()
		result, err := r.run(rt, context.Background(), nil)
		if err == nil {
			require.True(rt, bytes.Equal(img, r.held(rt, size)), "called good: %+v", spec)
			return
		}
		lies := size > int(spec.Real)
		switch spec.Beyond {
		case practice.Lazy: // what is written besides the image counts too
			lies = size+5*mib+2*stamp.Displaced > int(spec.Real)
		case practice.Ends:
			lies = spec.Real < spec.Claimed
		}
		require.True(rt, lies || len(spec.Faults) > 0, "a good card called bad: %v", err)
		require.NotEqual(rt, stamp.Verified, result.State)
		if result.State == stamp.NoTable {
			r.requireNoTable(rt)
		}
	})
}

func TestRealSizeIsFound(t *testing.T) {
	t.Parallel()
	img := noise(30*mib, 3)
	for name, c := range map[string]struct {
		spec practice.Spec
		want stamp.Loss
		by   float64
	}{
		"wraps": {
			practice.Spec{Real: 16 * mib, Beyond: practice.Wrap}, stamp.Loss{Wraps: true, Holds: 16 * mib}, 0,
		},
		"wraps, any size": {
			practice.Spec{Real: 12345 * 512, Beyond: practice.Wrap}, stamp.Loss{Wraps: true, Holds: 12345 * 512}, 0,
		},
		"drops, zeros": {
			practice.Spec{Real: 10 * mib, Beyond: practice.Drop, Reads: practice.Zeros},
			stamp.Loss{Holds: 10 * mib},
			4 * mib,
		},
		"keeps nothing": {practice.Spec{Real: 512, Beyond: practice.Drop, Reads: practice.FF}, stamp.Loss{}, 0},
		"drops, noise": {
			practice.Spec{Real: 10 * mib, Beyond: practice.Drop, Reads: practice.Noise},
			stamp.Loss{Holds: 10 * mib},
			4 * mib,
		},
	} {
		c.spec.Claimed = 40 * mib
		r := newRig(t, t.TempDir(), img, false, c.spec)
		result, err := r.run(t, context.Background(), nil)
		require.ErrorAs(t, err, new(*stamp.ReadBackError), name)
		require.NotNil(t, result.Loss, name)
		assert.Equal(t, c.want.Wraps, result.Loss.Wraps, name)
		assert.InDelta(t, c.want.Holds, result.Loss.Holds, c.by, name)
		assert.Zero(t, result.Attempts, "nothing to repair: %s", name)
		r.requireNoTable(t)
	}
}

func TestRepairs(t *testing.T) {
	t.Parallel()
	img := noise(17*mib, 4)
	fault := func(kind practice.FaultKind, sector int64, times int) []practice.Fault {
		return []practice.Fault{{Kind: kind, Sector: sector, Times: times}}
	}
	const inBlock2 = 2*4*mib/512 + 77
	for name, c := range map[string]struct {
		faults  []practice.Fault
		repairs int
		rounds  int
		bad     []layout.Extent
	}{
		"a bit stored wrong once": {fault(practice.Flip, inBlock2, 1), 3, 1, nil},
		"and twice":               {fault(practice.Flip, inBlock2, 2), 3, 2, nil},
		"a write that fails once": {fault(practice.FailWrite, inBlock2, 1), 3, 1, nil},
		"a read that fails once":  {fault(practice.FailRead, inBlock2, 1), 3, 1, nil},
		"always wrong": {
			fault(practice.Flip, inBlock2, 0), 3, 3, []layout.Extent{{Offset: 2 * 4 * mib, Length: 4 * mib}},
		},
		"more often than it may": {
			fault(practice.Flip, inBlock2, 2), 1, 1, []layout.Extent{{Offset: 2 * 4 * mib, Length: 4 * mib}},
		},
		"no repairs wanted": {
			fault(practice.Flip, inBlock2, 1), 0, 0, []layout.Extent{{Offset: 2 * 4 * mib, Length: 4 * mib}},
		},
		"the last, short block": {
			fault(practice.Flip, 17*mib/512-1, 0), 1, 1, []layout.Extent{{Offset: 16 * mib, Length: mib}},
		},
		"the first block, written":  {fault(practice.Flip, 9, 2), 3, 1, nil},
		"the first block, for good": {fault(practice.Flip, 9, 0), 2, 2, []layout.Extent{{Offset: 0, Length: 4 * mib}}},
	} {
		r := newRig(t, t.TempDir(), img, true, practice.Spec{Claimed: 24 * mib, Faults: c.faults})
		result, err := r.run(t, context.Background(), func(j *stamp.Job) { j.Repairs, j.WriteAll = c.repairs, true })
		assert.Equal(t, c.bad, result.Bad, name)
		assert.Equal(t, c.rounds, result.Attempts, name)
		assert.Nil(t, result.Loss, name)
		if c.bad == nil {
			require.NoError(t, err, name)
			require.Len(t, result.Repaired, 1, name)
			require.True(t, bytes.Equal(img, r.held(t, len(img))), name)
			continue
		}
		require.ErrorAs(t, err, new(*stamp.ReadBackError), name)
		require.Equal(t, stamp.NoTable, result.State, name)
		r.requireNoTable(t)
	}
	r := newRig(t, t.TempDir(), img, true, practice.Spec{
		Claimed: 24 * mib, Faults: fault(practice.FailWrite, inBlock2, 0),
	})
	result, err := r.run(t, context.Background(), func(j *stamp.Job) { j.ReadBack = false })
	var failed *card.IOError
	require.ErrorAs(t, err, &failed, "without reading back, a write that fails ends it")
	assert.EqualValues(t, 8*mib, failed.Offset)
	assert.Equal(t, stamp.NoTable, result.State)
}

// pulled ends a context when a device has been used so often.
type pulled struct {
	card.Device
	left   int
	cancel context.CancelCauseFunc
}

var errStopped = errors.New("stopped")

func (p *pulled) WriteAt(b []byte, off int64) (int, error) {
	if p.left--; p.left == 0 {
		p.cancel(errStopped)
	}
	return p.Device.WriteAt(b, off)
}

func (p *pulled) ReadAt(b []byte, off int64) (int, error) {
	if p.left--; p.left == 0 {
		p.cancel(errStopped)
	}
	return p.Device.ReadAt(b, off)
}

// TestInterruptedStampLeavesNoPartitionTable stops a stamp at every access to the card.
func TestInterruptedStampLeavesNoPartitionTable(t *testing.T) {
	t.Parallel()
	img := noise(22*mib, 8)
	dir := t.TempDir()
	step := 7
	if testbed.Long() {
		step = 1
	}
	for stopAt := 1; ; stopAt += step {
		r := newRig(t, dir, img, stopAt%2 == 0, practice.Spec{Claimed: 24 * mib})
		ctx, cancel := context.WithCancelCause(context.Background())
		result, err := r.run(t, ctx, func(j *stamp.Job) {
			j.Cards[0].Device = &oneAtATime{pulled{j.Cards[0].Device, stopAt, cancel}, make(chan struct{}, 1)}
		})
		cancel(nil)
		r.image.Close()
		if err == nil {
			require.Greater(t, stopAt, 12, "it was stopped at every access before")
			require.True(t, bytes.Equal(img, r.held(t, len(img))))
			return
		}
		require.ErrorIs(t, err, errStopped, "at %d", stopAt)
		if result.State == stamp.Untouched {
			require.Less(t, stopAt, 8, "before the first write")
			continue
		}
		require.Equal(t, stamp.NoTable, result.State, "at %d", stopAt)
		r.requireNoTable(t)
	}
}

// oneAtATime keeps accesses apart, so that they can be counted.
type oneAtATime struct {
	pulled
	turn chan struct{}
}

func (o *oneAtATime) WriteAt(b []byte, off int64) (int, error) {
	o.turn <- struct{}{}
	defer func() { <-o.turn }()
	return o.pulled.WriteAt(b, off)
}

func (o *oneAtATime) ReadAt(b []byte, off int64) (int, error) {
	o.turn <- struct{}{}
	defer func() { <-o.turn }()
	return o.pulled.ReadAt(b, off)
}

// TestPulledOrLockedCardLeavesNoPartitionTable has the card fail after every MiB.
func TestPulledOrLockedCardLeavesNoPartitionTable(t *testing.T) {
	t.Parallel()
	img := noise(14*mib, 9)
	dir := t.TempDir()
	step := practice.Size(8*mib + 8*512)
	if testbed.Long() {
		step /= 8
	}
	for after := practice.Size(5 * mib); after < 40*mib; after += step {
		r := newRig(t, dir, img, false, practice.Spec{Claimed: 16 * mib, GoneAfter: after})
		result, err := r.run(t, context.Background(), nil)
		r.image.Close()
		if err == nil {
			require.Greater(t, int64(after), int64(34*mib))
			break
		}
		require.ErrorAs(t, err, new(*card.GoneError), "after %d", after)
		if result.State == stamp.NoTable {
			r.requireNoTable(t)
		} else {
			require.Equal(t, stamp.Uncertain, result.State, "it went while the first block was written or read back")
		}
	}
	for after := practice.Size(5 * mib); after < 14*mib; after += 2 * mib {
		r := newRig(t, dir, img, false, practice.Spec{Claimed: 16 * mib, ReadOnlyAfter: after})
		result, err := r.run(t, context.Background(), nil)
		r.image.Close()
		require.ErrorIs(t, err, fault.Locked)
		require.ErrorAs(t, err, new(*card.IOError))
		require.Equal(t, stamp.NoTable, result.State)
		r.requireNoTable(t)
	}
}

func TestTooSmallCard(t *testing.T) {
	t.Parallel()
	img := noise(9*mib, 2)
	r := newRig(t, t.TempDir(), img, false, practice.Spec{Claimed: 9*mib - 512})
	result, err := r.run(t, context.Background(), func(j *stamp.Job) { j.FixSlower(0.2) })
	require.ErrorAs(t, err, new(*stamp.TooSmallError))
	assert.Equal(t, stamp.Untouched, result.State, "the size was known beforehand")
	assert.Equal(t, noise(int(9*mib-512), 99)[:512], r.held(t, 512))

	r = newRig(t, t.TempDir(), img, true, practice.Spec{Claimed: 9*mib - 512})
	result, err = r.run(t, context.Background(), func(j *stamp.Job) { j.FixSlower(0.2) })
	var small *stamp.TooSmallError
	require.ErrorAs(t, err, &small)
	assert.True(t, small.AtLeast)
	assert.Equal(t, stamp.NoTable, result.State)
	r.requireNoTable(t)
}

func TestDamagedOrChangedImageIsNotFinished(t *testing.T) {
	t.Parallel()
	img := noise(11*mib, 6)
	r := newRig(t, t.TempDir(), img, true, practice.Spec{Claimed: 16 * mib})
	found, err := check.Find(r.image, "",
		check.Given{Texts: []*digest.Sums{{
			Given: true, Entries: []digest.Entry{{Digest: digest.New(digest.SHA256, make([]byte, 32))}},
		}}}, check.Keys{})
	require.NoError(t, err)
	report, err := check.Run(context.Background(), r.image, "", found, nil)
	require.NoError(t, err)
	assert.Equal(t, check.Mismatched, report.Outcome())
	known := func(j *stamp.Job) { j.Known = stamp.Known{Seal: report.Seal, Download: report.Download} }
	result, err := r.run(t, context.Background(), known)
	require.NoError(t, err)
	assert.Equal(t, report.Download, result.Download)

	packed, err := os.ReadFile(r.image.Path)
	require.NoError(t, err)
	other := newRig(t, t.TempDir(), noise(11*mib, 7), true, practice.Spec{Claimed: 16 * mib})
	result, err = other.run(t, context.Background(), known)
	require.ErrorAs(t, err, new(*stamp.ChangedError))
	assert.Equal(t, stamp.NoTable, result.State)
	other.requireNoTable(t)

	for _, changed := range []bool{false, true} { // since its image was unpacked by a check, which has kept it
		o := newRig(t, t.TempDir(), img, true, practice.Spec{Claimed: 16 * mib})
		o.image.Keep = image.KeepMost
		report, err := check.Run(context.Background(), o.image, "", found, nil)
		require.NoError(t, err)
		require.NotEmpty(t, report.Image)
		if changed {
			spoilt := bytes.Clone(packed)
			spoilt[len(spoilt)/2] ^= 1
			require.NoError(t, os.WriteFile(o.image.Path, spoilt, 0o600))
		}
		result, err := o.run(t, context.Background(), func(j *stamp.Job) {
			j.Known = stamp.Known{Seal: report.Seal, Download: report.Download, Image: report.Image}
		})
		if changed {
			require.ErrorAs(t, err, new(*stamp.ChangedError), "it isn't unpacked, and so isn't found to be damaged")
			o.requireNoTable(t)
			continue
		}
		require.NoError(t, err)
		assert.Equal(t, report.Image, result.Image)
		require.True(t, bytes.Equal(img, o.held(t, len(img))))
	}

	require.NoError(t, os.WriteFile(r.image.Path, packed[:len(packed)*2/3], 0o600))
	cut, err := image.Open(r.image.Path)
	require.NoError(t, err)
	defer cut.Close()
	for _, same := range []bool{true, false} {
		r.image = cut
		if !same {
			r.put(t, noise(11*mib, 8))
		}
		result, err = r.run(t, context.Background(), nil)
		var damage *image.DamageError
		require.ErrorAs(t, err, &damage)
		assert.True(t, damage.Truncated)
		if same {
			assert.Equal(t, stamp.Untouched, result.State, "what is there is what was to be written")
			require.True(t, bytes.Equal(img, r.held(t, len(img))))
			continue
		}
		assert.Equal(t, stamp.NoTable, result.State)
		r.requireNoTable(t)
	}
}

// TestImageThatBecomesShorter has a raw image that is written anew while it is stamped, with nothing to compare it
// with.
func TestImageThatBecomesShorter(t *testing.T) {
	t.Parallel()
	const size = 40 * mib
	for what, change := range map[string]func(f *os.File) error{
		"cut":            func(f *os.File) error { return f.Truncate(20 * mib) },
		"cut and padded": func(f *os.File) error { return errors.Join(f.Truncate(20*mib), f.Truncate(size)) },
	} {
		r := newRig(t, t.TempDir(), noise(size, 51), false, practice.Spec{Claimed: 48 * mib})
		_, err := r.run(t, context.Background(), func(j *stamp.Job) {
			j.WriteAll = true
			d := &counted{Device: j.Cards[0].Device}
			j.Cards[0].Device = &after{d, func() bool { return d.written.Load() > 16*mib }, sync.OnceFunc(func() {
				f, err := os.OpenFile(r.image.Path, os.O_WRONLY, 0)
				assert.NoError(t, err)
				assert.NoError(t, change(f))
				assert.NoError(t, f.Close())
			})}
		})
		require.Error(t, err, what)
		var card *card.IOError
		require.NotErrorAs(t, err, &card, what)
	}
}

// after is a device that does something once, at the first write after something has become true.
type after struct {
	*counted
	is   func() bool
	then func()
}

func (a *after) WriteAt(p []byte, off int64) (int, error) {
	if a.is() {
		a.then()
	}
	return a.counted.WriteAt(p, off)
}

// TestCardThatIsGoneKeepsItsReason pulls a card out while one of its writers waits to open it.
func TestCardThatIsGoneKeepsItsReason(t *testing.T) {
	t.Parallel()
	img := noise(40*mib, 52)
	r := newRig(t, t.TempDir(), img, false, practice.Spec{Claimed: 48 * mib})
	r.put(t, append(make([]byte, 4*mib), img[4*mib:]...)) // the first block differs
	for range 5 {
		_, err := r.run(t, context.Background(), func(j *stamp.Job) {
			j.FixSlower(0.2)
			j.Cards[0].Device = &goneBehind{Device: j.Cards[0].Device, from: 4 * mib}
			j.Cards[0].Before = func(ctx context.Context) error {
				select {
				case <-ctx.Done():
					assert.Fail(t, "it is stopped by what isn't its own reason", "%v", context.Cause(ctx))
					return context.Cause(ctx)
				case <-time.After(50 * time.Millisecond):
					return &card.GoneError{Card: "it", Err: fault.Gone}
				}
			}
		})
		require.ErrorAs(t, err, new(*card.GoneError))
	}
}

// goneBehind is a device that is gone for who reads from a place on, a little later.
type goneBehind struct {
	card.Device
	from int64
}

func (g *goneBehind) ReadAt(p []byte, off int64) (int, error) {
	if off >= g.from {
		time.Sleep(20 * time.Millisecond) // the others get on meanwhile; what comes of it is the same if they don't
		return 0, &card.GoneError{Card: "it", Err: fault.Gone}
	}
	return g.Device.ReadAt(p, off)
}
