package e2e

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/testbed"
)

// TestEveryPackingIsStamped packs an image with the reference tools, publishes it with their digest commands, and
// stamps it onto cards with sectors of both sizes. Its length is no whole number of sectors.
func TestEveryPackingIsStamped(t *testing.T) {
	t.Parallel()
	testbed.NeedTool(t, "xz", "gzip", "bzip2", "zstd", "zip", "sha256sum", "md5sum")
	img := unpack[:9<<20+77]
	alike := map[string]bool{"zstd": true, "bzip2": true, "lz4": true, "another name": true} // streams, like gzip
	sectors := []string{"4096"}
	if testbed.Long() {
		sectors = append(sectors, "512")
	}
	for name, c := range map[string]struct{ commands, file, packing string }{
		"raw": {"sha256sum disk.img > SHA256SUMS", "disk.img", "raw"},
		"xz, in blocks": {
			"xz -kT2 --block-size=1MiB disk.img; sha512sum disk.img.xz > SHA512SUMS", "disk.img.xz", "xz",
		},
		"gzip": {
			"gzip -k disk.img; sha256sum --tag disk.img.gz > disk.img.gz.sha256sum", "disk.img.gz", "gzip",
		},
		"zstd":  {"zstd -q disk.img; sha1sum disk.img.zst > CHECKSUM", "disk.img.zst", "zstd"},
		"bzip2": {"bzip2 -k disk.img; sha384sum disk.img.bz2 > sha384sums.txt", "disk.img.bz2", "bzip2"},
		"zip": {
			"mkdir os; mv disk.img os; echo hi > os/readme.txt; zip -qr os.zip os; (cd os; sha224sum disk.img) > " +
				"os.zip.sha224", "os.zip", "zip",
		},
		"7z":          {"7z a os.7z disk.img; sha256sum os.7z > SHA256SUMS", "os.7z", "7z"},
		"lz4":         {"lz4 -q disk.img disk.img.lz4; sha256sum disk.img > SHA256SUMS", "disk.img.lz4", "lz4"},
		"tar, packed": {"tar cJf os.tar.xz disk.img; sha256sum os.tar.xz > SHA256SUMS", "os.tar.xz", "tar in xz"},
		"packed, zipped": {
			"xz -k disk.img; zip -q os.zip disk.img.xz; sha256sum disk.img.xz disk.img > SHA256SUMS", "os.zip",
			"xz in zip",
		},
		"another name": {"gzip -c disk.img > 'a b.bin'; md5sum 'a b.bin' > MD5SUMS", "a b.bin", "gzip"},
	} {
		if alike[name] && !testbed.Long() {
			continue
		}
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := newDesk(t)
			d.write("disk.img", img)
			cmd := exec.Command("sh", "-ec", c.commands)
			cmd.Dir = d.dir
			out, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s", out)
			for _, sector := range sectors {
				card := "card" + sector
				d.card(card, "--claimed", "32MB", "--sector", sector)
				r := d.want(0, "", "stamp", "--yes", "--json", c.file, card)
				doc := document(t, r)
				image := doc["image"].(map[string]any)
				assert.Equal(t, c.packing, image["packing"])
				assert.EqualValues(t, len(img), image["unpacked"])
				assert.NotEmpty(t, image["published"].([]any)[0].(map[string]any)["matched"])
				held := d.read(card + ".data")
				assert.True(t, bytes.Equal(img, held[:len(img)]))
				assert.Equal(t, make([]byte, 4096), held[len(img):len(img)+4096], "nothing but zeros follows")
			}
		})
	}
}

func TestArchiveWithSeveralImages(t *testing.T) {
	t.Parallel()
	testbed.NeedTool(t, "zip")
	d := newDesk(t)
	small, large := unpack[:5<<20], unpack[:6<<20]
	d.write("brindle-2/os.img", small)
	d.write("brindle-3/os.img", large)
	cmd := exec.Command("zip", "-qr", "os.zip", "brindle-2", "brindle-3")
	cmd.Dir = d.dir
	require.NoError(t, cmd.Run())
	d.card("x.card", "--claimed", "32MB")
	stamp := func(flags ...string) []string {
		return append(append([]string{"stamp", "--yes", "--unchecked"}, flags...), "os.zip", "x.card")
	}
	d.want(2, "os.zip holds 2 images: brindle-2/os.img, brindle-3/os.img", stamp()...).
		mentions(t, "--member brindle-2/os.img")
	d.want(2, `has no member "os"`, stamp("--member", "os")...)
	d.want(0, "brindle-3/os.img in os.zip, 6.29 MB", stamp("--member", "brindle-3/os.img")...)
	assert.True(t, bytes.Equal(large, d.read("x.card.data")[:len(large)]))
	d.want(0, "Nothing was compared", "check", "--member", "brindle-2/os.img", "os.zip").mentions(t,
		"unpacks to 5.24 MB")
}

func TestHelpVersionAndCompletion(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	assert.Equal(t, "zipstamp 9.8.7-test\n", d.want(0, "", "--version").out)
	pages, err := filepath.Glob("../docs/man/*.1") // there is one for each command
	require.NoError(t, err)
	require.NotEmpty(t, pages)
	for _, page := range pages {
		command := strings.Split(strings.TrimSuffix(filepath.Base(page), ".1"), "-")[1:]
		if len(command) > 0 && command[0] == "completion" {
			continue // its words are the library's
		}
		r := d.want(0, "Usage:", append(command, "--help")...)
		assert.Empty(t, r.err)
		for _, line := range strings.Split(r.out, "\n") {
			assert.LessOrEqual(t, len(line), 80, line)
		}
	}
	for _, shell := range []string{"bash", "zsh", "fish", "powershell"} {
		assert.Contains(t, d.want(0, "", "completion", shell).out, "zipstamp")
	}
	assert.Contains(t, d.want(0, "", "__complete", "st").out, "stamp\tCheck an image")
}

// TestImageFromAPipe has the image come in by the standard input: it is compared with what was published while it is
// stamped, and nothing that looks bootable is left where it differs.
func TestImageFromAPipe(t *testing.T) {
	t.Parallel()
	testbed.NeedTool(t, "xz", "sha256sum")
	d := newDesk(t)
	img := unpack[:6<<20+512]
	d.write("disk.img", img)
	prepare := exec.Command("sh", "-ec", "xz -k disk.img; tar cf os.tar disk.img; zip -q os.zip disk.img")
	prepare.Dir = d.dir
	require.NoError(t, prepare.Run())
	sum := func(name string) string { return fmt.Sprintf("%x", sha256.Sum256(d.read(name))) }
	d.card("x.card", "--claimed", "32MB")
	pipe := func(status int, says, from string, args ...string) {
		t.Helper()
		cmd := exec.Command("sh", append([]string{"-c", `cat "$0" | "$@"`, from, program}, args...)...)
		cmd.Dir, cmd.Env = d.dir, d.env
		out, err := cmd.CombinedOutput()
		got := 0
		if err != nil {
			got = cmd.ProcessState.ExitCode()
		}
		require.Equal(t, status, got, "%s", out)
		require.Contains(t, plain(string(out)), says)
	}
	stamp := func(digest string) []string { return []string{"stamp", "--yes", "--digest", digest, "-", "x.card"} }
	for _, file := range []string{"disk.img", "disk.img.xz", "os.tar"} {
		pipe(0, "Stamped and read back: every block of standard input", file, stamp(sum(file))...)
		pipe(0, "Stamped and read back", file, stamp(sum("disk.img"))...)
		held := d.read("x.card.data")
		assert.True(t, bytes.Equal(img, held[:len(img)]))
		pipe(3, "standard input is not what was published: its SHA-256 differs", file,
			append(stamp(strings.Repeat("0", 64)), "--write-all")...)
		assert.Equal(t, make([]byte, 4096), d.read("x.card.data")[:4096], "no partition table is left")
		pipe(0, "standard input is what was published", file, "check", "--digest", sum(file), "-")
		pipe(0, "Nothing was compared", file, "check", "-")
	}
	d.write("SHA256SUMS", []byte(sum("disk.img")+"  other.img\n")) // lies in the folder, and has nothing to do with it
	pipe(0, "Nothing was compared", "disk.img.xz", "check", "-")
	d.write("sums", []byte(sum("disk.img")+"  -\n"))
	pipe(0, "is what was published", "disk.img.xz", "check", "--sums", "sums", "-")
	pipe(3, "SHA256SUMS does not name -", "disk.img.xz", "check", "--sums", "SHA256SUMS", "-")
	pipe(3, "no published digest of standard input was found", "disk.img", "stamp", "--yes", "-", "x.card")
	pipe(0, "Stamped and read back", "disk.img.xz", "stamp", "--yes", "--unchecked", "-", "x.card")
	pipe(3, "can't be unpacked as it comes in", "os.zip", "check", "-")
	pipe(2, "nothing came in", "/dev/null", "check", "-")
}

func TestBombsAreRefused(t *testing.T) {
	t.Parallel()
	testbed.NeedTool(t, "xz", "zip")
	d := newDesk(t)
	zeros := exec.Command("sh", "-ec",
		"{ head -c 512 /dev/zero; head -c 300M /dev/zero; } | xz -T2 -0 > big.img.xz; gzip -c big.img.xz > a; gzip "+
			"-c a > b; gzip -c b > c; gzip -c c > nested.gz")
	zeros.Dir = d.dir
	require.NoError(t, zeros.Run())
	d.want(3, "unpacks to more than 100,000,000 bytes", "check", "--max-unpacked", "100MB", "big.img.xz").mentions(t,
		"--max-unpacked SIZE")
	d.want(0, "Nothing was compared", "check", "--max-unpacked", "315MB", "big.img.xz")
	d.want(3, "packed more than 4 times over", "check", "nested.gz")
	d.want(2, "--max-unpacked", "check", "--max-unpacked", "much", "big.img.xz")
	d.card("x.card", "--claimed", "64MB")
	d.want(4, "does not fit", "stamp", "--yes", "--unchecked", "big.img.xz", "x.card")
	gz := exec.Command("sh", "-ec", "xz -dc big.img.xz | gzip > big.img.gz")
	gz.Dir = d.dir
	require.NoError(t, gz.Run())
	d.want(3, "unpacks to more than 50,000,000 bytes", "stamp", "--yes", "--unchecked", "--max-unpacked", "50MB",
		"big.img.gz", "x.card")
}
