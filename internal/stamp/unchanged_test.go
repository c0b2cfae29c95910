package stamp_test

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/digest"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
	"zipstamp/internal/stamp"
	"zipstamp/internal/testbed"
)

// counted counts what is written, and does something before the next access to a place.
type counted struct {
	card.Device
	written atomic.Int64
	place   int64 // bytes
	then    func(times int)
	times   int
}

func (c *counted) WriteAt(p []byte, off int64) (int, error) {
	c.written.Add(int64(len(p)))
	return c.Device.WriteAt(p, off)
}

func (c *counted) ReadAt(p []byte, off int64) (int, error) {
	n, err := c.Device.ReadAt(p, off)
	if c.then != nil && off == c.place && len(p) >= mib {
		c.times++
		c.then(c.times)
	}
	return n, err
}

// partsOf are the digests that a receipt has of an image.
func partsOf(img []byte) (all []digest.Part) {
	for off := 0; off < len(img); off += stamp.BlockSize {
		block := digest.SumBlock(img[off:min(off+stamp.BlockSize, len(img))])
		all = append(all, digest.SumPart([]digest.Block{block}, 1))
	}
	return all
}

// put has the card hold something from its start on.
func (r *rig) put(t testing.TB, data []byte) {
	f, err := os.OpenFile(r.backing, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(data, 0)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

// noBackup takes away the old partition table at the card's end.
func (r *rig) noBackup(t testing.TB) {
	f, err := os.OpenFile(r.backing, os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(make([]byte, 512), int64(r.spec.Claimed)-512)
	require.NoError(t, err)
	require.NoError(t, f.Close())
}

func TestOnlyWhatDiffersIsWritten(t *testing.T) {
	t.Parallel()
	const size, block = 41*mib + 512, stamp.BlockSize
	img := noise(size, 21)
	for what, c := range map[string]struct {
		change          func(was []byte)
		past            bool
		touched         bool // something else may have written since
		unproven        bool // nothing says that the card isn't a counterfeit
		backup          bool // an old partition table is at the card's end
		job             func(*stamp.Job)
		written         int64
		nothing         bool // not one write
		compared, state any
	}{
		"the same, and a receipt says so":               {past: true, nothing: true},
		"the same, with an old table at the card's end": {past: true, backup: true, written: block},
		"the same, and nothing says so":                 {written: block},
		"the same, but something else may have written": {past: true, touched: true, written: block},
		"the same, on what may be a counterfeit":        {past: true, unproven: true, written: block},
		"another one": {
			change: func(was []byte) { copy(was, noise(size, 22)) }, written: size,
		},
		"a block, a byte, and two pieces far apart": {
			change: func(was []byte) {
				copy(was[3*block:4*block], noise(block, 23))
				was[5*block+100_000]++
				was[7*block]++
				was[8*block-1]++
			},
			written: 2*block + 3*64<<10,
		},
		"pieces close together, and half of a block": {
			change: func(was []byte) {
				was[2*block+10]++
				was[2*block+3*64<<10]++
				copy(was[4*block:], noise(block/2+64<<10, 24))
			},
			past: true, written: 2*block + 4*64<<10,
		},
		"the first byte alone":   {change: func(was []byte) { was[0]++ }, past: true, written: block},
		"the last byte alone":    {change: func(was []byte) { was[size-1]++ }, past: true, written: block + 512},
		"all is to be written":   {past: true, job: func(j *stamp.Job) { j.WriteAll = true }, written: size},
		"nothing is read at all": {past: true, job: func(j *stamp.Job) { j.ReadBack = false }, written: size},
	} {
		t.Run(what, func(t *testing.T) {
			t.Parallel()
			r := newRig(t, t.TempDir(), img, true, practice.Spec{
				Claimed: 120 * mib,
			})
			was := bytes.Clone(img)
			if c.change != nil {
				c.change(was)
			}
			r.put(t, was)
			if !c.backup {
				r.noBackup(t)
			}
			before, inspected := int64(0), 0
			count := &counted{}
			result, err := r.run(t, context.Background(), func(j *stamp.Job) {
				j.FixSlower(0.2)
				count.Device = j.Cards[0].Device
				j.Cards[0].Device = count
				j.Cards[0].Before = func(context.Context) error {
					before++
					assert.Zero(t, count.written.Load())
					return nil
				}
				j.Inspect = func(context.Context, card.Device, *meter.Meter) (int64, error) {
					inspected++
					return 0, nil
				}
				if c.past {
					j.Cards[0].Past = &stamp.Past{
						Blocks: partsOf(was), Displaced: stamp.Displaced, Untouched: !c.touched, Proven: !c.unproven,
					}
				}
				j.Cards[0].Probe = true
				if c.job != nil {
					c.job(j)
				}
			})
			require.NoError(t, err)
			require.True(t, bytes.Equal(img, r.held(t, size)))
			assert.EqualValues(t, c.written, result.Written)
			if result.State == stamp.Verified {
				assert.Equal(t, 1, inspected, "also where nothing was written")
			}
			assert.Empty(t, result.Unsteady)
			if c.nothing {
				assert.Zero(t, count.written.Load())
				assert.Zero(t, before)
				assert.Equal(t, []int64{size, size, size}, []int64{result.Kept, result.Compared, result.Verified})
				assert.Equal(t, stamp.Verified, result.State)
				return
			}
			assert.EqualValues(t, 1, before)
			if c.job == nil {
				assert.EqualValues(t, size-c.written, result.Kept)
				assert.EqualValues(t, size, result.Verified)
				assert.EqualValues(t, stamp.Displaced, result.Displaced)
			}
		})
	}
}

// TestCardThatChangesWhatItHas has a block change between being compared and being read back, once and for good.
func TestCardThatChangesWhatItHas(t *testing.T) {
	t.Parallel()
	const size, place = 30 * mib, 5 * stamp.BlockSize
	img := noise(size, 25)
	for _, past := range []*stamp.Past{
		nil, {Blocks: partsOf(img), Displaced: stamp.Displaced, Untouched: true, Proven: true},
	} {
		for times, good := range map[int]bool{1: true, 9: false} {
			r := newRig(t, t.TempDir(), img, false, practice.Spec{Claimed: 40 * mib})
			r.put(t, img)
			r.noBackup(t)
			result, err := r.run(t, context.Background(), func(j *stamp.Job) {
				j.FixSlower(0.2)
				d := &counted{Device: j.Cards[0].Device, place: place}
				d.then = func(n int) {
					if n <= times {
						r.put(t, []byte{}) // the file is there
						f, err := os.OpenFile(r.backing, os.O_WRONLY, 0)
						assert.NoError(t, err)
						_, err = f.WriteAt([]byte{byte(n)}, place+12345)
						assert.NoError(t, err)
						assert.NoError(t, f.Close())
					}
				}
				j.Cards[0].Device, j.Cards[0].Past = d, past
			})
			name := fmt.Sprint(past != nil, times)
			if !good {
				require.ErrorAs(t, err, new(*stamp.ReadBackError), name)
				require.Equal(t, stamp.NoTable, result.State, name)
				continue
			}
			require.NoError(t, err, name)
			assert.Equal(t, []layout.Extent{{Offset: place, Length: stamp.BlockSize}}, result.Unsteady, name)
			require.True(t, bytes.Equal(img, r.held(t, size)), name)
		}
	}
}

// ended is a device that is gone after so many accesses.
type ended struct {
	card.Device
	mu   sync.Mutex
	left int
}

func (e *ended) goesOn() error {
	e.mu.Lock()
	defer e.mu.Unlock()
	if e.left--; e.left < 0 {
		return &card.GoneError{Card: "it", Err: fault.Gone}
	}
	return nil
}

func (e *ended) ReadAt(p []byte, off int64) (int, error) {
	if err := e.goesOn(); err != nil {
		return 0, err
	}
	return e.Device.ReadAt(p, off)
}

func (e *ended) WriteAt(p []byte, off int64) (int, error) {
	if err := e.goesOn(); err != nil {
		return 0, err
	}
	return e.Device.WriteAt(p, off)
}

// TestAnyCardAnyContents has cards of any kind that hold anything that is like the image, and stamps that are
// interrupted at any access, and then carried on: what is called good holds the image, without the card's own memory,
// and a card that was not written is as it was.
func TestAnyCardAnyContents(t *testing.T) {
	t.Parallel()
	testbed.Check(t, 10, func(rt *rapid.T) {
		dir, err := os.MkdirTemp(t.TempDir(), "")
		require.NoError(rt, err)
		defer os.RemoveAll(dir)
		size := rapid.IntRange(1, 30*mib/512).Draw(rt, "image sectors") * 512
		img := noise(size, uint64(size), [2]int{size / 3, size / 2})
		was := bytes.Clone(img)
		for range rapid.IntRange(0, 4).Draw(rt, "differences") {
			at := rapid.IntRange(0, size-1).Draw(rt, "at")
			n := rapid.SampledFrom([]int{1, 5000, 200_000, 6 * mib}).Draw(rt, "bytes")
			for i := at; i < min(at+n, size); i++ {
				was[i]++
			}
		}
		spec := practice.Spec{
			Claimed: practice.Size(size + rapid.IntRange(0, 80*mib/4096).Draw(rt, "room")*4096 + 8192),
			Beyond:  rapid.SampledFrom(plainBeyonds).Draw(rt, "beyond"),
			Reads:   rapid.SampledFrom(readings).Draw(rt, "reads"),
			Seed:    7,
		}
		spec.Claimed -= spec.Claimed % 512
		if rapid.Bool().Draw(rt, "lies") {
			spec.Real = practice.Size(rapid.IntRange(1, int(spec.Claimed)/512).Draw(rt, "real sectors")) * 512
		}
		if rapid.Bool().Draw(rt, "has a memory") {
			spec.Cache = practice.Size(rapid.IntRange(1, stamp.Displaced/512).Draw(rt, "of sectors")) * 512
			spec.WriteBack = rapid.Bool().Draw(rt, "written back")
			spec.Volatile = spec.WriteBack && rapid.Bool().Draw(rt, "volatile")
		}
		spec.Discards = rapid.SampledFrom(append(practice.AllDiscards, practice.NoneToDo)).Draw(rt, "discards")
		worn := rapid.IntRange(0, 3).Draw(rt, "worn") == 0
		if worn {
			spec.Faults = []practice.Fault{{
				Kind: rapid.SampledFrom([]practice.FaultKind{
					practice.Flip, practice.Misread, practice.FailRead, practice.FailWrite,
				}).Draw(rt, "fault"),
				Sector: rapid.Int64Range(0, int64(spec.Claimed)/512-1).Draw(rt, "faulty sector"),
				Times:  rapid.IntRange(0, 5).Draw(rt, "times"),
			}}
		}
		r := newRig(rt, dir, img, false, spec)
		defer r.image.Close()
		d := r.insert(rt)
		defer func() { d.Close() }()
		filled := rapid.Bool().Draw(rt, "it holds something like the image")
		if filled {
			fill(rt, d, was)
		}
		discarded := rapid.IntRange(0, 3).Draw(rt, "discarded before") == 0
		if discarded {
			at := rapid.Int64Range(0, int64(spec.Claimed)/512-1).Draw(rt, "from") * 512
			n := rapid.Int64Range(1, (int64(spec.Claimed)-at)/512).Draw(rt, "sectors") * 512
			_ = card.Discard(d, at, n) // where it takes none, none is done
		}
		medium := func() []byte {
			data, err := os.ReadFile(filepath.Join(dir, "a.card.data"))
			require.NoError(rt, err)
			return data
		}
		honest := spec.Real == 0 || spec.Real == spec.Claimed
		for runs := rapid.IntRange(0, 2).Draw(rt, "interruptions"); runs >= 0; runs-- {
			before := medium()
			job := stamp.Job{
				Source: stamp.OfImage(r.image, r.packed), ReadBack: true, Repairs: 2,
				DiscardRest: rapid.IntRange(0, 5).Draw(rt, "discard the rest") == 0,
				Cards:       []stamp.Target{{Device: d, Probe: true, Past: &stamp.Past{Undefined: discarded}}},
			}
			job.FixSlower(rapid.SampledFrom([]float64{0.01, 0.2, 0.9}).Draw(rt, "slower"))
			if rapid.Bool().Draw(rt, "there is a receipt") {
				job.Cards[0].Past.Blocks = partsOf(was)
				job.Cards[0].Past.Proven = honest
				job.Cards[0].Past.Untouched = !filled
				if honest && bytes.Equal(was, img) && bytes.HasPrefix(before, img) {
					job.Cards[0].Past.Displaced = stamp.Displaced
				}
			}
			ctx, cancel := context.WithCancelCause(context.Background())
			if runs > 0 {
				stop := rapid.IntRange(1, 60).Draw(rt, "stopped at")
				if rapid.Bool().Draw(rt, "gone") {
					job.Cards[0].Device = &ended{Device: d, left: stop}
				} else {
					job.Cards[0].Device = &oneAtATime{pulled{d, stop, cancel}, make(chan struct{}, 1)}
				}
			}
			out := job.Run(ctx)[0]
			cancel(nil)
			switch {
			case out.Err == nil || errors.As(out.Err, new(*stamp.CounterfeitError)):
				require.False(rt, out.Err != nil && honest, "an honest card called counterfeit: %+v", spec)
				require.NoError(rt, d.Close())
				if out.Displaced >= int64(spec.Cache) {
					require.True(rt, bytes.Equal(img, r.held(rt, size)), "called good: %+v", spec)
				}
				d = r.insert(rt)
				filled, discarded = false, false // it was taken out
			case out.State == stamp.Untouched:
				require.True(rt, bytes.Equal(before, medium()), "it was not written")
			default:
				require.NotEqual(rt, stamp.Verified, out.State)
			}
			require.False(rt, runs == 0 && honest && !worn && out.Err != nil, "an honest card called bad: %v", out.Err)
		}
	})
}

// fill writes something to a device, as any program would.
func fill(t interface {
	require.TestingT
}, d card.Device, data []byte,
) {
	pool, err := card.NewPool(1, mib)
	require.NoError(t, err)
	defer pool.Close()
	buf, err := pool.Get(context.Background())
	require.NoError(t, err)
	for off := 0; off < len(data); off += mib {
		n := copy(buf, data[off:])
		_, _ = d.WriteAt(buf[:n], int64(off)) // where it can't be written, it isn't
	}
}

// TestMark has a card that was killed in the midst of a stamp: its start says of what.
func TestMark(t *testing.T) {
	img := noise(17*mib, 26)
	r := newRig(t, t.TempDir(), img, false, practice.Spec{Claimed: 24 * mib})
	var sealer digest.Sealer
	sealer.Write(img)
	seal := sealer.Seal()
	_, err := r.run(t, context.Background(), func(j *stamp.Job) {
		j.Known.Seal = seal
		j.FixSlower(0.2)
		j.Cards[0].Device = &ended{Device: j.Cards[0].Device, left: 14}
	})
	require.ErrorAs(t, err, new(*card.GoneError))
	start := r.held(t, 4096)
	m, ok := stamp.ReadMark(start[512:])
	require.True(t, ok)
	assert.Equal(t, "disk.img", m.Name)
	assert.Equal(t, stamp.ImageID(seal[:]), m.Image)
	start[590]++
	_, ok = stamp.ReadMark(start[512:])
	assert.False(t, ok, "a byte of it is wrong")
	assert.True(t, stamp.IsMarked(start[512:]))
	result, err := r.run(t, context.Background(), func(j *stamp.Job) {
		j.Known.Seal = seal
		j.FixSlower(0.2)
	})
	require.NoError(t, err)
	assert.Positive(t, result.Kept, "it is carried on")
	require.True(t, bytes.Equal(img, r.held(t, len(img))))
}

// FuzzReadMark reads marks from anything.
func FuzzReadMark(f *testing.F) {
	f.Add(make([]byte, 512))
	f.Fuzz(func(t *testing.T, start []byte) {
		if m, ok := stamp.ReadMark(start); ok {
			require.LessOrEqual(t, len(m.Name), 128)
			require.True(t, stamp.IsMarked(start))
		}
	})
}
