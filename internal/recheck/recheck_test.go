package recheck

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"

	"github.com/klauspost/compress/gzip"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"
	"pgregory.net/rapid"

	"zipstamp/internal/card"
	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
	"zipstamp/internal/testbed"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

const block = digest.BlockSize

// contents is a pattern that repeats nowhere.
func contents(n int, seed uint64) []byte {
	r := rand.New(rand.NewPCG(seed, 4))
	d := make([]byte, (n+7)/8*8)
	for i := 0; i < len(d); i += 8 {
		binary.LittleEndian.PutUint64(d[i:], r.Uint64())
	}
	return d[:n]
}

// insert is a practice card that holds something.
func insert(t cardtest.TB, dir string, holds []byte, s practice.Spec) card.Device {
	t.Helper()
	d, _ := cardtest.Insert(t, dir, s, holds)
	return d
}

// imageOf is a file with an image, as it is or packed.
func imageOf(t cardtest.TB, dir string, img []byte, packed bool) (*image.File, image.Contents) {
	t.Helper()
	var text bytes.Buffer
	if packed {
		z, err := gzip.NewWriterLevel(&text, gzip.NoCompression)
		require.NoError(t, err)
		_, err = z.Write(img)
		require.NoError(t, errors.Join(err, z.Close()))
		img = text.Bytes()
	}
	path := filepath.Join(dir, "disk.img")
	require.NoError(t, os.WriteFile(path, img, 0o600))
	f, err := image.Open(path)
	require.NoError(t, err)
	c, err := f.Look("")
	require.NoError(t, err)
	return f, c
}

// digests fills in what a receipt has of an image, in parts of so many blocks.
func (j *Job) digests(img []byte, per int, head bool) {
	var blocks []digest.Block
	for part := range slices.Chunk(img, block) {
		blocks = append(blocks, digest.SumBlock(part))
	}
	j.Size, j.PartSize = int64(len(img)), int64(per)*block
	for part := range slices.Chunk(blocks, per) {
		j.Parts = append(j.Parts, digest.SumPart(part, per))
	}
	if head {
		j.Head = digest.SumHead(img[:min(block, len(img))])
		for _, b := range blocks[1:min(per, len(blocks))] {
			j.Head = append(j.Head, digest.SumPart([]digest.Block{b}, 1))
		}
	}
}

// TestRecheckFindsWhatDiffersAndNoMore changes bytes of a card by chance, and says to what a difference must be known
// in each way of comparing.
func TestRecheckFindsWhatDiffersAndNoMore(t *testing.T) {
	dir := t.TempDir()
	testbed.Check(t, 25, func(t *rapid.T) {
		img := contents(rapid.IntRange(1024, 5*block+9999).Draw(t, "size"), 1)
		img[510], img[511] = 0x55, 0xAA
		holds := append(slices.Clone(img), contents(block-len(img)%block, 2)...)
		var changed []int
		for range rapid.IntRange(0, 6).Draw(t, "changes") {
			at := rapid.IntRange(0, len(holds)-1).Draw(t, "at")
			for i := at; i < min(at+rapid.SampledFrom([]int{1, 700, block + 1}).Draw(t, "length"), len(holds)); i++ {
				if i != 510 && i != 511 {
					holds[i] = ^img[min(i, len(img)-1)]
				}
				changed = append(changed, i)
			}
		}
		job := Job{Meter: &meter.Meter{}}
		head, per := false, 0
		if rapid.Bool().Draw(t, "image") {
			job.Image, job.Contents = imageOf(t, dir, img, rapid.Bool().Draw(t, "packed"))
			defer job.Image.Close()
		} else {
			head, per = rapid.Bool().Draw(t, "head"), rapid.IntRange(1, 4).Draw(t, "blocks a part")
			job.digests(img, per, head)
		}
		unitAt := func(at int) int { // what a difference is known to
			switch {
			case job.Image != nil:
				return unit
			case head && at < block:
				return digest.HeadPiece
			case head && at < per*block:
				return block
			}
			return per * block
		}
		// Bytes that must be called different.
		want := make([]bool, len(img))
		for _, at := range changed {
			if at >= len(img) || at == 510 || at == 511 {
				continue
			}
			u := unitAt(at)
			for i := at / u * u; i < min(at/u*u+u, len(img)) && !want[i]; i++ {
				want[i] = true
			}
		}
		dev := insert(t, dir, holds, practice.Spec{})
		defer dev.Close()
		job.Device = dev
		rep, err := job.Run(context.Background())
		require.NoError(t, err)
		require.Equal(t, int64(len(img)), rep.Compared)
		got := make([]bool, len(img))
		end := int64(-1)
		for _, e := range rep.Differs {
			require.Greater(t, e.Offset, end, "in order, and joined where they touch")
			end = e.End()
			for i := e.Offset; i < e.End(); i++ {
				got[i] = true
			}
		}
		require.True(t, slices.Equal(want, got))
		sum := int64(0)
		for _, a := range rep.Areas {
			sum += a.Bytes
		}
		require.Equal(t, rep.Bytes(), sum, "every difference is in a place")
		require.Equal(t, !slices.Contains(want, true), rep.Same())
	})
}

// TestOneStretchIsNotAllOfAStart: where a start changed something, what lies beside it, and differs too, is damage.
func TestOneStretchIsNotAllOfAStart(t *testing.T) {
	img := contents(10*block, 3)
	clear(img[:512])
	entry := func(i int, kind byte, from, to int) {
		e := img[446+16*i:]
		e[4] = kind
		binary.LittleEndian.PutUint32(e[8:], uint32(from/512))
		binary.LittleEndian.PutUint32(e[12:], uint32((to-from)/512))
	}
	entry(0, 0x82, block, 2*block)
	entry(1, 0x83, 2*block, 10*block)
	img[510], img[511] = 0x55, 0xAA
	clear(img[block : block+4096])
	copy(img[block+4096-10:], "SWAPSPACE2")
	for _, per := range []int{1, 2, 4} {
		job := Job{Meter: &meter.Meter{}}
		job.digests(img, per, true)
		holds := slices.Clone(img)
		holds[440]++ // the number of the disk
		clear(holds[block+8192 : 2*block])
		run := func() *Report {
			job.Device = insert(t, t.TempDir(), holds, practice.Spec{})
			defer job.Device.Close()
			rep, err := job.Run(context.Background())
			require.NoError(t, err)
			return rep
		}
		rep := run()
		assert.True(t, rep.Started(), "%+v", rep.Areas)
		clear(holds[2*block : 7*block])
		rep = run()
		require.Len(t, rep.Differs, 2, "the second goes from the swap space into what is behind it")
		assert.False(t, rep.Started(), "%d blocks in a part", per)
		last := rep.Areas[len(rep.Areas)-1]
		assert.Equal(t, Place{What: Partition, Partition: 2}, last.Place)
		assert.GreaterOrEqual(t, last.Bytes, int64(5*block)-int64(per-1)*block)
	}
}

// TestRecheckOfCardsThatFail tells what could not be read, and ends where that makes no sense any more.
func TestRecheckOfCardsThatFail(t *testing.T) {
	img := contents(40*block, 5)
	img[510], img[511] = 0x55, 0xAA
	run := func(ctx context.Context, size int, s practice.Spec, digests bool) (*Report, error) {
		dir := t.TempDir()
		job := Job{Meter: &meter.Meter{}, Device: insert(t, dir, img[:size], s)}
		defer job.Device.Close()
		if digests {
			job.digests(img, 2, true)
		} else {
			job.Image, job.Contents = imageOf(t, dir, img, false)
			defer job.Image.Close()
		}
		return job.Run(ctx)
	}
	for _, digests := range []bool{false, true} {
		bad := practice.Fault{Kind: practice.FailRead, Sector: 3*block/512 + 7}
		rep, err := run(context.Background(), len(img), practice.Spec{Faults: []practice.Fault{bad}}, digests)
		require.NoError(t, err)
		assert.Equal(t, []layout.Extent{{Offset: 3 * block, Length: block}}, rep.Failed)
		assert.Empty(t, rep.Differs)
		assert.False(t, rep.Same() || rep.Started())
		require.Len(t, rep.Areas, 1)
		assert.Equal(t, int64(block), rep.Areas[0].Bytes)

		bad.Count = int64(len(img))/512 - bad.Sector
		rep, err = run(context.Background(), len(img), practice.Spec{Faults: []practice.Fault{bad}}, digests)
		require.ErrorAs(t, err, new(*card.IOError), "a card of which nothing can be read is given up")
		assert.Len(t, rep.Failed, maxReadErrors)

		_, err = run(context.Background(), len(img), practice.Spec{GoneAfter: 9 * block}, digests)
		require.ErrorAs(t, err, new(*card.GoneError))

		var short *ShortError
		_, err = run(context.Background(), 39*block, practice.Spec{}, digests)
		require.ErrorAs(t, err, &short)
		assert.Equal(t, ShortError{39 * block, 40 * block}, *short)

		stopped := errors.New("stopped")
		ctx, cancel := context.WithCancelCause(context.Background())
		cancel(stopped)
		_, err = run(ctx, len(img), practice.Spec{}, digests)
		require.ErrorIs(t, err, stopped)
	}
	job := Job{Meter: &meter.Meter{}, Device: insert(t, t.TempDir(), img, practice.Spec{})}
	defer job.Device.Close()
	job.digests(img, 1, false)
	job.Parts = job.Parts[1:]
	_, err := job.Run(context.Background())
	require.ErrorContains(t, err, "digests of 39 parts of the image, which has 40")
}
