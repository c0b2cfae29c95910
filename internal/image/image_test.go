package image

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"io"
	"maps"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zipstamp/internal/testbed"
)

// disk is a small image: a boot signature, text, noise and zeros.
func disk(size int) []byte {
	r := rand.New(rand.NewPCG(7, 7))
	d := make([]byte, size)
	copy(d[600:], strings.Repeat("tide table ", size/40))
	for i := size / 2; i < size*3/4; i++ {
		d[i] = byte(r.Uint32())
	}
	d[510], d[511] = 0x55, 0xAA
	return d
}

// pack runs commands of the reference tools in a folder that holds disk.img, and returns the path of a file that
// they made.
func pack(t *testing.T, d []byte, commands, file string) string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "disk.img"), d, 0o600))
	return packIn(t, dir, commands, file)
}

func packIn(t *testing.T, dir, commands, file string) string {
	t.Helper()
	testbed.NeedTool(t, "sh")
	for _, part := range strings.FieldsFunc(commands, func(r rune) bool { return r == ';' || r == '|' }) {
		if tool := strings.Fields(part)[0]; tool != "cat" && tool != "mkdir" {
			testbed.NeedTool(t, tool)
		}
	}
	cmd := exec.Command("sh", "-ec", commands)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	return filepath.Join(dir, file)
}

// unpack looks at the file and unpacks it, with its own digest through the tap.
func unpack(path, member string) (img []byte, c Contents, tapped [32]byte, err error) {
	f, err := Open(path)
	if err != nil {
		return nil, c, tapped, err
	}
	defer f.Close()
	if c, err = f.Look(member); err != nil {
		return nil, c, tapped, err
	}
	tap := sha256.New()
	s, err := f.Unpack(c, tap)
	if err != nil {
		return nil, c, tapped, err
	}
	defer s.Close()
	img, err = io.ReadAll(s)
	copy(tapped[:], tap.Sum(nil))
	return img, c, tapped, err
}

// packings are made by the reference tools, in all the ways that publishers use.
var references = []reference{
	{"raw", "true", "disk.img", "raw", Exact, 1},
	{"xz", "xz -k disk.img", "disk.img.xz", "xz", Exact, 1},
	{"xz, many blocks", "xz -kT2 --block-size=64KiB disk.img", "disk.img.xz", "xz", Exact, 1},
	{"xz, SHA-256", "xz -kC sha256 disk.img", "disk.img.xz", "xz", Exact, 1},
	{"xz, CRC32", "xz -kC crc32 disk.img", "disk.img.xz", "xz", Exact, 1},
	{
		"xz, two streams and padding",
		"xz -c disk.img > a; xz -9c disk.img > b; printf '\\0\\0\\0\\0\\0\\0\\0\\0' > z; cat a z b z > x", "x", "xz",
		Exact, 2,
	},
	{"gzip", "gzip -k disk.img", "disk.img.gz", "gzip", AtLeast, 1},
	{"gzip, two members", "gzip -c disk.img > a; gzip -9c disk.img > b; cat a b > x", "x", "gzip", AtLeast, 2},
	{"zstd", "zstd -q disk.img", "disk.img.zst", "zstd", Exact, 1},
	{"zstd, best", "zstd -q --ultra -22 --long=27 disk.img", "disk.img.zst", "zstd", Exact, 1},
	{"zstd, two frames", "zstd -qc disk.img > a; zstd -q19 -c disk.img > b; cat a b > x", "x", "zstd", Exact, 2},
	{"zstd, from a pipe", "cat disk.img | zstd -q > x", "x", "zstd", Unknown, 1},
	{"bzip2", "bzip2 -k disk.img", "disk.img.bz2", "bzip2", Unknown, 1},
	{"bzip2, two streams", "bzip2 -c disk.img > a; cat a a > x", "x", "bzip2", Unknown, 2},
	{"zip", "zip -q x.zip disk.img", "x.zip", "zip", Exact, 1},
	{"zip, stored", "zip -q0 x.zip disk.img", "x.zip", "zip", Exact, 1},
	{"zip, streamed", "cat disk.img | zip -q x.zip -", "x.zip", "zip", Exact, 1},
	{"zip, methods of other programs: bzip2", "7z a -tzip -mm=BZip2 x.zip disk.img", "x.zip", "zip", Exact, 1},
	{"zip, LZMA", "7z a -tzip -mm=LZMA x.zip disk.img", "x.zip", "zip", Exact, 1},
	{"zip, Deflate64", "7z a -tzip -mm=Deflate64 x.zip disk.img", "x.zip", "zip", Exact, 1},
	{"zip64", "cat disk.img | zip -q -fz x.zip -", "x.zip", "zip", Exact, 1},
	{"zip of a packed image", "xz disk.img; zip -q x.zip disk.img.xz", "x.zip", "xz in zip", Unknown, 1},
	{
		"zip of a packed image, stored, beside its digest",
		"zstd -q disk.img; md5sum disk.img.zst > disk.img.zst.md5; zip -q0 x.zip disk.img.zst disk.img.zst.md5",
		"x.zip", "zstd in zip", AtLeast, 1,
	},
	{"7z", "7z a x.7z disk.img", "x.7z", "7z", Exact, 1},
	{
		"7z, LZMA, solid, beside others",
		"mkdir a; cat disk.img > a/os.img; printf hello > a/readme.txt; 7z a -m0=LZMA -ms=on x.7z a", "x.7z", "7z",
		Exact, 1,
	},
	{"7z, with a filter", "7z a -m0=BCJ -m1=LZMA2 x.7z disk.img", "x.7z", "7z", Exact, 1},
	{"7z, Deflate64", "7z a -m0=Deflate64 x.7z disk.img", "x.7z", "7z", Exact, 1},
	{"7z, bzip2, header not packed", "7z a -m0=BZip2 -mhc=off x.7z disk.img", "x.7z", "7z", Exact, 1},
	{"lz4", "lz4 -q disk.img x", "x", "lz4", Unknown, 1},
	{
		"lz4, two frames, sizes told",
		"lz4 -q --content-size disk.img a; lz4 -q -9 --content-size disk.img b; cat a b > x", "x", "lz4", AtLeast, 2,
	},
	{"tar", "printf readme > readme.txt; tar cf x readme.txt disk.img", "x", "tar", Exact, 1},
	{"tar, xz", "printf readme > readme.txt; tar cf t readme.txt disk.img; xz -c t > x", "x", "tar in xz", Exact, 1},
	{"tar, gzip", "tar --format=pax -czf x disk.img", "x", "tar in gzip", Exact, 1},
	{"tar, zstd", "mkdir a; cat disk.img > a/disk.img; tar -cf - a | zstd -q > x", "x", "tar in zstd", Exact, 1},
	{"tar, bzip2, old format", "tar --format=ustar -cjf x disk.img", "x", "tar in bzip2", Exact, 1},
	{"tar of a packed image", "gzip disk.img; tar cf x disk.img.gz", "x", "gzip in tar", Unknown, 1},
	{"packed twice", "xz disk.img; gzip -c disk.img.xz > x", "x", "xz in gzip", Unknown, 1},
	{"sparse, of Android", "cat disk.img > even; truncate -s %4096 even; img2simg even x", "x", "sparse", Exact, 0},
	{
		"sparse, packed", "cat disk.img > even; truncate -s %4096 even; img2simg even s; gzip -c s > x", "x",
		"sparse in gzip", Exact, 0,
	},
	{"lzma", "xz --format=lzma -c disk.img > x", "x", "lzma", Unknown, 1},
	{
		"zip, beside others, in a folder",
		"mkdir -p a/b; cat disk.img > a/b/os; printf readme > a/readme.txt; zip -qr x.zip a", "x.zip", "zip", Exact, 1,
	},
}

type reference struct {
	name, commands, file, packing string
	certainty                     Certainty
	times                         int // how often the image is in it; 0: once, with zeros to a whole number of blocks
}

func (r reference) image(d []byte) []byte {
	if r.times == 0 {
		return append(bytes.Clone(d), make([]byte, -len(d)&4095)...)
	}
	return bytes.Repeat(d, r.times)
}

// noise is an image of any length and contents, with the sign of a boot sector.
func noise(t *testing.T) []byte {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	d := make([]byte, 512+r.IntN(400_000))
	repeats := 1 + r.IntN(5000)
	for i := range d {
		if d[i] = byte(r.Uint32()); i > repeats && r.IntN(50) > 0 {
			d[i] = d[i-repeats]
		}
	}
	d[0], d[510], d[511] = 0, 0x55, 0xAA
	return d
}

func TestUnpacksWhatReferenceToolsPack(t *testing.T) {
	for _, ref := range references {
		t.Run(ref.name, func(t *testing.T) {
			d := noise(t)
			path := pack(t, d, ref.commands, ref.file)
			want := ref.image(d)
			img, c, tapped, err := unpack(path, "")
			require.NoError(t, err)
			assert.True(t, bytes.Equal(want, img), "%d bytes in place of %d", len(img), len(want))
			assert.Equal(t, ref.packing, c.Packing)
			assert.Equal(t, ref.certainty, c.Size.Certainty)
			if ref.certainty == Exact {
				assert.EqualValues(t, len(want), c.Size.Bytes)
			}
			packed, err := os.ReadFile(path)
			require.NoError(t, err)
			assert.Equal(t, sha256.Sum256(packed), tapped, "all of the file goes through the tap")
		})
	}
}

// zeroReader is a stream that may know of zeros.
type zeroReader interface {
	io.Reader
	SkipZeros(n int64) bool
}

// readSkipping reads all of a stream, in pieces of some of these sizes, and skips the zeros that it knows of.
func readSkipping(t *rapid.T, s zeroReader, sizes ...int) (img []byte, skipped int) {
	for {
		n := rapid.SampledFrom(sizes).Draw(t, "at once")
		if s.SkipZeros(int64(n)) {
			img, skipped = append(img, make([]byte, n)...), skipped+n
			continue
		}
		buf := make([]byte, n)
		n, err := io.ReadFull(s, buf)
		img = append(img, buf[:n]...)
		if err != nil {
			require.True(t, err == io.EOF || err == io.ErrUnexpectedEOF, "%v", err)
			return img, skipped
		}
	}
}

// TestHolesOfTarMembers has members with holes, in all forms that the reference tool writes.
func TestHolesOfTarMembers(t *testing.T) {
	dir, data := t.TempDir(), disk(100_000)
	img := make([]byte, 4<<20+512)
	file, err := os.Create(filepath.Join(dir, "disk.img"))
	require.NoError(t, err)
	require.NoError(t, file.Truncate(int64(len(img))))
	for _, at := range []int{0, 1 << 20, 2<<20 + 4096} {
		copy(img[at:], data)
		_, err := file.WriteAt(data, int64(at))
		require.NoError(t, err)
	}
	require.NoError(t, file.Close())
	archives, skipped := map[string]string{}, map[string]int{}
	for _, form := range []string{
		"--format=gnu", "--format=posix --sparse-version=0.0", "--format=posix --sparse-version=0.1",
		"--format=posix --sparse-version=1.0",
	} {
		archives[form] = packIn(t, dir, "tar -S "+form+" -czf './"+form+"' disk.img", form)
	}
	rapid.Check(t, func(t *rapid.T) {
		form := rapid.SampledFrom(slices.Sorted(maps.Keys(archives))).Draw(t, "form")
		f, err := Open(archives[form])
		require.NoError(t, err)
		defer f.Close()
		c, err := f.Look("")
		require.NoError(t, err)
		s, err := f.Unpack(c, nil)
		require.NoError(t, err)
		defer s.Close()
		got, most := readSkipping(t, s, 30_000, 256<<10, 1<<20)
		require.True(t, bytes.Equal(img, got))
		skipped[form] = max(skipped[form], most)
	})
	for form := range archives {
		assert.GreaterOrEqual(t, skipped[form], 256<<10, form)
	}
}

func TestWhatIsKeptIsTheImage(t *testing.T) {
	zeros := make([]byte, keptPiece)
	img := slices.Concat(disk(keptPiece+1000), zeros, disk(2*keptPiece-1000), zeros, disk(70_000))
	path := pack(t, img, "gzip disk.img", "disk.img.gz")
	packed, err := os.ReadFile(path)
	require.NoError(t, err)
	f, err := Open(path)
	require.NoError(t, err)
	defer f.Close()
	c, err := f.Look("")
	require.NoError(t, err)
	through := func(keep, most int64) {
		f.Keep = keep
		s, err := f.Unpack(c, nil)
		require.NoError(t, err)
		defer s.Close()
		_, err = io.Copy(io.Discard, io.LimitReader(s, most))
		require.NoError(t, err)
	}
	var room int64 // zeros take nothing
	for piece := range slices.Chunk(img, keptPiece) {
		if len(bytes.Trim(piece, "\x00")) > 0 {
			room += keptPiece
		}
	}
	require.Less(t, room, int64(len(img)-len(zeros)))
	through(room-1, math.MaxInt64)
	require.Nil(t, f.TakeKept(c, nil), "it was too much")
	through(KeepMost, int64(len(img)))
	require.Nil(t, f.TakeKept(c, nil), "nobody has seen that it ends there")

	rapid.Check(t, func(t *rapid.T) {
		through(room, math.MaxInt64)
		tap := sha256.New()
		k := f.TakeKept(c, tap)
		require.NotNil(t, k)
		require.Nil(t, f.TakeKept(c, nil), "it is given once")
		defer func() { require.NoError(t, k.Close()) }()
		got, _ := readSkipping(t, k, 100_000, keptPiece, 3*keptPiece)
		require.True(t, bytes.Equal(img, got))
		require.Equal(t, f.Size, k.Position())
		require.Equal(t, sha256.Sum256(packed), [32]byte(tap.Sum(nil)), "all of the file goes through the tap")
	})
}

// TestEveryPrefixIsAnError has small files, each cut at every place.
func TestEveryPrefixIsAnError(t *testing.T) {
	d := disk(1300)
	for _, ref := range references[1:] {
		t.Run(ref.name, func(t *testing.T) {
			path := pack(t, d, ref.commands, ref.file)
			whole, err := os.ReadFile(path)
			require.NoError(t, err)
			want := ref.image(d)
			for n := len(whole) - 1; n >= 0; n -= 1 + len(whole)/300 {
				require.NoError(t, os.Truncate(path, int64(n)))
				img, _, _, err := unpack(path, "")
				if err == nil && !bytes.Equal(img, want) && !cutBetweenStreams(ref.times, true, img, d) {
					t.Fatalf("%d of %d bytes gave %d bytes of %d, without an error", n, len(whole), len(img), len(want))
				}
			}
		})
	}
}

// TestDamageIsAlwaysFound cuts each file short at many places, and changes a byte at many places: nothing but the
// right image may come out without an error, unless the packing has no check values, and says so.
func TestDamageIsAlwaysFound(t *testing.T) {
	d := disk(300_001)
	for _, ref := range references[1:] {
		t.Run(ref.name, func(t *testing.T) {
			path := pack(t, d, ref.commands, ref.file)
			whole, err := os.ReadFile(path)
			require.NoError(t, err)
			want := ref.image(d)
			r := rand.New(rand.NewPCG(1, uint64(len(whole))))
			for i := range testbed.Trials(6, 60) {
				broken := bytes.Clone(whole)
				cut := i%2 == 0
				if cut {
					broken = broken[:1+r.IntN(len(broken)-1)]
				} else {
					broken[r.IntN(len(broken))] ^= 1 << r.IntN(8)
				}
				require.NoError(t, os.WriteFile(path, broken, 0o600))
				img, c, _, err := unpack(path, "")
				if err == nil && !bytes.Equal(img, want) && !cutBetweenStreams(ref.times, cut, img, d) && (cut ||
					!c.Unchecked) {
					t.Fatalf("case %d: %d bytes of %d, without an error", i, len(img), len(want))
				}
				if err != nil && !errors.As(err, new(*DamageError)) && !errors.As(err, new(*UnusableError)) {
					t.Fatalf("case %d: not a typed error: %v", i, err)
				}
			}
		})
	}
}

// cutBetweenStreams tells the one cut that nothing can find: where a file of two streams ends after the first.
func cutBetweenStreams(times int, cut bool, img, d []byte) bool {
	return cut && times == 2 && bytes.Equal(img, d)
}

func TestDamageSaysWhere(t *testing.T) {
	path := pack(t, disk(2_000_000), "xz -kT2 --block-size=256KiB disk.img", "disk.img.xz")
	whole, err := os.ReadFile(path)
	require.NoError(t, err)
	at := len(whole) * 2 / 3
	whole[at] ^= 4
	require.NoError(t, os.WriteFile(path, whole, 0o600))
	_, _, _, err = unpack(path, "")
	var damage *DamageError
	require.ErrorAs(t, err, &damage)
	assert.InDelta(t, at, damage.At, 300_000, "the offset is right to a block")
	assert.Greater(t, damage.Unpacked, int64(1_000_000))

	require.NoError(t, os.WriteFile(path, whole[:at], 0o600))
	_, _, _, err = unpack(path, "")
	require.ErrorAs(t, err, &damage)
	assert.True(t, damage.Truncated)
	assert.EqualValues(t, at, damage.At)
}

func TestWhatIsNoImageIsSaid(t *testing.T) {
	program := make([]byte, 1024)
	copy(program, "MZ")
	program[0x3C] = 0x80
	copy(program[0x80:], "PE\x00\x00")
	other := func(kind StrangerKind) UnusableError { return UnusableError{Why: IsOther, Other: Stranger{Kind: kind}} }
	page := other(WebPage)
	page.Other.Title = "Click here to download"
	for contents, want := range map[string]UnusableError{
		"": {Why: Empty},
		"\n <!DOCTYPE HTML><html><title>Click here to download": page,
		"<HTML>" + strings.Repeat("ä", 700):                     other(WebPage),
		"sorry, this mirror is down\n":                          other(Text),
		"\x7fELF\x02\x01\x01" + strings.Repeat("\x00", 600):     other(ProgramELF),
		string(program):        other(ProgramWindows),
		"%PDF-1.7\n\x00\x01":   other(PDF),
		"Rar!\x1a\x07\x01\x00": other(ArchiveRAR),
		strings.Repeat("\x00", 56) + "ARM\x64" + strings.Repeat("\x00", 600): other(KernelARM64),
	} {
		path := filepath.Join(t.TempDir(), "saltmarsh-os.img.xz")
		require.NoError(t, os.WriteFile(path, []byte(contents), 0o600))
		_, _, _, err := unpack(path, "")
		isUnusable(t, err, want)
	}
	path := pack(t, []byte("<html>not here</html>"), "gzip -c disk.img > x", "x")
	_, _, _, err := unpack(path, "")
	isUnusable(t, err, UnusableError{Why: HoldsOther, Other: Stranger{Kind: WebPage}})
	_, err = Open(t.TempDir())
	assert.ErrorContains(t, err, "is a folder")
	_, err = Open("/dev/null")
	assert.ErrorContains(t, err, "is not a regular file")
}

func TestZipMembers(t *testing.T) {
	d := disk(200_000)
	two := "mkdir -p old; cat disk.img > one.img; cat disk.img > old/two.img; printf 1 > readme.txt; zip -qr x.zip " +
		"one.img old readme.txt"
	path := pack(t, d, two, "x.zip")
	_, _, _, err := unpack(path, "")
	var choice *ChoiceError
	require.ErrorAs(t, err, &choice)
	assert.Equal(t, []string{"old/two.img", "one.img"}, choice.Members)
	for _, member := range []string{"old/two.img", "two.img", "one.img"} {
		img, c, _, err := unpack(path, member)
		require.NoError(t, err, member)
		assert.True(t, bytes.Equal(d, img), member)
		assert.True(t, strings.HasSuffix(c.Member, member), member)
	}
	_, _, _, err = unpack(path, "three.img")
	assert.ErrorContains(t, err, `has no member "three.img"; it holds: old/two.img, one.img, readme.txt`)
	_, _, _, err = unpack(path, "readme.txt")
	isUnusable(t, err, UnusableError{Why: HoldsOther, Other: Stranger{Kind: Text}})

	for _, c := range []struct {
		commands string
		want     UnusableError
	}{
		{"zip -q -P secret x.zip disk.img", UnusableError{Why: Encrypted, Name: "disk.img"}},
		{
			"printf hello > a.txt; zip -q x.zip a.txt",
			UnusableError{Why: HoldsNoImage, Packing: "zip", Name: "a.txt", Count: 1, Bytes: 5},
		},
		{"mkdir d; zip -qr x.zip d", UnusableError{Why: HoldsNoImage, Packing: "zip"}},
		{
			"7z a -tzip -mm=PPMd x.zip disk.img",
			UnusableError{Why: UnknownMethod, Name: "disk.img", Method: "98 (PPMd)"},
		},
	} {
		_, _, _, err := unpack(pack(t, d, c.commands, "x.zip"), "")
		isUnusable(t, err, c.want)
	}
	_, _, _, err = unpack(pack(t, d, "xz -k disk.img", "disk.img.xz"), "disk.img")
	isUnusable(t, err, UnusableError{Why: HoldsOne})
}

func TestRawImageShorterThanItsPartitions(t *testing.T) {
	d := disk(1 << 20)
	clear(d[446:510])
	d[446+4], d[446+9], d[446+13] = 0x0C, 8, 8 // from sector 2048, 2048 sectors
	path := filepath.Join(t.TempDir(), "disk.img")
	require.NoError(t, os.WriteFile(path, d, 0o600))
	f, err := Open(path)
	require.NoError(t, err)
	defer f.Close()
	assert.EqualValues(t, 1<<20, f.Shortfall())
}

func TestNamesUnderWhichAnImageIsPublished(t *testing.T) {
	path := pack(t, disk(100_000), "zip -q SaltmarshOS.ZIP disk.img", "SaltmarshOS.ZIP")
	f, err := Open(path)
	require.NoError(t, err)
	defer f.Close()
	c, err := f.Look("")
	require.NoError(t, err)
	assert.Equal(t, []string{"SaltmarshOS.ZIP", "SaltmarshOS", "disk.img"}, c.Names(f))
}

// TestPackedZerosAtTheEnd has a download that was cut short but whose room was taken beforehand.
func TestPackedZerosAtTheEnd(t *testing.T) {
	path := pack(t, disk(300_000), "xz -k disk.img", "disk.img.xz")
	info, err := os.Stat(path)
	require.NoError(t, err)
	require.NoError(t, os.Truncate(path, info.Size()/2))
	require.NoError(t, os.Truncate(path, 1<<30))
	_, _, _, err = unpack(path, "")
	assert.ErrorAs(t, err, new(*DamageError))
}

func FuzzSizes(f *testing.F) {
	f.Add([]byte("\x28\xb5\x2f\xfd\x04\x00\x09\x00\x00aQ\xaa\x83\x8a"))
	f.Fuzz(func(t *testing.T, data []byte) {
		if size, err := zstdSize(bytes.NewReader(data), int64(len(data))); size.Bytes < 0 || err != nil &&
			size.Bytes != 0 {
			t.Fatalf("%d, %v", size.Bytes, err)
		}
		unpackedHeader7z(data)
		zipTotal(data)
	})
}

// FuzzUnpack feeds any bytes to all decoders: they end, with an error or an image.
func FuzzUnpack(f *testing.F) {
	for _, ref := range references {
		dir := f.TempDir()
		if os.WriteFile(filepath.Join(dir, "disk.img"), disk(3000), 0o600) != nil || exec.Command("sh", "-ec",
			"cd "+dir+"; "+ref.commands).Run() != nil {
			continue // the tool isn't here
		}
		if data, err := os.ReadFile(filepath.Join(dir, ref.file)); err == nil {
			f.Add(data)
		}
	}
	for _, magic := range []string{
		"\xfd7zXZ\x00\x00\x04\xe6\xd6\xb4\x46", "\x1f\x8b\x08\x00", "\x28\xb5\x2f\xfd", "BZh91AY&SY", "PK\x03\x04",
	} {
		f.Add([]byte(magic))
	}
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, data []byte) {
		path := filepath.Join(dir, "x")
		if err := os.WriteFile(path, data, 0o600); err != nil {
			t.Fatal(err)
		}
		file, err := Open(path)
		if err != nil {
			t.Fatal(err)
		}
		defer file.Close()
		c, err := file.Look("")
		if err != nil {
			return
		}
		s, err := file.Unpack(c, nil)
		if err != nil {
			return
		}
		defer s.Close()
		if _, err := io.CopyN(io.Discard, s, 64<<20); err != nil && err != io.EOF &&
			!errors.As(err, new(*DamageError)) && !errors.As(err, new(*UnusableError)) && !errors.As(err,
			new(*ChoiceError)) {
			t.Fatalf("not a typed error: %v", err)
		}
	})
}
