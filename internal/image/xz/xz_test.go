package xz

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	ulikunitz "github.com/ulikunitz/xz"
	"github.com/ulikunitz/xz/lzma"
	"go.uber.org/goleak"
	"pgregory.net/rapid"

	"zipstamp/internal/testbed"
)

// checks are the check values that a stream may have.
var checks = []byte{ulikunitz.None, ulikunitz.CRC32, ulikunitz.CRC64, ulikunitz.SHA256}

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// program is n bytes that look like a program to the filters, with text, zeros and noise.
func program(n int) []byte {
	r := rand.New(rand.NewPCG(3, 3))
	d := make([]byte, n)
	for i := 0; i+8 < n*3/4; i += 4 {
		switch r.IntN(6) {
		case 0:
			d[i], d[i+4] = 0xE8+byte(r.IntN(2)), byte(r.IntN(2)*255) // x86
		case 1:
			d[i+3] = 0xEB // ARM
		case 2:
			d[i+1], d[i+3] = 0xF0+byte(r.IntN(8)), 0xF8+byte(r.IntN(8)) // ARM-Thumb
		case 3:
			d[i+3] = 0x94 + byte(r.IntN(4)) // ARM64
		case 4:
			d[i+3] = 0x90 + byte(r.IntN(4))<<5
		case 5:
			copy(d[i:], "tide")
		}
		d[i+2] ^= byte(r.Uint32())
	}
	return d
}

// packed runs the reference tool on data.
func packed(t testing.TB, data []byte, options ...string) []byte {
	t.Helper()
	testbed.NeedTool(t, "xz")
	cmd := exec.Command("xz", append([]string{"-c"}, options...)...)
	cmd.Stdin = bytes.NewReader(data)
	cmd.Stderr = os.Stderr
	out, err := cmd.Output()
	require.NoError(t, err, options)
	return out
}

func unpacked(file []byte, o Options) ([]byte, error) {
	r := NewReader(bufio.NewReaderSize(bytes.NewReader(file), 16), o)
	defer r.Close()
	return io.ReadAll(r)
}

// ways are all ways to unpack one file.
func ways(t *testing.T, file []byte) map[string]Options {
	index, err := ReadIndex(bytes.NewReader(file), int64(len(file)))
	require.NoError(t, err)
	return map[string]Options{
		"one at a time":              {},
		"side by side":               {Lanes: 3},
		"side by side, by the index": {Lanes: 3, Index: &index},
		"too large for side by side": {Lanes: 3, Index: &index, Memory: 4096},
	}
}

func TestUnpacksWhatTheReferencePacks(t *testing.T) {
	short, long := program(400_013), program(3<<19+13)
	for _, options := range []string{
		"", "-0", "-9e", "-T2", "--block-size=300000", "-T2 --block-size=256KiB", "-C none", "-C crc32", "-C sha256",
		"--lzma2=preset=1,lc=0,lp=4,pb=0", "--lzma2=preset=3,lc=4,lp=0,pb=4", "--lzma2=dict=4KiB,nice=273",
		"--lzma2=preset=6,mode=fast,mf=hc3,dict=1536KiB", "--x86 --lzma2", "--arm --lzma2", "--armthumb --lzma2",
		"--arm64 --lzma2", "--powerpc --lzma2", "--sparc --lzma2", "--ia64 --lzma2",
		"--ia64=start=4096 --lzma2 --block-size=70000", "--delta=dist=3 --lzma2", "--delta=dist=256 --x86 --lzma2",
		"--x86=start=4096 --lzma2 --block-size=70000", "--arm64=start=65536 --delta --lzma2 -T2 --block-size=256KiB",
	} {
		data := short
		if options == "" || strings.Contains(options, "dict=") { // the dictionary is to be shorter than the data
			data = long
		}
		file := packed(t, data, strings.Fields(options)...)
		for way, o := range ways(t, file) {
			got, err := unpacked(file, o)
			require.NoError(t, err, "%s: %s", options, way)
			require.True(t, bytes.Equal(data, got), "%s: %s", options, way)
		}
	}
	for _, data := range [][]byte{nil, {1}, make([]byte, 3<<20)} {
		got, err := unpacked(packed(t, data), Options{})
		require.NoError(t, err)
		require.True(t, bytes.Equal(data, got))
	}
}

// TestRISCV has files of release 5.8 of the reference tool: older ones don't know the filter.
func TestRISCV(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 11))
	data := make([]byte, 40000)
	for i := 0; i < len(data); i += 2 {
		data[i], data[i+1] = byte(r.Uint32()), byte(r.Uint32())
		switch r.IntN(8) {
		case 0:
			data[i], data[i+1] = 0xEF, data[i+1]&0xF2
		case 1:
			data[i] = data[i]&0x80 | 0x17
		}
	}
	for _, name := range []string{"testdata/riscv.xz", "testdata/riscv-delta.xz"} {
		file, err := os.ReadFile(name)
		require.NoError(t, err)
		for way, o := range ways(t, file) {
			got, err := unpacked(file, o)
			require.NoError(t, err, way)
			assert.True(t, bytes.Equal(data, got), way)
		}
	}
}

func TestStreamsAndPadding(t *testing.T) {
	data := program(300_000)
	one, two := packed(t, data, "--block-size=64KiB"), packed(t, data, "-C", "sha256")
	file := bytes.Join([][]byte{one, make([]byte, 8), two, one, make([]byte, 4)}, nil)
	index, err := ReadIndex(bytes.NewReader(file), int64(len(file)))
	require.NoError(t, err)
	assert.Equal(t, []int64{3, 11, 900_000}, []int64{int64(index.Streams), index.Blocks, index.Unpacked})
	for way, o := range ways(t, file) {
		got, err := unpacked(file, o)
		require.NoError(t, err, way)
		assert.True(t, bytes.Equal(bytes.Repeat(data, 3), got), way)
	}
	for what, broken := range map[string][]byte{
		"padding of 3 bytes": append(bytes.Clone(one), 0, 0, 0),
		"rubbish behind":     append(bytes.Clone(one), "rubbish!"...),
	} {
		_, err := unpacked(broken, Options{})
		assert.Error(t, err, what)
		_, err = ReadIndex(bytes.NewReader(broken), int64(len(broken)))
		assert.Error(t, err, what)
	}
}

// TestNoDamageIsOverlooked cuts a file at each place, and changes each of its bits.
func TestNoDamageIsOverlooked(t *testing.T) {
	data := program(1500)
	file := packed(t, data, "--block-size=600", "-C", "crc64")
	options := []Options{{Lanes: 2}}
	if testbed.Long() {
		options = append(options, Options{})
	}
	check := func(what string, broken []byte) {
		for _, o := range options {
			got, err := unpacked(broken, o)
			if err == nil {
				assert.True(t, bytes.Equal(data, got), what)
				assert.NotContains(t, what, "cut", what)
			} else {
				require.ErrorAs(t, err, new(*Error), what)
			}
			if strings.Contains(what, "cut") {
				assert.ErrorIs(t, err, io.ErrUnexpectedEOF, what)
			}
		}
	}
	for at := range file {
		check(fmt.Sprintf("cut at %d", at), file[:at])
		for bit := range 8 {
			broken := bytes.Clone(file)
			broken[at] ^= 1 << bit
			check(fmt.Sprintf("bit %d of byte %d", bit, at), broken)
		}
	}
}

func TestErrorsOfReadingComeThrough(t *testing.T) {
	file := packed(t, program(2<<20), "-T2", "--block-size=256KiB")
	pulled := errors.New("pulled out")
	for _, lanes := range []int{1, 3} {
		for _, after := range []int{3, 20, 1000, len(file) - 5} {
			r := NewReader(bufio.NewReaderSize(io.MultiReader(bytes.NewReader(file[:after]), errReader{pulled}), 16),
				Options{Lanes: lanes})
			_, err := io.Copy(io.Discard, r)
			assert.ErrorIs(t, err, pulled)
			require.NoError(t, r.Close())
		}
		r := NewReader(bufio.NewReader(bytes.NewReader(file)), Options{Lanes: lanes})
		_, err := io.ReadFull(r, make([]byte, 100))
		require.NoError(t, err)
		require.NoError(t, r.Close(), "closed long before its end; no goroutine is left (see TestMain)")
	}
}

type errReader struct{ err error }

func (r errReader) Read([]byte) (int, error) { return 0, r.err }

func TestWhatIsRefused(t *testing.T) {
	data := program(100_000)
	_, err := unpacked(packed(t, data, "--lzma2=dict=1536MiB"), Options{})
	var u *UnsupportedError
	require.ErrorAs(t, err, &u)
	assert.Equal(t, int64(1536<<20), u.Dict)
}

// chunks packs data as LZMA2 with the library.
func chunks(t testing.TB, data []byte) []byte {
	var b bytes.Buffer
	w, err := lzma.Writer2Config{DictCap: 1 << 16}.NewWriter2(&b)
	require.NoError(t, err)
	_, err = w.Write(data)
	require.NoError(t, err)
	require.NoError(t, w.Close())
	return b.Bytes()
}

// run unpacks bare LZMA2.
func run(data []byte, dict int64, unpacked int64, whole bool) ([]byte, error) {
	var z lzma2
	z.prepare(dict, unpacked, whole)
	var out []byte
	err := z.run(bytes.NewReader(data), func(p []byte) error {
		out = append(out, p...)
		return nil
	})
	return out, err
}

func TestDictionaryResetWithinABlock(t *testing.T) {
	a, b := program(3<<20), bytes.Repeat([]byte("tide table "), 1000)
	first := chunks(t, a)
	stream := append(first[:len(first)-1], chunks(t, b)...)
	for _, whole := range []bool{false, true} {
		got, err := run(stream, 1<<16, int64(len(a)+len(b)), whole)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(append(bytes.Clone(a), b...), got))
	}
	// what comes after the reset must not reach back beyond it
	tail := chunks(t, b)
	tail[0] = tail[0]&0x1F | 0xC0 // new properties and state, the dictionary stays
	_, err := run(append(bytes.Clone(first[:len(first)-1]), tail...), 1<<16, -1, false)
	require.NoError(t, err)
	_, err = run(tail, 1<<16, -1, false)
	assert.Equal(t, errData, err, "the first chunk must reset the dictionary")
	_, err = run(chunks(t, append(program(9000), program(9000)...)), 4096, -1, false)
	assert.Equal(t, errData, err, "a distance beyond the dictionary")
}

// TestNothingBeforeADictionaryIsCopied has chunks that are well formed, but for what they copy.
func TestNothingBeforeADictionaryIsCopied(t *testing.T) {
	// the first symbol of all is a match of one byte at the last distance: bits 1, 1, 0, 0, all of even odds
	_, err := run([]byte{0xE0, 0, 0, 0, 4, 0x5D, 0, 0xBF, 0xFF, 0xFC, 0, 0}, 1<<16, -1, false)
	assert.Equal(t, errData, err)

	// noise lies between a text and its copy, which is packed without regard to bytes and positions before; the
	// length is so that all of the copy is matches of many bytes
	r := rand.New(rand.NewPCG(5, 5))
	text, noise := program(273*100), make([]byte, 300_000)
	for i := range noise {
		noise[i] = byte(r.Uint32())
	}
	data := slices.Concat(text, noise, text)
	good := packed(t, data, "--format=raw", "--lzma2=lc=0,lp=0,pb=0,dict=1MiB")
	got, err := run(good, 1<<20, -1, false)
	require.NoError(t, err)
	require.True(t, bytes.Equal(data, got))
	at, stored := 0, false
	for !stored || good[at] < 0x80 { // the first chunk that is packed again
		size := int(good[at+1])<<8 + int(good[at+2]) + 4
		if stored = good[at] < 0x80; !stored {
			size = int(good[at+3])<<8 + int(good[at+4]) + 6
			if good[at] >= 0xC0 {
				size++
			}
		}
		at += size
	}
	require.EqualValues(t, 0xA0, good[at]&^0x1F, "it resets the state alone")
	reset := slices.Concat(good[:at], []byte{good[at] | 0xE0}, good[at+1:at+5], []byte{0}, good[at+5:])
	_, err = run(reset, 1<<20, -1, false)
	assert.Equal(t, errData, err, "a dictionary that starts at the copy")
}

func FuzzIndex(f *testing.F) {
	f.Add([]byte("\xfd7zXZ\x00\x00\x04\xe6\xd6\xb4\x46\x00\x00\x00\x00" +
		"\x1c\xdf\x44\x21\x1f\xb6\xf3\x7d\x01\x00\x00\x00\x00\x04YZ"))
	f.Fuzz(func(t *testing.T, data []byte) {
		index, err := ReadIndex(bytes.NewReader(data), int64(len(data)))
		if err == nil && (index.Unpacked < 0 || index.Blocks < int64(len(index.blocks))) {
			t.Fatalf("%+v, %v", index, err)
		}
	})
}

// FuzzLZMA2 compares our decoder with the library's, on bare LZMA2, which has no checks that would keep most data out.
func FuzzLZMA2(f *testing.F) {
	f.Add(chunks(f, program(3000)))
	f.Add(chunks(f, []byte("tide tide tide tide")))
	f.Add([]byte{1, 0, 3, 't', 'i', 'd', 'e', 0})
	f.Fuzz(func(t *testing.T, data []byte) {
		const dict = 1 << 16
		if len(data) > 4096 {
			return // each few bytes may give 2 MiB
		}
		ours, err := run(data, dict, -1, false)
		again, errWhole := run(data, dict, int64(len(ours)), true)
		if err == nil && (errWhole != nil || !bytes.Equal(ours, again)) {
			t.Fatalf("a window of its own: %v; one that slides: %v", errWhole, err)
		}
		r, _ := lzma.Reader2Config{DictCap: dict}.NewReader2(bytes.NewReader(data))
		theirs, errTheirs := io.ReadAll(r)
		// the library is less strict about the end of a chunk, so the other way round proves nothing
		if err == nil && (errTheirs != nil || !r.EOS() || !bytes.Equal(ours, theirs)) {
			t.Fatalf("ours: %d bytes; the library: %d bytes, %v", len(ours), len(theirs), errTheirs)
		}
	})
}

// FuzzFile feeds any bytes to the whole reader, one at a time and side by side: both must agree.
func FuzzFile(f *testing.F) {
	for _, options := range []string{
		"", "-C none", "--block-size=1000 -T2 -C none", "--x86 --lzma2 -C none", "--arm64 --delta --lzma2 -C crc32",
	} {
		if _, err := exec.LookPath("xz"); err == nil {
			f.Add(packed(f, program(3000), strings.Fields(options)...))
		}
	}
	f.Fuzz(func(t *testing.T, data []byte) {
		one, err := unpacked(data, Options{DictMax: 1 << 20})
		two, errTwo := unpacked(data, Options{DictMax: 1 << 20, Lanes: 2})
		if (err == nil) != (errTwo == nil) || err == nil && !bytes.Equal(one, two) {
			t.Fatalf("one at a time: %d bytes, %v; side by side: %d bytes, %v", len(one), err, len(two), errTwo)
		}
	})
}

// TestWhatTheLibraryPacks has any data, packed with any properties, in any blocks.
func TestWhatTheLibraryPacks(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var data []byte
		for range rapid.IntRange(0, 12).Draw(t, "pieces") {
			piece := rapid.SliceOfN(rapid.Byte(), 1, 300).Draw(t, "piece")
			data = append(data, bytes.Repeat(piece, rapid.IntRange(1, 400).Draw(t, "times"))...)
			if from := len(data) - rapid.IntRange(1, len(data)).Draw(t, "back"); rapid.Bool().Draw(t, "again") {
				data = append(data, data[from:]...)
			}
		}
		lc := rapid.IntRange(0, 4).Draw(t, "lc")
		config := ulikunitz.WriterConfig{
			Properties: &lzma.Properties{
				LC: lc, LP: rapid.IntRange(0, 4-lc).Draw(t, "lp"), PB: rapid.IntRange(0, 4).Draw(t, "pb"),
			},
			DictCap:   1 << rapid.IntRange(12, 20).Draw(t, "dictionary"),
			BlockSize: int64(rapid.IntRange(5_000, 500_000).Draw(t, "block")),
			CheckSum:  rapid.SampledFrom(checks).Draw(t, "check"),
		}
		var file bytes.Buffer
		w, err := config.NewWriter(&file)
		require.NoError(t, err)
		_, err = w.Write(data)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		index, err := ReadIndex(bytes.NewReader(file.Bytes()), int64(file.Len()))
		require.NoError(t, err)
		require.EqualValues(t, len(data), index.Unpacked)
		got, err := unpacked(file.Bytes(), Options{Lanes: rapid.IntRange(1, 4).Draw(t, "lanes"), Index: &index})
		require.NoError(t, err)
		require.True(t, bytes.Equal(data, got))
		if len(data) == 0 {
			return
		}
		off := rapid.Int64Range(0, int64(len(data)-1)).Draw(t, "offset")
		block, start, ok := index.Find(off)
		require.True(t, ok)
		r := NewBlockReader(bytes.NewReader(file.Bytes()), &index, block)
		defer r.Close()
		part, err := io.ReadAll(r)
		require.NoError(t, err)
		require.True(t, start <= off && off < start+int64(len(part)) &&
			bytes.Equal(data[start:start+int64(len(part))], part))
	})
}
