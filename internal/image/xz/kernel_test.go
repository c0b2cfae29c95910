//go:build (amd64 || arm64) && !purego

package xz

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// compareKernel unpacks LZMA2 in assembler and in Go, chunk by chunk, and says where they differ in anything.
func compareKernel(data []byte, dict int64) error {
	var fast, plain lzma2
	fast.prepare(dict, -1, false)
	plain.prepare(dict, -1, false)
	a, b := bytes.NewReader(data), bytes.NewReader(data)
	drop := func([]byte) error { return nil }
	for n := 0; ; n++ {
		control, size, limit, err := fast.next(a, drop)
		_, _, _, errPlain := plain.next(b, drop)
		if !errors.Is(errPlain, err) {
			return fmt.Errorf("chunk %d: %w, and %w", n, err, errPlain)
		}
		if err != nil || control == 0 {
			return nil
		}
		if size == 0 {
			continue
		}
		// what the last chunk's copies ran on to may differ
		from, end := fast.pos, limit+windowTail
		around := func(z *lzma2) [2][]byte { // what must stay as it is
			return [2][]byte{z.window[max(0, from-4096):from], z.window[end:min(end+4096, len(z.window))]}
		}
		clear(fast.window[from:])
		clear(plain.window[from:])
		before := around(&fast)
		before = [2][]byte{bytes.Clone(before[0]), bytes.Clone(before[1])}
		good := fast.unpack((*lzma2).chunk, size, limit)
		if other := plain.unpack((*lzma2).chunkPlain, size, limit); good != other {
			return fmt.Errorf("chunk %d: assembler %v, Go %v", n, good, other)
		}
		if after := around(&fast); !bytes.Equal(before[0], after[0]) || !bytes.Equal(before[1], after[1]) {
			return fmt.Errorf("chunk %d: something outside was written to", n)
		}
		if !good {
			return nil
		}
		if fast.pos != plain.pos || fast.model != plain.model ||
			!bytes.Equal(fast.window[:limit], plain.window[:limit]) {
			return fmt.Errorf("chunk %d: they differ", n)
		}
	}
}

// FuzzKernel compares the assembler with Go on any bytes.
func FuzzKernel(f *testing.F) {
	f.Add(chunks(f, program(3000)))
	f.Add(chunks(f, bytes.Repeat([]byte("tide table "), 1000)))
	f.Add(chunks(f, make([]byte, 5000)))
	f.Fuzz(func(t *testing.T, data []byte) {
		if len(data) > 4096 {
			return // each few bytes may give 2 MiB
		}
		if err := compareKernel(data, 1<<16); err != nil {
			t.Fatal(err)
		}
	})
}

// TestKernel compares the assembler with Go on what the reference tool packs, with any properties, whole and damaged.
func TestKernel(t *testing.T) {
	self, err := os.ReadFile("/proc/self/exe") // a real program
	if err != nil {
		self = program(4 << 20)
	}
	self = self[:min(len(self), 2<<20)]
	var files [][]byte
	for _, properties := range []string{
		"6", "1,lc=0,lp=4,pb=4", "1,lc=4,lp=0,pb=0", "1,lc=1,lp=2,pb=3,nice=273", "1,mode=fast,mf=hc3",
	} {
		data := packed(t, self, "--format=raw", "--lzma2=preset="+properties+",dict=1MiB")
		require.NoError(t, compareKernel(data, 1<<20), properties)
		require.NoError(t, compareKernel(data, 1<<12), "%s: distances beyond the dictionary", properties)
		files = append(files, data)
	}
	rapid.Check(t, func(t *rapid.T) {
		data := rapid.SampledFrom(files).Draw(t, "file")
		at := rapid.IntRange(0, min(len(data), 60_000)-1).Draw(t, "at")
		damaged := bytes.Clone(data[:min(len(data), at+1<<16)])
		damaged[at] ^= byte(1 << rapid.IntRange(0, 7).Draw(t, "bit"))
		if err := compareKernel(damaged, 1<<20); err != nil {
			t.Fatal(err)
		}
	})
}

// BenchmarkChunks unpacks a program in assembler and in Go, on one core, without check values.
func BenchmarkChunks(b *testing.B) {
	self, err := os.ReadFile("/proc/self/exe")
	require.NoError(b, err)
	data := packed(b, self, "--format=raw", "--lzma2=preset=6")
	for name, chunk := range map[string]func(z *lzma2, size, limit int) bool{
		"assembler": (*lzma2).chunk, "go": (*lzma2).chunkPlain,
	} {
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(self)))
			for b.Loop() {
				var z lzma2
				z.prepare(8<<20, -1, false)
				r := bytes.NewReader(data)
				for {
					control, size, limit, err := z.next(r, func([]byte) error { return nil })
					if control == 0 {
						require.NoError(b, err)
						break
					}
					require.True(b, size == 0 || z.unpack(chunk, size, limit))
				}
			}
		})
	}
}
