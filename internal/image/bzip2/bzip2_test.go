package bzip2

import (
	"bufio"
	"bytes"
	standard "compress/bzip2"
	"io"
	"math/rand/v2"
	"os/exec"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"zipstamp/internal/testbed"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

func packed(t testing.TB, data []byte, level string) []byte {
	t.Helper()
	testbed.NeedTool(t, "bzip2")
	cmd := exec.Command("bzip2", "-c", level)
	cmd.Stdin = bytes.NewReader(data)
	out, err := cmd.Output()
	require.NoError(t, err)
	return out
}

func unpacked(file []byte, workers int) ([]byte, error) {
	r := NewReader(bufio.NewReader(bytes.NewReader(file)), workers, nil)
	defer r.Close()
	return io.ReadAll(r)
}

func TestUnpacksWhatTheReferencePacks(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 2))
	data := make([]byte, 2_300_000)
	for i := range data[:1_500_000] {
		data[i] = byte(r.IntN(1 + i/10_000))
	}
	for _, level := range []string{"-1", "-5", "-9"} {
		one := packed(t, data, level)
		for _, workers := range []int{1, 3} {
			got, err := unpacked(one, workers)
			require.NoError(t, err, level)
			assert.True(t, bytes.Equal(data, got), level)
		}
	}
	empty, one := packed(t, nil, "-9"), packed(t, data[:1000], "-1")
	got, err := unpacked(bytes.Join([][]byte{one, empty, one}, nil), 2)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(append(bytes.Clone(data[:1000]), data[:1000]...), got))
}

// TestAMarkWithinABlock splits a block where there is no mark, as if there were one.
func TestAMarkWithinABlock(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 3))
	data := make([]byte, 50_000)
	for i := range data {
		data[i] = byte(r.IntN(200))
	}
	file := packed(t, data, "-9")
	whole := &block{level: '9', data: file[headSize:], end: (len(file) - headSize - 10) * 8}
	for whole.bitsAt(whole.end, 24) != endMark>>24 || whole.bitsAt(whole.end+24, 24) != endMark&0xFFFFFF {
		whole.end--
	}
	for _, at := range []int{8000, 8003, 100_001} {
		first := &block{
			level: '9', data: file[headSize : headSize+(at+markBits+7)/8], end: at, next: make(chan *block, 1),
			settled: make(chan struct{}),
		}
		second := &block{
			level: '9', data: file[headSize+at/8:], skip: at % 8, end: whole.end - at/8*8, before: first,
			next: make(chan *block), settled: make(chan struct{}),
		}
		first.next <- second
		close(second.next)
		var got bytes.Buffer
		require.NoError(t, first.unpack(&got))
		require.NoError(t, second.unpack(&got))
		assert.True(t, bytes.Equal(data, got.Bytes()))
		assert.Equal(t, []int{1, -1}, []int{first.took, second.took})
	}
}

func TestNoDamageIsOverlooked(t *testing.T) {
	r := rand.New(rand.NewPCG(2, 4))
	data := make([]byte, 210_000)
	for i := range data {
		data[i] = byte(r.IntN(4)) * byte(r.IntN(2))
	}
	file := packed(t, data, "-1")
	for range 150 {
		broken := bytes.Clone(file)
		broken[r.IntN(len(broken))] ^= 1 << r.IntN(8)
		if got, err := unpacked(broken, 2); err == nil {
			assert.True(t, bytes.Equal(data, got))
		}
		_, err := unpacked(file[:r.IntN(len(file))], 2)
		assert.Error(t, err)
	}
}

// FuzzSplitting compares what comes out with that of the standard library's decoder, which splits nothing.
func FuzzSplitting(f *testing.F) {
	if _, err := exec.LookPath("bzip2"); err == nil {
		f.Add(packed(f, []byte("tide tide tide tide"), "-1"))
		f.Add(append(packed(f, []byte("tide"), "-9"), packed(f, nil, "-9")...))
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		ours, err := unpacked(data, 2)
		theirs, errTheirs := io.ReadAll(bufio.NewReader(newStandard(data)))
		if err == nil && (errTheirs != nil || !bytes.Equal(ours, theirs)) {
			t.Fatalf("ours: %d bytes; the standard library: %d bytes, %v", len(ours), len(theirs), errTheirs)
		}
	})
}

func newStandard(data []byte) io.Reader { return standard.NewReader(bytes.NewReader(data)) }
