package image

import (
	"bytes"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/testbed"
)

// unpackFile gives what comes out of a file, be it an image or not.
func unpackFile(path string) ([]byte, error) {
	opened, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer opened.Close()
	f := opened.Anything()
	c, err := f.Look("")
	if err != nil {
		return nil, err
	}
	s, err := f.Unpack(c, nil)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	return io.ReadAll(s)
}

// TestDecodersAgreeWithTheReferences has files that the reference commands made in many ways, half of them damaged by
// chance: they are accepted and refused alike, and the same comes out.
func TestDecodersAgreeWithTheReferences(t *testing.T) {
	testbed.NeedTool(t, "sh", "xz", "gzip", "bzip2", "zstd", "lz4")
	seed, dir := testbed.Seed(t), t.TempDir()
	pick := func(r *rand.Rand, from ...string) string { return from[r.IntN(len(from))] }
	makers := map[string]func(r *rand.Rand) []string{
		"xz": func(r *rand.Rand) []string {
			return strings.Fields(pick(r, "-0", "-1", "-6", "-9e", "-T2 --block-size=20000", "--x86 --lzma2",
				"--ia64 --lzma2", "--powerpc --lzma2", "--sparc --lzma2", "--delta=dist=3 --lzma2") +
				" -C " + pick(r, "none", "crc32", "crc64", "sha256"))
		},
		"gzip":  func(r *rand.Rand) []string { return []string{pick(r, "-1", "-6", "-9")} },
		"bzip2": func(r *rand.Rand) []string { return []string{pick(r, "-1", "-9")} },
		"zstd": func(r *rand.Rand) []string {
			return strings.Fields("-q " + pick(r, "-1", "-3 --long", "-19", "-3 --no-check"))
		},
		"lz4": func(r *rand.Rand) []string {
			return strings.Fields("-q " + pick(r, "-1", "-9", "-B4 -BD", "-BX", "--no-frame-crc", "--content-size"))
		},
	}
	for name, options := range makers {
		t.Run(name, func(t *testing.T) {
			accepted, refused := 0, 0
			for i := range testbed.Trials(10, 40) {
				r := rand.New(rand.NewPCG(seed, uint64(i)))
				img := make([]byte, 512+r.IntN(60000))
				for at := range img {
					if r.IntN(3) > 0 {
						img[at] = byte(r.IntN(4))
					}
				}
				cmd := exec.Command(name, append(options(r), "-c")...)
				cmd.Stdin = bytes.NewReader(img)
				file, err := cmd.Output()
				require.NoError(t, err)
				if r.IntN(4) == 0 {
					file = append(file, file...) // one stream after the other
				}
				damage := r.IntN(2) == 0
				if damage && r.IntN(2) == 0 {
					file = file[:20+r.IntN(len(file)-20)]
				} else if damage {
					for range 1 + r.IntN(3) {
						file[12+r.IntN(len(file)-12)] ^= byte(1 + r.IntN(255))
					}
				}
				path := filepath.Join(dir, fmt.Sprintf("a.%s", name))
				require.NoError(t, os.WriteFile(path, file, 0o600))
				ref := exec.Command(name, "-dc")
				ref.Stdin = bytes.NewReader(file)
				want, errWant := ref.Output()
				got, errGot := unpackFile(path)
				if !assert.Equal(t, errWant == nil, errGot == nil,
					"trial %d, seed %d: the reference says %v, we say %v", i, seed, errWant, errGot) {
					continue
				}
				if accepted++; errGot != nil {
					accepted--
					refused++
				} else if !bytes.Equal(want, got) {
					t.Errorf("trial %d, seed %d: what comes out differs", i, seed)
				}
			}
			t.Logf("%d accepted, %d refused", accepted, refused)
		})
	}
}

// TestWhatFollowsTheEnd has zeros behind a packed stream, which copying by blocks leaves, and bytes that don't belong
// there.
func TestWhatFollowsTheEnd(t *testing.T) {
	testbed.NeedTool(t, "sh", "gzip", "bzip2")
	dir := t.TempDir()
	img := bytes.Repeat([]byte("tide"), 3000)
	for _, name := range []string{"gzip", "bzip2"} {
		cmd := exec.Command(name, "-c")
		cmd.Stdin = bytes.NewReader(img)
		whole, err := cmd.Output()
		require.NoError(t, err)
		for what, tail := range map[string][]byte{
			"nothing": nil, "a zero": {0}, "a block of zeros": make([]byte, 100_000), "a byte": {7},
			"12 bytes": []byte("not that one"), "zeros and a byte": append(make([]byte, 511), 1),
		} {
			path := filepath.Join(dir, "a")
			require.NoError(t, os.WriteFile(path, append(bytes.Clone(whole), tail...), 0o600))
			got, err := unpackFile(path)
			if len(bytes.Trim(tail, "\x00")) == 0 {
				require.NoError(t, err, "%s: %s", name, what)
				require.True(t, bytes.Equal(img, got))
				continue
			}
			var damage *DamageError
			require.ErrorAs(t, err, &damage, "%s: %s", name, what)
			assert.Equal(t, []any{int64(len(tail)), int64(len(whole)), false},
				[]any{damage.Trailing, damage.At, damage.Truncated}, "%s: %s", name, what)
		}
	}
}

// TestOddArchives are recognised, or refused for what is true of them.
func TestOddArchives(t *testing.T) {
	testbed.NeedTool(t, "sh", "zip", "tar", "7z")
	dir := t.TempDir()
	img := make([]byte, 64<<10)
	img[510], img[511] = 0x55, 0xAA
	require.NoError(t, os.WriteFile(filepath.Join(dir, "os.img"), img, 0o600))
	sh := func(commands string) {
		cmd := exec.Command("sh", "-ec", commands)
		cmd.Dir = dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	sh(`zip -q plain.zip os.img
		printf 'PK\005\006 is how it ends, PK\005\006\000\000\000\000\001\000\001\000' > comment
	head -c 10 /dev/zero >> comment
		cp plain.zip comment.zip && zip -q -z comment.zip < comment
		tar --format=v7 -cf old.tar os.img
		7z a -m0=SWAP2 -m1=LZMA2 swap2.7z os.img >/dev/null; 7z a -psecret secret.7z os.img >/dev/null
		zip -q -P secret secret.zip os.img`)
	plain, err := os.ReadFile(filepath.Join(dir, "plain.zip"))
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "split.zip"), append([]byte("PK\x07\x08"), plain...), 0o600))
	noise := append([]byte("7z\xbc\xaf\x27\x1c"), bytes.Repeat([]byte("\xd3\x91\x77tide"), 500)...)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "noise.7z"), noise, 0o600))
	for _, name := range []string{"plain.zip", "comment.zip", "split.zip", "old.tar"} {
		got, err := unpackFile(filepath.Join(dir, name))
		require.NoError(t, err, name)
		assert.True(t, bytes.Equal(img, got), name)
	}
	for name, want := range map[string]UnusableError{
		"swap2.7z": {Why: UnknownMethod}, "secret.7z": {Why: Encrypted},
		"secret.zip": {Why: Encrypted, Name: "os.img"},
	} {
		_, err := unpackFile(filepath.Join(dir, name))
		isUnusable(t, err, want)
	}
	// Without its password, its first byte says that it is empty.
	_, err = unpackFile("testdata/encrypted-ends-early.7z")
	isUnusable(t, err, UnusableError{Why: Encrypted})
	_, err = unpackFile(filepath.Join(dir, "noise.7z"))
	assert.ErrorContains(t, err, "first header is not well formed")
}
