// Package cardtest has the test that every card.Device passes, and makes practice cards for other tests.
package cardtest

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
)

// TestDevice checks that a device keeps what is promised of all devices. open opens the same card again and again; it
// has at least 1 MiB, which is overwritten. The error says what is not as promised; all of it, as far as it could be
// tried.
func TestDevice(open func() (card.Device, error)) error {
	d, err := open()
	if err != nil {
		return fmt.Errorf("open: %w", err)
	}
	pool, err := card.NewPool(4, 1<<18)
	if err != nil {
		return err
	}
	defer pool.Close()
	t := &trial{d: d, pool: pool, sector: int64(d.SectorSize()), size: d.Size()}
	t.measures()
	t.alone(open)
	if t.errs == nil {
		t.keepsWhatIsWritten()
		t.refusesMisuse()
		t.concurrently()
	}
	t.check(d.Flush(), "flush")
	t.check(d.Close(), "close")
	if t.errs == nil {
		t.outlasts(open)
	}
	return errors.Join(t.errs...)
}

// trial is a device being tested.
type trial struct {
	d            card.Device
	pool         *card.Pool
	sector, size int64

	mu   sync.Mutex
	errs []error
}

func (t *trial) fail(format string, args ...any) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.errs = append(t.errs, fmt.Errorf(format, args...))
}

func (t *trial) check(err error, what string, args ...any) {
	if err != nil {
		t.fail("%s: %w", fmt.Sprintf(what, args...), err)
	}
}

func (t *trial) buffer() []byte {
	b, err := t.pool.Get(context.Background())
	t.check(err, "get a buffer")
	return b
}

// measures are sensible.
func (t *trial) measures() {
	if !slices.Contains([]int64{512, 4096}, t.sector) {
		t.fail("a sector has %d bytes", t.sector)
		return
	}
	if t.size < 1<<20 || t.size%t.sector != 0 {
		t.fail("it has %d bytes, which is less than 1 MiB or not whole sectors of %d", t.size, t.sector)
	}
	if !slices.Contains([]card.Access{card.Direct, card.Dropped, card.Simulated, card.Cached}, t.d.Access()) {
		t.fail("its way of access is %q", t.d.Access())
	}
}

// alone: nobody else can open it meanwhile.
func (t *trial) alone(open func() (card.Device, error)) {
	other, err := open()
	if err == nil {
		other.Close()
		t.fail("it can be opened a second time")
		return
	}
	if !errors.Is(err, fault.Busy) {
		t.fail("a second opening fails with an error that isn't Busy: %w", err)
	}
}

// keepsWhatIsWritten: what is written anywhere is read, before and after Flush and Forget.
func (t *trial) keepsWhatIsWritten() {
	one, two := t.buffer(), t.buffer()
	defer t.pool.Put(one)
	defer t.pool.Put(two)
	random := rand.New(rand.NewPCG(3, uint64(t.size)))
	for _, at := range []int64{
		0, t.sector, 3 * t.sector, t.size / 2 / t.sector * t.sector, t.size - int64(len(one)), t.size - t.sector,
	} {
		p, q := one[:min(int64(len(one)), t.size-at)], two[:min(int64(len(two)), t.size-at)]
		for i := range p {
			p[i] = byte(random.Uint32())
		}
		t.whole(t.d.WriteAt(p, at))(len(p), "write at %d", at)
		for range 2 {
			clear(q)
			t.whole(t.d.ReadAt(q, at))(len(q), "read at %d", at)
			if !bytes.Equal(p, q) {
				t.fail("at %d it reads as something else than was written", at)
			}
			t.check(t.d.Flush(), "flush")
			t.check(t.d.Forget(), "forget")
		}
	}
}

// whole gives what checks that an access was of all bytes.
func (t *trial) whole(n int, err error) func(want int, what string, args ...any) {
	return func(want int, what string, args ...any) {
		t.check(err, what, args...)
		if err == nil && n != want {
			t.fail("%s: %d of %d bytes, without an error", fmt.Sprintf(what, args...), n, want)
		}
	}
}

// refusesMisuse: nothing goes beyond the end, nothing in pieces of sectors, and there is no harm from trying.
func (t *trial) refusesMisuse() {
	b := t.buffer()
	defer t.pool.Put(b)
	for _, at := range []int64{t.size, t.size - t.sector, t.size + 5*t.sector, -t.sector} {
		if _, err := t.d.WriteAt(b[:2*t.sector], at); !typed(err) {
			t.fail("writing at %d of %d gives %v", at, t.size, err)
		}
		if _, err := t.d.ReadAt(b[:2*t.sector], at); !typed(err) {
			t.fail("reading at %d of %d gives %v", at, t.size, err)
		}
	}
	if _, err := t.d.WriteAt(b[:t.sector-1], 0); !typed(err) {
		t.fail("writing a part of a sector gives %v", err)
	}
	if _, err := t.d.WriteAt(b[:t.sector], t.sector/2); !typed(err) {
		t.fail("writing between sectors gives %v", err)
	}
}

// typed tells whether an error is one of those that a device gives.
func typed(err error) bool {
	return errors.As(err, new(*card.IOError)) || errors.As(err, new(*card.GoneError))
}

// concurrently writes and reads from several goroutines at once.
func (t *trial) concurrently() {
	const piece, pieces, workers = 1 << 16, 16, 2
	var all sync.WaitGroup
	for w := range workers {
		all.Go(func() {
			b := t.buffer()
			defer t.pool.Put(b)
			p := b[:piece]
			for i := w; i < pieces; i += workers {
				want := bytes.Repeat([]byte{byte(i + 1)}, piece)
				copy(p, want)
				_, err := t.d.WriteAt(p, int64(i)*piece)
				t.check(err, "write piece %d beside others", i)
				clear(p)
				_, err = t.d.ReadAt(p, int64(i)*piece)
				t.check(err, "read piece %d beside others", i)
				if !bytes.Equal(p, want) {
					t.fail("piece %d reads as something else than was written", i)
				}
			}
		})
	}
	all.Wait()
}

// outlasts: what is written is there when it is opened again.
func (t *trial) outlasts(open func() (card.Device, error)) {
	d, err := open()
	if err != nil {
		t.fail("open it again: %w", err)
		return
	}
	first := t.buffer()[:t.sector]
	_, err = d.ReadAt(first, 0)
	t.check(err, "read it again")
	if !bytes.Equal(first, bytes.Repeat([]byte{1}, int(t.sector))) {
		t.fail("opened again, it no longer has what was written")
	}
	t.check(d.Close(), "close it again")
}
