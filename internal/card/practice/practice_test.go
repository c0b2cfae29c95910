package practice

import (
	"bytes"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zipstamp/internal/card/fault"
)

const kb = 1 << 10

// insert opens a practice card in a folder of the test.
func insert(t *testing.T, s Spec) *Card {
	t.Helper()
	s.Version = Version
	if s.Backing == "" {
		s.Backing = filepath.Join(t.TempDir(), "data")
	}
	if s.Claimed == 0 {
		s.Claimed = 64 * kb
	}
	c, err := Open(s)
	require.NoError(t, err)
	t.Cleanup(func() { c.Close() })
	return c
}

func sectors(b byte, n int) []byte { return bytes.Repeat([]byte{b}, n*512) }

func read(t *testing.T, c *Card, off int64, n int) []byte {
	t.Helper()
	p := make([]byte, n*512)
	_, err := c.ReadAt(p, off)
	require.NoError(t, err)
	return p
}

func write(t *testing.T, c *Card, p []byte, off int64) {
	t.Helper()
	n, err := c.WriteAt(p, off)
	require.NoError(t, err)
	require.Len(t, p, n)
}

func TestBeyondTheRealSize(t *testing.T) {
	wrap := insert(t, Spec{Real: 24 * kb, Beyond: Wrap})
	write(t, wrap, sectors(7, 96), 0) // twice the real size: the second half overwrites the first
	write(t, wrap, sectors(9, 2), 48*kb-512)
	assert.Equal(t, append(sectors(7, 1), sectors(9, 1)...),
		append(read(t, wrap, 22*kb, 1), read(t, wrap, 24*kb-512, 1)...))
	assert.Equal(t, sectors(9, 1), read(t, wrap, 0, 1), "a write across the border goes on at the start")

	for reads, want := range map[Reads][]byte{Zeros: sectors(0, 1), FF: sectors(0xFF, 1)} {
		drop := insert(t, Spec{Real: 24 * kb, Beyond: Drop, Reads: reads})
		write(t, drop, sectors(7, 4), 23*kb)
		assert.Equal(t, sectors(7, 2), read(t, drop, 23*kb, 2))
		assert.Equal(t, want, read(t, drop, 24*kb, 1), reads)
	}
	noise := insert(t, Spec{Real: 24 * kb, Beyond: Drop, Reads: Noise})
	a, b := read(t, noise, 30*kb, 1), read(t, noise, 31*kb, 1)
	assert.Equal(t, a, read(t, noise, 30*kb, 1), "the same at every reading")
	assert.NotEqual(t, a, b)
	assert.Equal(t, append(a, read(t, noise, 30*kb+512, 1)...), read(t, noise, 30*kb, 2), "however it is read")
}

func TestCacheAnswersForWhatWasWrittenLast(t *testing.T) {
	c := insert(t, Spec{Real: 24 * kb, Beyond: Drop, Cache: 2 * kb})
	write(t, c, sectors(1, 4), 40*kb)
	assert.Equal(t, sectors(1, 4), read(t, c, 40*kb, 4))
	write(t, c, sectors(2, 1), 50*kb)
	assert.Equal(t, append(sectors(0, 1), sectors(1, 3)...), read(t, c, 40*kb, 4), "the oldest is let go")
	write(t, c, sectors(3, 100), 0)
	assert.Equal(t, sectors(0, 4), read(t, c, 40*kb, 4))
	assert.Equal(t, sectors(3, 4), read(t, c, 48*kb, 4), "of a large write the end is kept")
}

func TestFaults(t *testing.T) {
	c := insert(t, Spec{Faults: []Fault{
		{Kind: FailRead, Sector: 10},
		{Kind: FailWrite, Sector: 20, Count: 4, Times: 2},
		{Kind: Flip, Sector: 30, Times: 1},
		{Kind: Misread, Sector: 40, Times: 1},
	}})
	for range 3 {
		_, err := c.ReadAt(make([]byte, 4*kb), 4*kb)
		assert.ErrorIs(t, err, fault.BadPlace)
	}
	read(t, c, 11*512, 1)
	for i := range 3 {
		_, err := c.WriteAt(sectors(1, 1), 23*512)
		assert.Equal(t, i < 2, err == fault.BadPlace, "time %d", i)
	}
	write(t, c, sectors(1, 8), 28*512)
	assert.NotEqual(t, sectors(1, 8), read(t, c, 28*512, 8), "stored wrong")
	assert.Equal(t, read(t, c, 28*512, 8), read(t, c, 28*512, 8), "and the same at every reading")
	write(t, c, sectors(1, 8), 28*512)
	assert.Equal(t, sectors(1, 8), read(t, c, 28*512, 8))
	write(t, c, sectors(1, 1), 40*512)
	assert.NotEqual(t, sectors(1, 1), read(t, c, 40*512, 1), "read wrong once")
	assert.Equal(t, sectors(1, 1), read(t, c, 40*512, 1))
}

func TestGoneAndReadOnlyAfter(t *testing.T) {
	backing := filepath.Join(t.TempDir(), "data")
	s := Spec{Backing: backing, GoneAfter: 5 * kb}
	c := insert(t, s)
	write(t, c, sectors(1, 8), 0)
	n, err := c.WriteAt(sectors(2, 4), 8*512)
	assert.ErrorIs(t, err, fault.Gone)
	assert.Equal(t, 2*512, n, "a write is torn at a sector")
	_, err = c.ReadAt(sectors(0, 1), 0)
	assert.ErrorIs(t, err, fault.Gone)
	assert.ErrorIs(t, c.Flush(), fault.Gone)
	require.NoError(t, c.Close())

	c = insert(t, Spec{Backing: backing, ReadOnlyAfter: 1 * kb})
	assert.Equal(t, append(sectors(2, 2), sectors(0, 1)...), read(t, c, 8*512, 3), "put in again, it has what it had")
	write(t, c, sectors(3, 2), 0)
	_, err = c.WriteAt(sectors(3, 2), 0)
	assert.ErrorIs(t, err, fault.Locked)
	read(t, c, 0, 4)
}

func TestLazyCardOutlastsItsOpening(t *testing.T) {
	s := Spec{Backing: filepath.Join(t.TempDir(), "data"), Claimed: 2 << 40, Real: 3 * 512, Beyond: Lazy}
	c := insert(t, s)
	write(t, c, sectors(1, 1), 1<<40)
	write(t, c, sectors(2, 1), 0)
	require.NoError(t, c.Close())
	c = insert(t, s)
	write(t, c, sectors(3, 2), 1<<41-1024)
	assert.Equal(t, sectors(1, 1), read(t, c, 1<<40, 1))
	assert.Equal(t, append(sectors(3, 1), sectors(0, 1)...), read(t, c, 1<<41-1024, 2),
		"the fourth sector finds no room")
	write(t, c, sectors(4, 1), 1<<40)
	assert.Equal(t, sectors(4, 1), read(t, c, 1<<40, 1), "what is kept can be written again")
}

func TestChance(t *testing.T) {
	faulty := func(seed uint64) (failures int) {
		c := insert(t, Spec{Seed: seed, Faults: []Fault{{Kind: FailRead, Sector: 3, Chance: 0.25}}})
		for range 400 {
			if _, err := c.ReadAt(sectors(0, 1), 3*512); err != nil {
				failures++
			}
		}
		return failures
	}
	assert.InDelta(t, 100, faulty(1), 40)
	assert.Equal(t, faulty(1), faulty(1), "the same seed, the same luck")
	assert.NotEqual(t, faulty(1), faulty(2))
	c := insert(t, Spec{Real: 24 * kb, Beyond: Drop, Reads: Changing})
	assert.NotEqual(t, read(t, c, 30*kb, 1), read(t, c, 30*kb, 1))
	assert.Equal(t, read(t, c, 0, 1), read(t, c, 0, 1))
}

func TestReaderThatCannotAddressAll(t *testing.T) {
	c := insert(t, Spec{ReaderLimit: 32 * kb})
	write(t, c, sectors(1, 2), 31*kb)
	for _, off := range []int64{31*kb + 512, 32 * kb, 60 * kb} {
		_, err := c.ReadAt(sectors(0, 2), off)
		assert.ErrorIs(t, err, fault.BadPlace, "%d", off)
		_, err = c.WriteAt(sectors(0, 2), off)
		assert.ErrorIs(t, err, fault.BadPlace, "%d", off)
	}
}

// TestPowerCut loses only what was not flushed, by sectors.
func TestPowerCut(t *testing.T) {
	torn := 0
	for seed := range uint64(20) {
		s := Spec{Backing: filepath.Join(t.TempDir(), "data"), PowerCutAfter: 24 * kb, Seed: seed}
		c := insert(t, s)
		write(t, c, sectors(1, 16), 0)
		require.NoError(t, c.Flush())
		write(t, c, sectors(2, 16), 8*kb)
		_, err := c.WriteAt(sectors(3, 16), 8*kb)
		require.ErrorIs(t, err, fault.Gone)
		_, err = c.ReadAt(sectors(0, 1), 0)
		require.ErrorIs(t, err, fault.Gone)
		require.NoError(t, c.Close())
		s.PowerCutAfter = 0
		c = insert(t, s)
		assert.Equal(t, sectors(1, 16), read(t, c, 0, 16), "flushed")
		seen := map[byte]bool{}
		for i := range int64(16) {
			one := read(t, c, 8*kb+i*512, 1)
			require.Contains(t, []byte{0, 2, 3}, one[0])
			require.Equal(t, sectors(one[0], 1), one, "a sector is whole")
			seen[one[0]] = true
		}
		if len(seen) == 3 {
			torn++
		}
	}
	assert.Greater(t, torn, 10)
}

func TestTimesOfACard(t *testing.T) {
	took := func(c *Card, n int) time.Duration {
		start := time.Now()
		write(t, c, sectors(1, n), 0)
		return time.Since(start)
	}
	fading := insert(t, Spec{FadeAfter: 8 * kb, FadeRate: 100e3})
	took(fading, 16)
	assert.GreaterOrEqual(t, took(fading, 16), 80*time.Millisecond, "at the rate that it fades to")
	stalling := insert(t, Spec{StallEvery: 16 * kb, Stall: Duration(60 * time.Millisecond)})
	took(stalling, 16)
	assert.GreaterOrEqual(t, took(stalling, 17), 60*time.Millisecond)
	pulled := insert(t, Spec{GoneAfterTime: Duration(time.Hour)})
	took(pulled, 1)
	pulled = insert(t, Spec{GoneAfterTime: Duration(time.Nanosecond)})
	_, err := pulled.ReadAt(sectors(0, 1), 0)
	assert.ErrorIs(t, err, fault.Gone)
}

func TestPaceIsKeptWithSeveralInFlight(t *testing.T) {
	c := insert(t, Spec{WriteRate: 1e6, Latency: Duration(time.Millisecond)})
	start := time.Now()
	done := make(chan struct{})
	for i := range 4 {
		go func() {
			_, _ = c.WriteAt(sectors(1, 10), int64(i)*5120)
			done <- struct{}{}
		}()
	}
	for range 4 {
		<-done
	}
	assert.GreaterOrEqual(t, time.Since(start), 4*(time.Millisecond+5120*time.Microsecond),
		"never faster than the card")
}

func TestSpecsAreRefusedWithAReason(t *testing.T) {
	for text, why := range map[string]string{
		"colour = 1":                          ErrNotSpec.Error(),
		"":                                    ErrNotSpec.Error(),
		"practice_card = 2":                   "version 2; this program knows version 1",
		"practice_card = 1":                   "backing: no file",
		"practice_card = 1\nclaimed = true":   `"true" is not a size`,
		"practice_card = 1\nspeed = 'x'":      "line 2: speed is not a key",
		"practice_card = 1\nclaimed = '1 QQ'": "line 2",
	} {
		_, err := Parse([]byte(text))
		assert.ErrorContains(t, err, why, text)
	}
	for why, s := range map[string]Spec{
		"less than a sector":   {Claimed: 500},
		"between a sector and": {Claimed: 1024, Real: 2048},
		"512 or 4096":          {Claimed: 1024, Sector: 1000},
		`beyond "melt"`:        {Claimed: 1024, Beyond: "melt"},
		`reads "ones"`:         {Claimed: 1024, Reads: "ones"},
		"fade_after and fade":  {Claimed: 1024, FadeAfter: 512},
		"stall_every and":      {Claimed: 1024, Stall: 1},
		"are not negative":     {Claimed: 1024, GoneAfterTime: -1},
		"chance is from 0":     {Claimed: 1024, Faults: []Fault{{Kind: Flip, Chance: 1.5}}},
		"sectors 1 to 2":       {Claimed: 1024, Faults: []Fault{{Kind: Flip, Sector: 1, Count: 2}}},
		`fault 1: kind "bend"`: {Claimed: 1024, Faults: []Fault{{Kind: "bend"}}},
	} {
		s.Version, s.Backing = Version, "x"
		_, err := s.complete()
		assert.ErrorContains(t, err, why)
	}
}

func TestCreateNeverOverwrites(t *testing.T) {
	dir := t.TempDir()
	path := filepath.Join(dir, "a.card")
	s := Spec{
		Claimed: 64 * kb, Backing: "a.data", Latency: Duration(time.Millisecond), ReadRate: 90e6,
		Faults: []Fault{{Kind: Flip, Sector: 3}},
	}
	require.NoError(t, practiceTwice(path, s))
	got, err := Load(path)
	require.NoError(t, err)
	assert.Equal(t, filepath.Join(dir, "a.data"), got.Backing)
	assert.Equal(t, []any{s.Latency, s.ReadRate, Size(64 * kb)}, []any{got.Latency, got.ReadRate, got.Real})
	assert.Equal(t, []Fault{{Kind: Flip, Sector: 3, Count: 1}}, got.Faults)
	require.NoError(t, os.Remove(path))
	assert.ErrorIs(t, Create(path, s), os.ErrExist, "the backing file is there")
	assert.NoFileExists(t, path)
}

// practiceTwice creates a card, and sees that a second time fails.
func practiceTwice(path string, s Spec) error {
	if err := Create(path, s); err != nil {
		return err
	}
	if err := Create(path, s); !os.IsExist(err) {
		return err
	}
	return nil
}

func TestSizesReadBackAsWritten(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := Size(rapid.Int64Range(0, 1<<50).Draw(t, "n"))
		if rapid.Bool().Draw(t, "round") {
			n = n % 4096 * 1e6
		}
		got, err := ParseSize(n.String())
		if err != nil || got != n && float64(got) != float64(n) {
			t.Fatalf("%d as %q reads as %d, %v", n, n, got, err)
		}
	})
	for text, want := range map[string]Size{
		"64MB": 64e6, "32 GiB": 32 << 30, "500M": 500e6, "4096": 4096, "1.5 kB": 1500, "0.5MiB": 512 * kb,
	} {
		got, err := ParseSize(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, text := range []string{"", "x", "-1MB", "1.0005 kB", "0.1", "1 parsec", "99999999 TB"} {
		_, err := ParseSize(text)
		assert.Error(t, err, text)
	}
}

func FuzzParse(f *testing.F) {
	f.Add([]byte("practice_card = 1\nbacking = 'x'\nclaimed = '64 MB'\n[[fault]]\nkind = 'flip'\nsector = 1\n"))
	f.Fuzz(func(t *testing.T, text []byte) {
		s, err := Parse(text)
		if err != nil {
			return
		}
		if s.Real <= 0 || s.Real > s.Claimed || s.Claimed%Size(s.Sector) != 0 {
			t.Fatalf("%+v", s)
		}
	})
}
