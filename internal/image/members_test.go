package image

import (
	"bytes"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/layout"
)

// through goes through an archive, and gives what each member has.
func through(
	path string, tap io.Writer,
) (files map[string][]byte, kinds map[string]MemberKind, packing string, err error) {
	f, err := Open(path)
	if err != nil {
		return nil, nil, "", err
	}
	defer f.Close()
	m, err := f.Members(tap)
	if err != nil {
		return nil, nil, "", err
	}
	defer m.Close()
	files, kinds = map[string][]byte{}, map[string]MemberKind{}
	for {
		one, err := m.Next()
		if err == io.EOF {
			return files, kinds, m.Packing(), nil
		}
		if err != nil {
			return files, kinds, m.Packing(), err
		}
		kinds[one.Name] = one.Kind
		if one.Kind != MemberFile {
			continue
		}
		data, err := io.ReadAll(io.LimitReader(m, 64<<20))
		if err != nil {
			return files, kinds, m.Packing(), err
		}
		if int64(len(data)) != one.Size && len(data) < 64<<20 {
			return files, kinds, m.Packing(), fmt.Errorf("%s has %d bytes, and not %d", one.Name, len(data), one.Size)
		}
		files[one.Name] = data
	}
}

// TestMembersOfArchives goes through archives that the reference tools made, whole, cut short and damaged.
func TestMembersOfArchives(t *testing.T) {
	dir := t.TempDir()
	d := disk(300_000)
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "boot", "sub"), 0o755))
	for name, data := range map[string][]byte{"kernel8.img": d, "sub/März.txt": []byte("high water"), "empty": nil} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "boot", name), data, 0o600))
	}
	require.NoError(t, os.Symlink("kernel8.img", filepath.Join(dir, "boot", "link")))
	for _, c := range []struct{ file, make, packing string }{
		{"x.zip", "zip -qry x.zip boot", "zip"},
		{"x64.zip", "7z a -bd -snl -tzip -mm=deflate64 x64.zip boot", "zip"},
		{"xb.zip", "7z a -bd -snl -tzip -mm=bzip2 xb.zip boot", "zip"},
		{"xl.zip", "7z a -bd -snl -tzip -mm=lzma xl.zip boot", "zip"},
		{"x.7z", "7z a -bd -snl x.7z boot", "7z"},
		{"loose.7z", "7z a -bd -snl -ms=off loose.7z boot", "7z"},
		{"x.tar", "tar cf x.tar boot", "tar"},
		{"x.tar.xz", "tar cJf x.tar.xz boot", "tar in xz"},
		{"x.tgz", "tar czf x.tgz boot", "tar in gzip"},
		{"x.tar.zst", "tar cf y.tar boot; zstd -q y.tar -o x.tar.zst", "tar in zstd"},
		{"x.tar.bz2", "tar cjf x.tar.bz2 boot", "tar in bzip2"},
	} {
		path := packIn(t, dir, c.make, c.file)
		whole, err := os.ReadFile(path)
		require.NoError(t, err)
		tap := sha256.New()
		files, kinds, packing, err := through(path, tap)
		require.NoError(t, err, c.file)
		assert.Equal(t, c.packing, packing)
		assert.Equal(t, sha256.Sum256(whole), [32]byte(tap.Sum(nil)), "%s: every byte has passed the tap", c.file)
		require.Len(t, files, 3, c.file)
		assert.True(t, bytes.Equal(d, files["boot/kernel8.img"]), c.file)
		assert.Equal(t, "high water", string(files["boot/sub/März.txt"]), c.file)
		assert.Empty(t, files["boot/empty"])
		assert.Equal(t, MemberLink, kinds["boot/link"], c.file)

		require.NoError(t, os.WriteFile(path, whole[:len(whole)*2/3], 0o600))
		_, _, _, err = through(path, nil)
		var damage *DamageError
		require.ErrorAs(t, err, &damage, c.file)
		assert.True(t, damage.Truncated, "%s: %v", c.file, err)
		if c.packing == "tar" { // has no check of its own
			continue
		}
		broken := bytes.Clone(whole)
		broken[len(broken)/2] ^= 0x10
		require.NoError(t, os.WriteFile(path, broken, 0o600))
		_, _, _, err = through(path, nil)
		require.ErrorAs(t, err, &damage, c.file)
		if c.packing == "zip" {
			assert.Equal(t, "boot/kernel8.img", damage.Member, c.file)
		}
	}
	_, _, _, err := through(packIn(t, dir, "7z a -bd -psecret x.secret.zip -tzip boot/kernel8.img", "x.secret.zip"),
		nil)
	isUnusable(t, err, UnusableError{Why: Encrypted, Name: "boot/kernel8.img"})
	_, _, _, err = through(packIn(t, dir, "xz -k boot/kernel8.img", "boot/kernel8.img.xz"), nil)
	isUnusable(t, err, UnusableError{Why: NoArchive})
	_, _, _, err = through(filepath.Join(dir, "boot", "empty"), nil)
	isUnusable(t, err, UnusableError{Why: Empty})
}

// TestKernelsAreNoImages has archives of loose files with members that are named like images, or hold a file system.
func TestKernelsAreNoImages(t *testing.T) {
	mbr := layout.MBR(7, layout.Partition{Type: layout.TypeFAT32LBA, Start: 2048, Sectors: 100})
	whole := append(mbr[:], make([]byte, 100_000)...)
	d := disk(100_000) // starts as a file system does
	for _, how := range []string{
		"zip -q x %s", "7z a -bd x.zip %s", "7z a -bd -t7z x.zip %s", "tar cf x.zip %s", "tar cJf x.zip %s",
	} {
		for _, c := range []struct {
			members string
			is      Unusable
		}{
			{"kernel8.img a.txt brindle3.dtb", HoldsBootFiles},
			{"disk.img brindle3.dtb", HoldsBootFiles},
			{"brindle3.dtb disk.img", HoldsBootFiles},
			{"whole.img brindle3.dtb", ""},
			{"brindle3.dtb kernel8.img whole.img", ""},
			{"kernel8.img a.txt", ""},
		} {
			path := pack(t, d,
				"cat disk.img | tail -c 60000 > kernel8.img; printf hi > a.txt; printf hi > brindle3.dtb; cat "+
					"> whole.img", "whole.img")
			require.NoError(t, os.WriteFile(path, whole, 0o600))
			made := packIn(t, filepath.Dir(path), fmt.Sprintf(how, c.members), "x.zip")
			_, contents, _, err := unpack(made, "")
			if c.is == "" {
				require.NoError(t, err, "%s of %s", how, c.members)
				assert.NotEqual(t, "brindle3.dtb", contents.Member)
				continue
			}
			var unusable *UnusableError
			require.ErrorAs(t, err, &unusable, "%s of %s", how, c.members)
			assert.Equal(t, []any{c.is, "brindle3.dtb"}, []any{unusable.Why, unusable.Name})
		}
	}
}

// FuzzMembers goes through any bytes as an archive: it ends, with an error that has a type.
func FuzzMembers(f *testing.F) {
	dir := f.TempDir()
	if os.WriteFile(filepath.Join(dir, "a.txt"), disk(2000), 0o600) == nil {
		for _, how := range []string{"zip -q x a.txt; mv x.zip x", "7z a -bd x.7z a.txt; mv x.7z x", "tar cf x a.txt"} {
			if exec.Command("sh", "-ec", "cd "+dir+"; "+how).Run() != nil {
				continue // the tool isn't here
			}
			if data, err := os.ReadFile(filepath.Join(dir, "x")); err == nil {
				f.Add(data)
			}
		}
	}
	f.Add([]byte("PK\x05\x06" + string(make([]byte, 18))))
	f.Fuzz(func(t *testing.T, data []byte) {
		path := filepath.Join(dir, "fuzzed")
		if err := os.WriteFile(path, data, 0o600); err != nil {
			t.Fatal(err)
		}
		_, _, _, err := through(path, nil)
		if err != nil && !errors.As(err, new(*DamageError)) && !errors.As(err, new(*UnusableError)) {
			t.Fatalf("not a typed error: %v", err)
		}
	})
}
