package image

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"compress/gzip"
	"encoding/binary"
	"fmt"
	"hash/crc32"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// fileOf writes data to a file.
func fileOf(t *testing.T, data []byte) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "x")
	require.NoError(t, os.WriteFile(path, data, 0o600))
	return path
}

// isUnusable tells whether an error is this one, whatever the file's path.
func isUnusable(t *testing.T, err error, want UnusableError) {
	t.Helper()
	var unusable *UnusableError
	if assert.ErrorAs(t, err, &unusable) {
		assert.NotEmpty(t, unusable.Path)
		want.Path = unusable.Path
		assert.Equal(t, want, *unusable)
	}
}

// refused unpacks a file that must be refused, for a reason, and without much memory.
func refused(t *testing.T, path string, want UnusableError) {
	t.Helper()
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	_, _, _, err := unpack(path, "")
	runtime.ReadMemStats(&after)
	isUnusable(t, err, want)
	assert.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(100<<20), "bytes of memory")
}

func TestMoreMemoryThanIsSensibleIsRefused(t *testing.T) {
	d := disk(100_000)
	refused(t, pack(t, d, "xz -k --lzma2=dict=1536MiB disk.img", "disk.img.xz"), UnusableError{
		Why: NeedsMemory, Bytes: 1536 << 20, Most: windowMax,
	})
	refused(t, pack(t, d, "cat disk.img | zstd -q --long=31 > x", "x"), UnusableError{
		Why: NeedsMemory, Most: windowMax,
	})
	lzma, err := os.ReadFile(pack(t, d, "xz --format=lzma -c disk.img > x", "x"))
	require.NoError(t, err)
	binary.LittleEndian.PutUint32(lzma[1:], 0xC0000000)
	refused(t, fileOf(t, lzma), UnusableError{Why: NeedsMemory, Bytes: 3072 << 20, Most: windowMax})
}

func TestEndlessMembersAreRefused(t *testing.T) {
	d := disk(2000)
	whole, err := os.ReadFile(pack(t, d, "zip -q x.zip disk.img", "x.zip"))
	require.NoError(t, err)
	end := bytes.LastIndex(whole, []byte("PK\x05\x06"))
	binary.LittleEndian.PutUint32(whole[end+12:], 0x7FFFFFF0) // the directory's size
	refused(t, fileOf(t, whole), UnusableError{Why: ManyMembers, Count: membersMax})
	// what follows the end hides nothing
	refused(t, fileOf(t, append(whole, 1, 2, 3)), UnusableError{Why: ManyMembers, Count: membersMax})

	// a directory of more records than it says: of their number, the end record has 16 bits
	record := append(append([]byte("PK\x01\x02"), make([]byte, 42)...), 'a')
	record[28] = 1
	directory := bytes.Repeat(record, 2<<16|1)
	last := append([]byte("PK\x05\x06"), make([]byte, zipEndSize-4)...)
	last[8], last[10] = 1, 1
	binary.LittleEndian.PutUint32(last[16:], 4)
	refused(t, fileOf(t, slices.Concat([]byte("PK\x03\x04"), directory, last)), UnusableError{
		Why: ManyMembers, Count: membersMax,
	})

	var many bytes.Buffer
	z := gzip.NewWriter(&many)
	w := tar.NewWriter(z)
	for i := range membersMax + 10 {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: fmt.Sprint(i), Typeflag: tar.TypeReg, Mode: 0o600}))
	}
	require.NoError(t, w.Close())
	require.NoError(t, z.Close())
	_, _, _, err = unpack(fileOf(t, many.Bytes()), "")
	isUnusable(t, err, UnusableError{Why: ManyMembers, Count: membersMax})

	// a packed 7z header that says that it unpacks to 64 GiB: kEncodedHeader, ..., kCodersUnpackSize, a number of 6
	// bytes, kEnd
	header := []byte{0x17, 6, 0, 1, 9, 20, 0, 7, 0x0B, 1, 0, 1, 0x21, 0x21, 1, 0, 0x0C, 0xF8, 0, 0, 0, 0, 0x10, 0, 0}
	start := make([]byte, sevenZipStart, 200)
	copy(start, "7z\xbc\xaf\x27\x1c\x00\x04")
	binary.LittleEndian.PutUint64(start[20:], uint64(len(header)))
	binary.LittleEndian.PutUint32(start[28:], crc32.ChecksumIEEE(header))
	binary.LittleEndian.PutUint32(start[8:], crc32.ChecksumIEEE(start[12:]))
	refused(t, fileOf(t, append(start, header...)), UnusableError{Why: ManyMembers, Count: membersMax})
	binary.LittleEndian.PutUint64(start[20:], 1<<40)
	binary.LittleEndian.PutUint32(start[8:], crc32.ChecksumIEEE(start[12:]))
	_, _, _, err = unpack(fileOf(t, append(start, header...)), "")
	var damage *DamageError
	require.ErrorAs(t, err, &damage)
	assert.Equal(t, Size{32 + 1<<40, Exact}, damage.Total, "it is cut short, by its own account")
}

func TestNamesInArchivesAreOnlyNames(t *testing.T) {
	d := disk(200_000)
	dir := t.TempDir()
	path := filepath.Join(dir, "a", "x.zip")
	require.NoError(t, os.Mkdir(filepath.Join(dir, "a"), 0o700))
	f, err := os.Create(path)
	require.NoError(t, err)
	w := zip.NewWriter(f)
	for _, name := range []string{"../../escaped.img", "/etc/\x1b[31mred\n.txt"} {
		m, err := w.Create(name)
		require.NoError(t, err)
		_, err = m.Write(d[:len(d)-200_000*len(name)%7])
		require.NoError(t, err)
		if name[0] == '/' {
			break
		}
		d = []byte("a text that is none of an image")
	}
	require.NoError(t, w.Close())
	require.NoError(t, f.Close())
	img, c, _, err := unpack(path, "")
	require.NoError(t, err)
	assert.True(t, isDisk(img))
	assert.Equal(t, "../../escaped.img", c.Member)
	left, err := filepath.Glob(filepath.Join(dir, "*"))
	require.NoError(t, err)
	assert.Len(t, left, 1, "nothing was written anywhere")
}

func TestSeveralImagesInATar(t *testing.T) {
	d := disk(200_000)
	commands := "mkdir b2 b3; cat disk.img > b2/os.img; cat disk.img > b3/os.img; printf hi > readme; tar cf x " +
		"readme b2 b3"
	for _, packed := range []string{"", "; xz x; mv x.xz x"} {
		path := pack(t, d, commands+packed, "x")
		_, _, _, err := unpack(path, "")
		var choice *ChoiceError
		require.ErrorAs(t, err, &choice, "a packed one says so at its end")
		assert.Equal(t, []string{"b2/os.img", "b3/os.img"}, choice.Members)
		for _, member := range []string{"b2/os.img", "b3/os.img"} {
			img, c, _, err := unpack(path, member)
			require.NoError(t, err)
			assert.True(t, bytes.Equal(d, img))
			assert.Equal(t, member, c.Member)
		}
		_, _, _, err = unpack(path, "b4/os.img")
		assert.ErrorContains(t, err, `has no member "b4/os.img"; it holds: b2/os.img, b3/os.img, readme`)
	}
	_, _, _, err := unpack(pack(t, d,
		"printf hi > kernel.dtb; printf hi > cmdline.txt; tar czf x kernel.dtb cmdline.txt", "x"), "")
	isUnusable(t, err, UnusableError{Why: HoldsBootFiles, Name: "kernel.dtb", Count: 2})
}

func TestDownloadsThatAreNotFinished(t *testing.T) {
	d := disk(500_000)
	for _, c := range []struct {
		commands, file string
		certainty      Certainty
	}{
		{"zip -q x.zip disk.img", "x.zip", AtLeast}, {"7z a x.7z disk.img", "x.7z", Exact},
	} {
		path := pack(t, d, c.commands, c.file)
		info, err := os.Stat(path)
		require.NoError(t, err)
		require.NoError(t, os.Truncate(path, info.Size()/3))
		_, _, _, err = unpack(path, "")
		var damage *DamageError
		require.ErrorAs(t, err, &damage)
		assert.True(t, damage.Truncated)
		assert.Equal(t, c.certainty, damage.Total.Certainty)
		assert.InDelta(t, info.Size(), damage.Total.Bytes, 300)
		assert.ErrorContains(t, err, fmt.Sprintf("it has %d of %d bytes", info.Size()/3, damage.Total.Bytes))
	}
	path := pack(t, d, "xz -c disk.img > saltmarsh-os.img.xz.crdownload", "saltmarsh-os.img.xz.crdownload")
	f, err := Open(path)
	require.NoError(t, err)
	defer f.Close()
	assert.Equal(t, ".crdownload", f.Partial())
	assert.Equal(t, []string{"saltmarsh-os.img.xz.crdownload", "saltmarsh-os.img.xz", "saltmarsh-os.img"}, f.Names())
	assert.True(t, IsNamed("saltmarsh-os.img.xz.crdownload"))
	assert.False(t, IsNamed("SHA256SUMS"))
}

// sparseImage makes a sparse image by hand: chunks of blocks of 4 KiB.
func sparseImage(blocks uint32, chunks ...[]byte) []byte {
	h := make([]byte, sparseHeaderLen)
	le := binary.LittleEndian
	le.PutUint32(h, sparseHeaderMagic)
	le.PutUint16(h[4:], 1)
	le.PutUint16(h[8:], sparseHeaderLen)
	le.PutUint16(h[10:], sparseChunkLen)
	le.PutUint32(h[12:], 4096)
	le.PutUint32(h[16:], blocks)
	le.PutUint32(h[20:], uint32(len(chunks)))
	return append(h, bytes.Join(chunks, nil)...)
}

func sparseChunk(kind uint16, blocks uint32, body []byte) []byte {
	c := make([]byte, sparseChunkLen)
	binary.LittleEndian.PutUint16(c, kind)
	binary.LittleEndian.PutUint32(c[4:], blocks)
	binary.LittleEndian.PutUint32(c[8:], uint32(sparseChunkLen+len(body)))
	return append(c, body...)
}

func TestSparseImages(t *testing.T) {
	block := disk(4096)
	want := append(append(bytes.Clone(block), make([]byte, 2*4096)...), bytes.Repeat([]byte{1, 2, 3, 4}, 1024)...)
	sum := binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE(want))
	raw, gap, fill := sparseChunk(sparseRaw, 1, block), sparseChunk(sparseDontCare, 2, nil), sparseChunk(sparseFill, 1,
		[]byte{1, 2, 3, 4})
	img, c, _, err := unpack(fileOf(t, sparseImage(4, raw, gap, fill, sparseChunk(sparseCRC32, 0, sum))), "")
	require.NoError(t, err)
	assert.True(t, bytes.Equal(want, img))
	assert.Equal(t, Size{int64(len(want)), Exact}, c.Size)
	for what, file := range map[string][]byte{
		"the sparse image's CRC32 differs": sparseImage(4, raw, gap, fill,
			sparseChunk(sparseCRC32, 0, []byte{0, 0, 0, 0})),
		"its header says 5":              sparseImage(5, raw, gap, fill),
		"not as long as its header says": sparseImage(3, raw, gap, fill),
		"unknown kind 0xCAC9":            sparseImage(1, raw, sparseChunk(0xCAC9, 0, nil)),
		"cut short":                      sparseImage(4, raw, gap),
	} {
		if what == "cut short" {
			binary.LittleEndian.PutUint32(file[20:], 3)
		}
		_, _, _, err := unpack(fileOf(t, file), "")
		assert.ErrorContains(t, err, what)
	}
}

// TestZerosOfSparseImages skips zeros wherever a sparse image says that there are some: what comes out is the same as
// without that, and its CRC too.
func TestZerosOfSparseImages(t *testing.T) {
	rapid.Check(t, func(rt *rapid.T) {
		var chunks [][]byte
		var img []byte
		blocks := uint32(1)
		first := disk(4096)
		chunks, img = append(chunks, sparseChunk(sparseRaw, 1, first)), append(img, first...)
		for range rapid.IntRange(1, 6).Draw(rt, "chunks") {
			n := rapid.Uint32Range(1, 200).Draw(rt, "blocks")
			blocks += n
			size := int(n) * 4096
			switch rapid.IntRange(0, 3).Draw(rt, "kind") {
			case 0:
				data := bytes.Repeat([]byte{byte(n), 0, 0, 0}, size/4)
				chunks, img = append(chunks, sparseChunk(sparseRaw, n, data)), append(img, data...)
			case 1:
				chunks, img = append(chunks, sparseChunk(sparseDontCare, n, nil)), append(img, make([]byte, size)...)
			case 2:
				chunks = append(chunks, sparseChunk(sparseFill, n, make([]byte, 4)))
				img = append(img, make([]byte, size)...)
			case 3:
				fill := []byte{1, 2, 3, 4}
				chunks, img = append(chunks, sparseChunk(sparseFill, n, fill)), append(img,
					bytes.Repeat(fill, size/4)...)
			}
		}
		sum := binary.LittleEndian.AppendUint32(nil, crc32.ChecksumIEEE(img))
		f, err := Open(fileOf(t, sparseImage(blocks, append(chunks, sparseChunk(sparseCRC32, 0, sum))...)))
		require.NoError(rt, err)
		defer f.Close()
		c, err := f.Look("")
		require.NoError(rt, err)
		s, err := f.Unpack(c, nil)
		require.NoError(rt, err)
		defer s.Close()
		got, _ := readSkipping(rt, s, 512, 4096, 100_000, 300_000)
		require.True(rt, bytes.Equal(img, got))
	})
}
