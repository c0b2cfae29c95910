package digest

import (
	"bytes"
	"cmp"
	"encoding/base64"
	"encoding/binary"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// raw is a digest as bytes.
func raw(d Digest) []byte { return []byte(d.sum) }

func base64Of(d Digest) string { return base64.StdEncoding.EncodeToString(raw(d)) }

// inPairs writes hex digits in pairs, as some programs do.
func inGroups(hex string, n int) string {
	var out []string
	for i := 0; i < len(hex); i += n {
		out = append(out, hex[i:i+n])
	}
	return strings.Join(out, " ")
}

func utf16Of(text string) string {
	out := []byte{0xFF, 0xFE}
	for _, u := range utf16.Encode([]rune(text)) {
		out = binary.LittleEndian.AppendUint16(out, u)
	}
	return string(out)
}

// form is a way in which a program or a page gives the digests of two files; the digest of the first is d.
type form struct {
	file string
	text func(name string, d Digest, other string, o Digest) string
	of   Algorithm // 0: SHA-256
}

// forms are those that programs and pages give digests in, beside the lines of sums files.
var forms = map[string]form{
	"openssl, now": {"x", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("SHA2-256(%s)= %s\nSHA2-256(%s)= %s\n", other, o.Hex(), name, d.Hex())
	}, 0},
	"openssl, SHA-3": {"x", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("SHA3-256(%s)= %s\nSHA3-256(%s)= %s\n", name, d.Hex(), other, o.Hex())
	}, SHA3_256},
	"a table of Get-FileHash": {"x", getFileHash, 0},
	"that in UTF-16": {"hash.txt", func(name string, d Digest, other string, o Digest) string {
		return utf16Of(getFileHash(name, d, other, o))
	}, 0},
	"a list of Get-FileHash": {"x", func(name string, d Digest, other string, o Digest) string {
		one := func(name string, d Digest) string {
			return fmt.Sprintf("\r\nAlgorithm : SHA256\r\nHash      : %s\r\nPath      : "+
				"C:\\Users\\wren\\Downloads\\%s\r\n\r\n",
				strings.ToUpper(d.Hex()), name)
		}
		return one(other, o) + one(name, d)
	}, 0},
	"certutil": {"x", func(name string, d Digest, other string, o Digest) string {
		one := func(name string, d Digest) string {
			return fmt.Sprintf("SHA256 hash of %s:\r\n%s\r\nCertUtil: -hashfile command completed successfully.\r\n",
				name,
				d.Hex())
		}
		return one(other, o) + one(name, d)
	}, 0},
	"certutil, in pairs": {"x", func(name string, d Digest, _ string, _ Digest) string {
		return fmt.Sprintf("SHA256 hash of file %s:\r\n%s\r\nCertUtil: -hashfile command completed successfully.\r\n",
			name,
			inGroups(d.Hex(), 2))
	}, 0},
	"certutil, in another language": {"x", func(name string, d Digest, _ string, _ Digest) string {
		return fmt.Sprintf("SHA256-Hash von %s:\r\n%s\r\nCertUtil: -hashfile-Befehl wurde ausgeführt.\r\n", name,
			d.Hex())
	}, 0},
	"ended by zero bytes": {"x", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("%s  %s\x00%s  %s\x00", o.Hex(), other, d.Hex(), name)
	}, 0},
	"the name first": {"x", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("%s %s\n%s %s\n", name, d.Hex(), other, o.Hex())
	}, 0},
	"the name first, with a colon": {"x", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("%s: %s\n%s: %s\n", other, o.Hex(), name, d.Hex())
	}, 0},
	"the name on the line above": {"x", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("%s\n%s\n\n%s\n%s\n", other, o.Hex(), name, d.Hex())
	}, 0},
	"the name, a label and the digest": {"x", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("%s\n  SHA256:\n  %s\n%s\n  SHA256:\n  %s\n", other, o.Hex(), name, d.Hex())
	}, 0},
	"CSV": {"sums.csv", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("%s,2841220,%s\n%s,12,%s\n", name, d.Hex(), other, o.Hex())
	}, 0},
	"CSV with titles": {"sums.csv", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("file;size;md5;sha3-256\n\"%s\";1;%s;%s\n\"%s\";2;%s;%s\n", other, of(MD5, "o").Hex(),
			o.Hex(), name,
			of(MD5, "x").Hex(), d.Hex())
	}, SHA3_256},
	"JSON": {"sums.json", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf(`{"images": [{"sha256": %q, "name": %q}, {"name": %q, "sha256": %q}]}`, o.Hex(), other, name,
			d.Hex())
	}, 0},
	"JSON by names": {"sums.json", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf(`{%q: {"checksum": "sha512:%s"}, %q: {"checksum": "sha512:%s"}}`, other, o.Hex(), name,
			d.Hex())
	}, SHA512},
	"JSON of downloads and of what is in them": {"os.json", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf(`[{"url": "https://tides.example/%s?x=1", "image_download_sha256": %q, "extract_sha256": %q},
			{"url": "https://tides.example/%s", "image_download_sha256": %q}]`, name, d.Hex(),
			of(SHA256, "in").Hex(), other, o.Hex())
	}, 0},
	"TOML": {"sums.toml", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("[[image]]\nfile = %q\nblake2b = %q\n\n[[image]]\nfile = %q\nblake2b = %q\n", other, o.Hex(),
			name,
			d.Hex())
	}, BLAKE2b512},
	"a table of a web page": {"page.html", func(name string, d Digest, other string, o Digest) string {
		row := func(name string, d Digest) string {
			return fmt.Sprintf("<tr><td><a href=\"/dl/%s\">Saltmarsh OS</a></td><td>2.8 "+
				"MB</td>\n<td><code>%s</code></td></tr>\n",
				name, d.Hex())
		}
		return "<!DOCTYPE html><html><head><style>td{}</style><script>var sha256='x';</script></head><body><table>\n" +
			"<tr><th>File</th><th>Size</th><th>SHA256</th></tr>\n" + row(other, o) + row(name, d) +
			"</table></body></html>"
	}, 0},
	"paragraphs of a web page": {"page.html", func(name string, d Digest, other string, o Digest) string {
		part := func(name string, d Digest) string {
			return fmt.Sprintf("<h3>%s</h3><p>Download, 2.8 MB</p>\n<p>SHA-256 checksum:<br><tt>%s</tt></p>\n", name,
				d.Hex())
		}
		return "<html><body>" + part(other, o) + part(name, d)
	}, 0},
	"a list with sizes": {"x", func(name string, d Digest, other string, o Digest) string {
		one := func(name string, d Digest) string {
			return fmt.Sprintf("File: %s\nSize: 2841220\nMD5: %s\nSHA256: %s\n\n", name, of(MD5, name).Hex(), d.Hex())
		}
		return one(other, o) + one(name, d)
	}, 0},
	"a Release file": {"Release", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("Origin: Saltmarsh\nDate: Sat, 21 Nov 2026 10:00:00 UTC\nMD5Sum:\n %s 12 images/%s\n %s "+
			"2841220 images/%s\n"+
			"SHA256:\n %s 12 images/%s\n %s 2841220 images/%s\n", of(MD5, "a").Hex(), other, of(MD5, "b").Hex(), name,
			o.Hex(), other,
			d.Hex(), name)
	}, 0},
	"a .changes file": {"x.changes", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("Source: saltmarsh\nChecksums-Sha256:\n %s 12 %s\n %s 2841220 %s\nFiles:\n %s 12 misc "+
			"optional %s\n"+
			" %s 2841220 misc optional %s\n", o.Hex(), other, d.Hex(), name, of(MD5, "a").Hex(), other,
			of(MD5, "b").Hex(), name)
	}, 0},
	"BLAKE2b by the file's name": {"b2sums.txt", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("%s  %s\n%s  %s\n", o.Hex(), other, d.Hex(), name)
	}, BLAKE2b512},
	"BLAKE2b with a tag": {"x", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("BLAKE2b (%s) = %s\nBLAKE2b (%s) = %s\n", other, o.Hex(), name, d.Hex())
	}, BLAKE2b512},
	"a tag and base64": {"x", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("SHA256 (%s) = %s\nSHA256 (%s) = %s\n", other, base64Of(o), name, base64Of(d))
	}, 0},
	"as web pages embed files": {"x", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("%s sha512-%s\n%s sha512-%s\n", other, base64Of(o), name, base64Of(d))
	}, SHA512},
	"SHA-3 by the file's name": {"SHA3-512SUMS", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("%s  %s\n%s *%s\n", o.Hex(), other, d.Hex(), name)
	}, SHA3_512},
	"a table of Markdown": {"README.md", func(name string, d Digest, other string, o Digest) string {
		return fmt.Sprintf("| Image | SHA-256 |\n|-------|:--------|\n| `%s` | `%s` |\n| `%s` | `%s` |\n", other,
			o.Hex(), name, d.Hex())
	}, 0},
	"groups on two lines": {"x", func(name string, d Digest, _ string, _ Digest) string {
		h := inGroups(d.Hex(), 8)
		return fmt.Sprintf("%s\n  SHA-256    %s\n             %s\n", name, h[:35], h[36:])
	}, 0},
}

func getFileHash(name string, d Digest, other string, o Digest) string {
	row := func(name string, d Digest) string {
		return fmt.Sprintf("SHA256          %s       C:\\Users\\Wren T\\Downloads\\%s\r\n", strings.ToUpper(d.Hex()),
			name)
	}
	return "\r\nAlgorithm       Hash                                                                   Path\r\n" +
		"---------       ----                                                                   ----\r\n" +
		row(other, o) + row(name, d) + "\r\n\r\n"
}

// TestEveryForm reads the digest of each of two files in every form, and finds a wrong digit and a missing one.
func TestEveryForm(t *testing.T) {
	const name, other = "saltmarsh-os.img.xz", "brindle-tools.img.gz"
	for what, f := range forms {
		a := cmp.Or(f.of, SHA256)
		d, o := of(a, "tide"), of(a, "ebb")
		text := f.text(name, d, other, o)
		look := func(text, name string) ([]Entry, error) {
			sums, err := ReadSums(strings.NewReader(text), f.file)
			if err != nil {
				return nil, err
			}
			return sums.Lookup(name)
		}
		has := func(entries []Entry, want Digest) bool {
			for _, e := range entries {
				if e.Digest == want && !e.Guessed || e.Guessed && e.sum == want.sum {
					return true
				}
			}
			return false
		}
		got, err := look(text, name)
		require.NoError(t, err, what)
		assert.True(t, has(got, d), "%s: %v", what, got)
		assert.False(t, has(got, o), "%s: %v", what, got)
		if strings.Contains(text, "brindle") || strings.HasPrefix(text, "\xff\xfe") {
			got, err = look(text, other)
			require.NoError(t, err, what)
			assert.True(t, has(got, o), "%s: %v", what, got)
		}
		_, err = look(text, "tides.img")
		assert.ErrorContains(t, err, "does not name tides.img", what)

		// the digits of d as they stand there, but for one
		for _, written := range []string{d.Hex(), strings.ToUpper(d.Hex())} {
			at := strings.Index(text, written)
			if at < 0 {
				continue
			}
			wrong := map[byte]string{'0': "1"}[text[at+9]]
			if wrong == "" {
				wrong = "0"
			}
			got, err = look(text[:at+9]+wrong+text[at+10:], name)
			require.NoError(t, err, what)
			assert.False(t, has(got, d), "%s: a wrong digit", what)
			assert.NotEmpty(t, got, "%s: a wrong digit", what)
			lost, err := look(text[:at+9]+text[at+10:], name)
			assert.True(t, err != nil || !has(lost, d), "%s: a missing digit", what)
		}
	}
}

// TestOnlyTheNearestNameCounts has digests that belong to no name, or to more than one.
func TestOnlyTheNearestNameCounts(t *testing.T) {
	const name = "saltmarsh-os.img.xz"
	a, b := of(SHA256, "a"), of(SHA256, "b")
	for text, why := range map[string]string{
		// the second has none
		name + "\n\n" + a.Hex() + "\n\n" + b.Hex() + "\n": "",
		// both are on its line
		name + " " + a.Hex() + " " + b.Hex() + "\n": "two different SHA-256 digests",
		// both are below it
		name + "\n" + a.Hex() + "\n" + b.Hex() + "\n": "two different SHA-256 digests",
		// of nobody knows what
		"see " + name + "\nbuilt from " + of(SHA1, "commit").Hex() + " today\n": "holds no digest",
		// disagrees
		name + " SHA512: " + a.Hex() + "\n": "tagged SHA-512, but its digits are",
		// of one of two
		"Hash: " + a.Hex() + "\nPath: x.img\nPath: " + name + "\n": "does not name " + name,
		// of its signature
		name + ".asc " + a.Hex() + "\n": "does not name " + name,
		// a digit is missing
		`{"name": "` + name + `", "sha256": "` + a.Hex()[:63] + `"}`: "holds no digest",
		// likewise
		"file,sha256\n" + name + "," + a.Hex()[:63] + "\nx," + b.Hex() + "\n": "names " + name + " in line 2, but the",
	} {
		sums, err := ReadSums(strings.NewReader(text), "x.txt")
		var got []Entry
		if err == nil {
			got, err = sums.Lookup(name)
		}
		if why != "" {
			assert.ErrorContains(t, err, why, "%q", text)
			continue
		}
		require.NoError(t, err, "%q", text)
		require.Len(t, got, 1)
		assert.Equal(t, a, got[0].Digest)
	}
}

// TestWhatIsGiven reads what people paste for a digest.
func TestWhatIsGiven(t *testing.T) {
	const name = "saltmarsh-os.img.xz"
	d, o := of(SHA256, "tide"), of(SHA256, "ebb")
	for text, misnamed := range map[string]bool{
		d.Hex(): false, "sha256:" + d.Hex(): false, `"` + strings.ToUpper(d.Hex()) + `"`: false,
		d.Hex() + "  " + name: false, d.Hex() + "  other.img": true, "SHA256 (" + name + ") = " + d.Hex(): false,
		"sha256-" + base64Of(d): false, base64Of(d): false, "SHA256: " + base64Of(d): false,
		o.Hex() + "  other.img\n" + d.Hex() + "  " + name + "\n":                             false,
		"Saltmarsh OS 5\nDownload " + name + "\nSHA-256: " + d.Hex() + "\nReleased in May\n": false,
		"SHA-256  " + inGroups(d.Hex(), 8)[:35] + "\n" + inGroups(d.Hex(), 8)[36:] + "\n":    false,
		"0x" + d.Hex(): false,
	} {
		s, err := ReadGiven(text)
		require.NoError(t, err, "%q", text)
		got, err := s.For(name, "saltmarsh-os.img")
		require.NoError(t, err, "%q", text)
		require.Len(t, got, 1, "%q", text)
		assert.Equal(t, d, got[0].Digest, "%q", text)
		assert.Equal(t, misnamed, got[0].Misnamed, "%q", text)
	}
	s, err := ReadGiven(o.Hex() + "  a.img\n" + d.Hex() + "  b.img")
	require.NoError(t, err)
	_, err = s.For(name)
	assert.ErrorContains(t, err, "the digest given does not name "+name)
	for _, text := range []string{d.Hex()[:63] + "  " + name, "SHA256: " + d.Hex()[:20] + "O" + d.Hex()[21:]} {
		_, err := ReadGiven(text)
		assert.ErrorAs(t, err, new(*GarbledError), "%q", text)
	}
	for _, text := range []string{"", "tide", name, "sm3:" + d.Hex()} {
		_, err := ReadGiven(text)
		assert.Error(t, err, "%q", text)
	}
}

// TestDigestsWithoutANameLieBeside has files that may be for an image, and says of what they hold no more than that.
func TestDigestsWithoutANameLieBeside(t *testing.T) {
	d, o := of(SHA256, "tide"), of(SHA256, "ebb")
	names := []string{"saltmarsh-os.img.xz", "saltmarsh-os.img"}
	look := func(files map[string]string) Beside {
		dir := t.TempDir()
		for file, text := range files {
			require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(text), 0o600))
		}
		b, err := LookBeside(filepath.Join(dir, names[0]), names...)
		require.NoError(t, err)
		return b
	}
	for _, file := range []string{
		"hash.txt", "saltmarsh-os.sha256", "checksums (1).md", "x.digest", "saltmarsh-os.zip.sha256",
	} {
		b := look(map[string]string{file: d.Hex() + "\n"})
		assert.Empty(t, b.Published, file)
		assert.Empty(t, b.Wrong, file)
		require.Len(t, b.Loose, 1, file)
		assert.Equal(t, d, b.Loose[0].Digest)
	}
	// what is named after the image counts alone, and one for the folder that has other images is no error beside it
	b := look(map[string]string{
		names[0] + ".sha256": d.Hex(), "SHA256SUMS": o.Hex() + "  other.img\n", "hash.txt": o.Hex(),
	})
	assert.Len(t, b.Published, 1)
	assert.Empty(t, b.Wrong)
	assert.Empty(t, b.Loose)
	b = look(map[string]string{"SHA256SUMS": o.Hex() + "  other.img\n"})
	require.Len(t, b.Wrong, 1)
	assert.True(t, b.Wrong[0].Absent)
	assert.Empty(t, look(map[string]string{
		"hash.txt": "SHA256: none\n", "huge.txt": d.Hex() + strings.Repeat("\n", maxLoose),
	}).Loose)
}

// TestOwnResultsAreNothingPublished keeps receipts and results of this program beside an image: their digests were
// computed, and say nothing of what was published.
func TestOwnResultsAreNothingPublished(t *testing.T) {
	d := of(SHA256, "tide")
	const name = "saltmarsh-os.img.xz"
	for file, text := range map[string]string{
		"r.json": `{"schema": "receipt", "version": 2, "exit": 0, "sentence": "x", "image": {"path": "` + name +
			`", "image_digests": {"sha256": "` + d.Hex() + `"}}}`,
		"old.json": `{"receipt": 1, "tool": {"name": "zipstamp"}, "image": {"path": "` + name +
			`", "download_digests": {"sha256": "` + d.Hex() + `"}}}`,
		"checksums.txt": "Nothing was compared.\n  file     " + name + ", 12 MB\n  SHA-256  " +
			inGroups(d.Hex(), 8)[:35] +
			"\n           " + inGroups(d.Hex(), 8)[36:] + "\n           of the file as downloaded\n",
		"hash.txt": "Stamped.\n  image    " + name + ", 49.3 MB\n  checked  nothing\n  SHA-256  " + d.Hex() +
			"\n  receipt  x.json\n",
		"page.html": "<html><p>" + name + "</p><p>SHA-256 " + d.Hex() + "</p><dt>SHA-256 of the record</dt></html>",
	} {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(text), 0o600))
		b, err := LookBeside(filepath.Join(dir, name), name)
		require.NoError(t, err)
		assert.Zero(t, len(b.Published)+len(b.Wrong)+len(b.Loose), file)
		_, wrong, err := InGiven([]string{filepath.Join(dir, file)}, name)
		require.NoError(t, err)
		require.Len(t, wrong, 1, file)
		assert.Contains(t, wrong[0].Error(), "not what somebody published", file)
	}
}

// TestVeryManyDigests has very many of them in one line, and in one document.
func TestVeryManyDigests(t *testing.T) {
	var line, doc strings.Builder
	doc.WriteString(`{"list": [`)
	const n = 10_000
	for i := range n {
		hex := of(SHA256, fmt.Sprint(i)).Hex()
		fmt.Fprintf(&line, "%s ", hex)
		fmt.Fprintf(&doc, "{\"name\": \"f%d.img\", \"sha256\": %q},\n", i, hex)
	}
	doc.WriteString(`{}]}`)
	for _, text := range []string{line.String() + "\n", doc.String()} {
		sums, err := ReadSums(strings.NewReader("x "+text), "x")
		if strings.HasPrefix(text, "{") {
			sums, err = ReadSums(strings.NewReader(text), "x")
		}
		require.NoError(t, err)
		assert.Len(t, sums.Entries, n)
	}
}

// FuzzForms changes bytes of the forms: nothing that is read is longer than it, and reading ends.
func FuzzForms(f *testing.F) {
	for _, form := range forms {
		f.Add([]byte(form.text("a.img.xz", of(SHA256, "a"), "b.img.gz", of(SHA256, "b"))), form.file)
	}
	f.Fuzz(func(t *testing.T, text []byte, file string) {
		sums, err := ReadSums(bytes.NewReader(text), file)
		if err != nil {
			return
		}
		for _, e := range sums.Entries {
			if e.Line < 1 || e.Line > bytes.Count(text, []byte("\n"))+1 || len(e.sum) != e.Algorithm.Size() {
				t.Fatalf("%+v", e)
			}
		}
		_, _ = sums.Lookup("a.img.xz")
	})
}

// TestAlgorithmsAreNamed finds the name of every algorithm in words that people write.
func TestAlgorithmsAreNamed(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		a := rapid.SampledFrom(Algorithms()).Draw(t, "algorithm")
		write := rapid.SampledFrom([]func(string) string{
			strings.ToUpper, strings.ToLower, func(s string) string { return strings.ReplaceAll(s, "-", "_") },
			func(s string) string { return s + "sum" }, func(s string) string { return s + "SUMS" },
			func(s string) string { return "Checksums-" + s }, func(s string) string { return "image_" + s },
		}).Draw(t, "write")
		word := write(rapid.SampledFrom([]string{a.String(), a.Plain()}).Draw(t, "name"))
		if got := named(word); got != a {
			t.Fatalf("%s is taken for %v", word, got)
		}
	})
	for _, word := range []string{"", "saltmarsh", "sums", "release", "sha", "512", "b", "blake"} {
		assert.Zero(t, named(word), word)
	}
}
