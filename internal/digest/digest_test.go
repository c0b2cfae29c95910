package digest

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// of is the digest of a word, to have one of every algorithm.
func of(a Algorithm, word string) Digest {
	h := a.New()
	h.Write([]byte(word))
	return New(a, h.Sum(nil))
}

func TestParseReadsWhatPeoplePaste(t *testing.T) {
	want := of(SHA256, "tide")
	hex := want.Hex()
	for _, text := range []string{
		hex, strings.ToUpper(hex), "  " + hex + "\n", "sha256:" + hex, "SHA256=" + hex, "SHA-256: " + hex,
		"SHA256 = " + hex, hex[:32] + " " + hex[32:], hex[:8] + ":" + hex[8:], hex[:32] + "\r\n  " + hex[32:],
		"sha256 " + hex, "`" + hex + "`", "“" + hex + "”", "'sha256:" + hex + "'", "0x" + strings.ToUpper(hex),
		hex[:2] + "-" + hex[2:], "SHA2-256: " + hex,
	} {
		got, err := Parse(text)
		require.NoError(t, err, text)
		assert.Equal(t, want, got, text)
	}
	for _, a := range Algorithms() {
		got, err := Parse(of(a, "wind").String())
		require.NoError(t, err)
		assert.Equal(t, of(a, "wind"), got)
	}
	for text, why := range map[string]string{
		hex[:63]:        "no known digest has 63 hex digits",
		"":              "0 hex digits",
		"md5:" + hex:    "the text says MD5",
		hex[:63] + "g":  `'g' at place 64`,
		"sm3:" + hex:    `"sm3" is neither`,
		"saltmarsh.img": `"saltmarsh.img" is neither`,
	} {
		_, err := Parse(text)
		assert.ErrorContains(t, err, why, text)
	}
}

func TestSumsNotations(t *testing.T) {
	const name = "saltmarsh-os.img.xz"
	d, other := of(SHA256, "a"), of(SHA256, "b")
	line := d.Hex() + "  " + name
	for what, text := range map[string]string{
		"text":            line,
		"binary":          d.Hex() + " *" + name,
		"one space":       d.Hex() + " " + name,
		"tab":             d.Hex() + "\t" + name,
		"upper case":      strings.ToUpper(d.Hex()) + "  " + name,
		"with a folder":   d.Hex() + "  ./images/" + name,
		"windows folder":  d.Hex() + `  images\` + name,
		"tagged":          "SHA256 (" + name + ") = " + d.Hex(),
		"tagged, tight":   "SHA256(" + name + ")= " + d.Hex(),
		"CR LF":           other.Hex() + "  other.img\r\n" + line + "\r\n",
		"byte order mark": "\xEF\xBB\xBF" + line,
		"comments":        "# made on a Monday\n; and again\n\n" + line + "\n",
		"twice the same":  line + "\n" + line + "\n",
		"lines not known": "Saltmarsh OS 5\nSM3 (" + name + ") = " + of(SHA256, "x").Hex() + "\n" + line,
		"clear-signed": "-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA256\n\n- # dashed\n" + line +
			"\n-----BEGIN PGP SIGNATURE-----\n\niQEz" + other.Hex() + "\n-----END PGP SIGNATURE-----\n",
		"several digests": of(MD5, "a").Hex() + "  " + name + "\n" + line,
		"escaped":         `\` + d.Hex() + "  " + name,
		"longer name":     other.Hex() + "  old/other-" + name + "\n" + line,
	} {
		sums, err := ReadSums(strings.NewReader(text), "SHA256SUMS")
		require.NoError(t, err, what)
		entries, err := sums.Lookup(name, "saltmarsh-os.img")
		require.NoError(t, err, what)
		assert.Equal(t, d, entries[len(entries)-1].Digest, what)
		assert.Equal(t, what == "clear-signed", sums.Signed, what)
	}
}

// signedSums is a clear-signed message of seven lines and one for each of text.
func signedSums(text string) string {
	return "-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA256\n\n" + text +
		"\n-----BEGIN PGP SIGNATURE-----\n\niQEz\n-----END PGP SIGNATURE-----\n"
}

func TestLinesThatAreNoneDoNotSpoilOthers(t *testing.T) {
	const name = "saltmarsh-os.img.xz"
	d := of(SHA256, "a")
	for _, line := range []string{
		"SIZE (" + name + ") = 1234", "1234567890 99 " + name, "see " + name, d.Hex()[:63] + "  other-" + name,
		d.Hex()[:63] + "  " + name + ".asc",
	} {
		sums, err := ReadSums(strings.NewReader(line+"\n"+d.Hex()+"  "+name), "SHA256SUMS")
		require.NoError(t, err)
		found, err := sums.Lookup(name)
		require.NoError(t, err, line)
		assert.Equal(t, d, found[0].Digest)
	}
}

func TestSumsSayWhatIsWrongAndWhere(t *testing.T) {
	const name = "saltmarsh-os.img.xz"
	a, b := of(SHA256, "a").Hex(), of(SHA256, "b").Hex()
	for _, c := range []struct{ what, file, text, why string }{
		{
			"not named", "SHA256SUMS", a + "  one.img\n" + b + "  two.img\n",
			`SHA256SUMS does not name saltmarsh-os.img.xz (line 1: "one.img", line 2: "two.img")`,
		},
		{
			"twice", "SHA256SUMS", a + "  " + name + "\n\n" + b + "  " + name,
			"two different SHA-256 digests for saltmarsh-os.img.xz: lines 1 and 3",
		},
		{"twice, in folders", "SHA256SUMS", a + "  x/" + name + "\n" + b + "  y/" + name, "lines 1 and 2"},
		{
			"a digit lost", "SHA256SUMS", a[:63] + "  " + name + "\n" + b + "  two.img",
			"names saltmarsh-os.img.xz in line 1, but the digest there can't be read: no known digest has 63 hex " +
				"digits",
		},
		{
			"a digit lost, and a right MD5 below", "SHA256SUMS",
			a[:63] + "  " + name + "\n" + of(MD5, "a").Hex() + "  " + name, "names saltmarsh-os.img.xz in line 1, but",
		},
		{
			"a letter among the digits", "SHA256SUMS", a + "  two.img\n" + a[:40] + "x" + a[41:] + " *./images/" + name,
			"names saltmarsh-os.img.xz in line 2, but",
		},
		{
			"outside of what is signed", "SHA256SUMS", signedSums(b+"  two.img") + a + "  " + name,
			"line 9 is not used: it is outside of what is signed",
		},
		{
			"before what is signed", "SHA256SUMS", a + "  " + name + "\n" + signedSums(b+"  two.img"),
			"line 1 is not used: it is outside of what is signed",
		},
		{"in a second message", "SHA256SUMS", signedSums(b+"  two.img") + signedSums(a+"  "+name), "does not name"},
		{
			"tag and length disagree", "x", "SHA512 (" + name + ") = " + a + "\n",
			"tagged SHA-512, but its 64 digits are the length of SHA-256",
		},
		{"another algorithm", "x", "SM3 (" + name + ") = " + a + "\n", "SM3 is not a known algorithm"},
		{"alone, for another", "other.img.sha256", a + "\n", "line 1: a digest without a name"},
		{"empty", "SHA256SUMS", "\n", "holds no digest"},
		{"a web page", "SHA256SUMS", "<!DOCTYPE html>\n<p>Not found", "is a web page, and holds no digest"},
		{"binary", "SHA256SUMS", a + "\x00\x01", "is not text"},
		{"binary, too", "SHA256SUMS", "\x7fELF\x00\x00" + a, "is not text"},
	} {
		sums, err := ReadSums(strings.NewReader(c.text), c.file)
		if err == nil {
			_, err = sums.Lookup(name)
		}
		assert.ErrorContains(t, err, c.why, c.what)
		assert.ErrorAs(t, err, new(*SumsError), c.what)
	}
}

func TestBesideFindsAllKindsOfSumsFiles(t *testing.T) {
	d := of(SHA256, "a").Hex()
	names := []string{"saltmarsh-os.img.xz", "saltmarsh-os.img"}
	for file, found := range map[string]bool{
		"saltmarsh-os.img.xz.sha256": true, "saltmarsh-os.img.xz.sha256sum": true,
		"saltmarsh-os.img.xz.sha256.txt": true, "saltmarsh-os.img.xz.SHA256": true, "saltmarsh-os.img.xz.md5": true,
		"saltmarsh-os.img.sha512": true, "SHA256SUMS": true, "sha256sums": true, "SHA256SUM": true,
		"sha512sums.txt": true, "MD5SUMS": true, "CHECKSUM": true, "checksums.txt": true, "other.img.sha256": true,
		"SHA256SUMS.bak": true, "notes.txt": true, "check.txt": true, "sha256sum (1).txt": true, "hash.txt": true,
		"saltmarsh-os.img.xz-sha256.txt": true, "saltmarsh-os.sha256": true, "saltmarsh-os.img.xz.digest": true,
		"saltmarsh-os.img.xz.sha": true, "b2sums": true, "digests": true, "saltmarsh-os.img.xz": false,
		"saltmarsh-os.iso": false,
	} {
		dir := t.TempDir()
		require.NoError(t, os.WriteFile(filepath.Join(dir, file), []byte(d+"  saltmarsh-os.img.xz\n"), 0o600))
		got, err := LookBeside(filepath.Join(dir, names[0]), names...)
		require.NoError(t, err)
		assert.Empty(t, got.Wrong, file)
		assert.Equal(t, found, len(got.Published) == 1, file)
	}
}

// TestWrittenSumsAreRead holds for any names and digests: what a notation writes, ReadSums reads.
func TestWrittenSumsAreRead(t *testing.T) {
	escape := strings.NewReplacer(`\`, `\\`, "\n", `\n`, "\r", `\r`)
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.StringMatching(`[a-z0-9 ()=*.\\\n\r-]{0,12}[a-z0-9]`).Draw(t, "name")
		d := of(rapid.SampledFrom(Algorithms()).Draw(t, "algorithm"), name)
		safe := escape.Replace(name)
		mark := ""
		if safe != name {
			mark = `\`
		}
		text := rapid.SampledFrom([]string{
			mark + d.Hex() + "  " + safe, mark + d.Hex() + " *" + safe,
			mark + strings.ToUpper(d.Algorithm.Plain()) + " (" + safe + ") = " + d.Hex(),
		}).Draw(t, "line")
		sums, err := ReadSums(strings.NewReader(text+"\n"), "SUMS")
		if err != nil {
			t.Fatalf("%q: %v", text, err)
		}
		e := sums.Entries[0]
		if e.Guessed { // others have as many digits
			e.Algorithm = d.Algorithm
		}
		if e.File != name || e.Digest != d {
			t.Fatalf("%q read as %q %s", text, e.File, e.Digest)
		}
	})
}

func FuzzReadSums(f *testing.F) {
	d := of(SHA256, "a").Hex()
	for _, s := range []string{
		d + "  a.img", "SHA256 (a) = " + d, `\` + d + ` *a\nb`, "-----BEGIN PGP SIGNED MESSAGE-----\n\n- x", "SHA1()=",
		"(", "\\",
	} {
		f.Add([]byte(s))
	}
	f.Fuzz(func(t *testing.T, text []byte) {
		sums, err := ReadSums(bytes.NewReader(text), "SUMS")
		if err != nil {
			return
		}
		lines := bytes.Count(text, []byte("\n")) + 1
		for _, e := range sums.Entries {
			if e.Line < 1 || e.Line > lines || len(e.Hex()) != 2*e.Algorithm.Size() {
				t.Fatalf("entry %+v of %d lines", e, lines)
			}
			if again, err := Parse(e.String()); err != nil || again != e.Digest {
				t.Fatalf("%s reads as %v, %v", e.Digest, again, err)
			}
		}
	})
}

func TestSealOfBytesIsSealOfBlocks(t *testing.T) {
	data := bytes.Repeat([]byte("saltmarsh "), BlockSize/4)
	var byBytes, byBlocks Sealer
	for p := data; len(p) > 0; {
		n := min(len(p), 100_003)
		byBytes.Write(p[:n])
		p = p[n:]
	}
	for p := data; len(p) > 0; {
		n := min(len(p), BlockSize)
		byBlocks.Add(SumBlock(p[:n]))
		p = p[n:]
	}
	seal := byBytes.Seal()
	assert.Equal(t, seal, byBlocks.Seal())
	data[len(data)/2]++
	var changed Sealer
	changed.Write(data)
	assert.NotEqual(t, seal, changed.Seal())
}

func TestHasherAndAside(t *testing.T) {
	data := bytes.Repeat([]byte("tide"), 1<<20)
	h := NewHasher(SHA256, MD5, SHA256)
	a := NewAside(h)
	for p := data; len(p) > 0; {
		n := min(len(p), 1<<20+7)
		a.Write(p[:n])
		p = p[n:]
	}
	require.NoError(t, a.Close())
	require.Len(t, h.Digests(), 2)
	assert.Equal(t, fmt.Sprintf("%x", sha256.Sum256(data)), h.Digests()[0].Hex())
	assert.Equal(t, of(MD5, string(data)), h.Digests()[1])
}

func TestSlips(t *testing.T) {
	right := strings.Repeat("0123456789abcdef", 4)
	for given, what := range map[string]string{
		right[:5] + right[6:]:        "digit 6 is missing",
		right[:5] + "5" + right[5:]:  "a digit too many",
		right[:5] + "f" + right[6:]:  "digit 6 is f in place of 5",
		right[:5] + "65" + right[7:]: "digits 6 and 7 are exchanged",
		right[:len(right)-1]:         "digit 64 is missing",
		right:                        "",
		right[:5] + "ff" + right[7:]: "",
		strings.Repeat("f", 64):      "",
		right[:60]:                   "",
	} {
		got := Slip(given, right)
		if what == "" {
			assert.Empty(t, got, given)
		} else {
			assert.Contains(t, got, what, given)
		}
	}
	_, err := Parse("sha256: " + strings.Replace(right, "0", "O", 1))
	var g *GarbledError
	require.ErrorAs(t, err, &g)
	assert.Equal(t, []string{right, "O at place 1"}, []string{g.Digits, g.Alikes})
	assert.Equal(t, SHA256, g.Near)
	_, err = Parse(right + "xyz")
	assert.False(t, errors.As(err, &g))
}

// FuzzParse takes any text for a digest: what is read must read the same again, and what is nearly one must be
// explained.
func FuzzParse(f *testing.F) {
	for _, seed := range []string{
		"sha256:" + strings.Repeat("0a", 32), strings.Repeat("l", 64),
		"SHA1= da39a3ee 5e6b4b0d 3255bfef 95601890 afd80709", "９", "О",
	} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, text string) {
		d, err := Parse(text)
		var g *GarbledError
		switch {
		case err == nil:
			if again, err := Parse(d.String()); err != nil || again != d {
				t.Fatalf("%v reads as %v, %v", d, again, err)
			}
		case errors.As(err, &g):
			if _, err := hex.DecodeString(g.Digits + strings.Repeat("0", len(g.Digits)%2)); err != nil || g.Err == nil {
				t.Fatalf("%+v", g)
			}
			Slip(g.Digits, strings.Repeat("0", 2*g.Near.Size()))
		}
	})
}
