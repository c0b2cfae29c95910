package e2e

import (
	"crypto/sha1"
	"crypto/sha256"
	"fmt"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
	"zipstamp/internal/testbed"
)

// signed is a desk with the club's key, and its sums file and image signed by the reference programs.
func signed(t *testing.T) *desk {
	testbed.NeedTool(t, "gpg", "minisign")
	d := newDesk(t, osXZ, demo.Sums)
	d.sh(`mkdir -m 700 ring
		gpg() { command gpg --homedir ring --batch --quiet --no-tty --pinentry-mode loopback --passphrase '' "$@"; }
		gpg --quick-gen-key 'Saltmarsh Watchers <keys@saltmarsh.example>' ed25519 sign never 2>/dev/null
		gpg --armor --export > watchers.asc
		gpg --armor --detach-sign -o sums.asc ` + demo.Sums + `; gpg --detach-sign -o image.sig ` + osXZ + `
			gpg --clear-sign -o clear ` + demo.Sums + `
		minisign -GW -p club.pub -s club.key > /dev/null; minisign -S -s club.key -m ` + osXZ + ` -x image.minisig
			gpgconf --homedir ring --kill all`)
	return d
}

// sh runs commands in the desk's folder.
func (d *desk) sh(commands string) string {
	d.t.Helper()
	cmd := exec.Command("sh", "-ec", commands)
	cmd.Dir, cmd.Env = d.dir, d.env
	out, err := cmd.CombinedOutput()
	require.NoError(d.t, err, "%s", out)
	return string(out)
}

func TestWhatIsKnownIsGraded(t *testing.T) {
	t.Parallel()
	d := signed(t)
	d.sh("cp sums.asc " + demo.Sums + ".asc")
	d.want(0, "is what was published: its SHA-256 agrees", "check", osXZ).mentions(t,
		"which you don't keep, so it counts for nothing", "zipstamp keys add")
	d.want(0, "is what was published, and signed by the key that you named (Saltmarsh Watchers", "check", "--key",
		"watchers.asc", osXZ)
	d.want(3, "is not signed by the key that you named", "check", "--key", "club.pub", osXZ)

	d.want(0, "You keep no keys", "keys", "list")
	d.want(2, "no terminal to compare the fingerprint on", "keys", "add", "watchers.asc")
	d.want(3, "the key has another fingerprint", "keys", "add", "watchers.asc", "--fingerprint",
		strings.Repeat("0", 40))
	typed := d.typed(80, "00000000\n", "keys", "add", "watchers.asc")
	assert.Contains(t, plain(typed.out), "the key was not kept")
	doc := document(t, d.want(0, "", "keys", "add", "club.pub", "--json", "--fingerprint",
		strings.Fields(string(d.read("club.pub")))[len(strings.Fields(string(d.read("club.pub"))))-1]))
	mini := doc["keys"].([]any)[0].(map[string]any)
	fingerprint := strings.TrimSpace(d.sh(
		`gpg --homedir ring --with-colons --list-keys 2>/dev/null | awk -F: '/^fpr/{print $10}'`,
	))
	typed = d.typed(80, fingerprint[32:]+"\n", "keys", "add", "watchers.asc")
	assert.Contains(t, plain(typed.out), "is kept: what it signs counts from now on")
	d.want(0, "Saltmarsh Watchers", "keys", "list").mentions(t, mini["id"].(string), fingerprint[36:])

	d.want(0, "signed by a key that you keep (Saltmarsh Watchers", "check", osXZ)
	d.card("x.card", "--claimed", "64MB")
	d.want(0, "Stamped and read back", "stamp", "--yes", osXZ, "x.card").mentions(t, "signed by a key that you keep")
	d.sh("rm " + demo.Sums + " " + demo.Sums + ".asc; cp clear " + demo.Sums)
	d.want(0, "signed by a key that you keep", "check", osXZ).mentions(t, "within SHA256SUMS")
	d.sh("rm " + demo.Sums + "; cp image.sig " + osXZ + ".sig")
	r := d.want(0, "signed by a key that you keep", "check", "--json", osXZ)
	first := document(t, r)["images"].([]any)[0].(map[string]any)
	assert.Equal(t, "good", first["signatures"].([]any)[0].(map[string]any)["status"])
	d.sh("rm " + osXZ + ".sig; cp image.minisig " + osXZ + ".minisig")
	d.want(0, "signed by a key that you keep", "check", osXZ)
	d.want(0, "Stamped and read back", "stamp", "--yes", osXZ, "x.card")
	d.want(0, "is forgotten", "keys", "remove", mini["id"].(string))
	d.want(0, "Nothing was compared", "check", osXZ).mentions(t, "counts for nothing")
	d.want(3, "no published digest of saltmarsh-os.img.xz was found", "stamp", "--yes", osXZ, "x.card")
	d.want(2, "you keep no key 12345678", "keys", "remove", "12345678")

	d.write(osXZ+".sha1", []byte(fmt.Sprintf("%x\n", sha1.Sum(d.read(osXZ)))))
	d.want(0, "is not damaged: its SHA-1 agrees, which shows damage, not forgery", "check", osXZ)
}

func TestBadSignatureCountsWhateverTheDigestSays(t *testing.T) {
	t.Parallel()
	d := signed(t)
	d.sh("cp sums.asc " + demo.Sums + ".asc; echo '# more' >> " + demo.Sums)
	d.want(3, "must not be used: its signature is bad", "check", "--key", "watchers.asc", osXZ).mentions(t,
		"SHA-256 agrees")
	d.card("x.card", "--claimed", "64MB")
	d.want(3, "Nothing was written to x.card", "stamp", "--yes", "--key", "watchers.asc", osXZ, "x.card")
	// what stands before a signed message is not signed
	d.write("other.img", unpack[:3<<20])
	d.sh("rm " + demo.Sums + ".asc; (sha256sum other.img; cat clear) > " + demo.Sums)
	d.want(3, "line 1 is not used: it is outside of what is signed", "check", "other.img")
	d.want(3, "does not name other.img", "check", "--key", "watchers.asc", "other.img")
	d.want(0, "has lines outside of what is signed (line 1)", "check", "--key", "watchers.asc", osXZ)
	d.want(0, "signed by the key that you named", "check", "--key", "watchers.asc", osXZ)
}

func TestManyImagesAndFolders(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, demo.Sums, "damaged/"+osXZ, "damaged/"+demo.Sums)
	d.write("notes.txt", []byte("not an image"))
	d.write("old/club.img", unpack)
	d.write(".hidden/x.img", unpack[:1<<20])
	r := d.want(3, "3 images checked: 1 as published, 1 not, 1 with nothing to compare", "check", ".")
	r.mentions(t, "wrong damaged/"+osXZ+" is not what was published", "good "+osXZ+" is what was published",
		"unknown Nothing was compared")
	assert.NotContains(t, r.out, "notes.txt")
	doc := document(t, d.want(3, "", "check", "--json", ".", "none.img"))
	assert.Len(t, doc["images"], 4)
	d.want(2, "there is no image in the folder", "check", d.t.TempDir())
}

func TestCopyingMistakesAreSaid(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ)
	right := fmt.Sprintf("%x", sha256.Sum256(d.read(osXZ)))
	check := func(status int, says, digest string) {
		t.Helper()
		d.want(status, says, "check", "--digest", digest, osXZ)
	}
	check(0, "is what was published", strings.ToUpper(right))
	check(3, "copied wrong: digit 21 is missing", right[:20]+right[21:])
	check(3, "copied wrong: there is a digit too many near place", right[:20]+right[19:])
	other := "0"
	if right[9] == '0' {
		other = "1"
	}
	check(3, "copied wrong: digit 10 is "+other+" in place of", right[:9]+other+right[10:])
	check(3, "characters that look like digits and are none: О at place", strings.Replace(right, "0", "О", 1))
	check(2, "no known digest has 50 hex digits", right[:50])
	check(2, "no known digest has 63 hex digits", strings.Repeat("0", 63))
	check(3, "is not what was published", strings.Repeat("0", 64))
}
