package trust

import (
	"bytes"
	"crypto"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp/packet"
	openpgp "github.com/ProtonMail/go-crypto/openpgp/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/state"

	"zipstamp/internal/testbed"
)

// signer is a folder with a sums file and the key rings of the reference programs.
type signer struct {
	t   *testing.T
	dir string
}

const sums = "d41d8cd98f00b204e9800998ecf8427e  saltmarsh-os.img.xz\n- a line that starts with a dash\n"

func newSigner(t *testing.T) *signer {
	testbed.NeedTool(t, "sh", "gpg", "minisign")
	dir, err := os.MkdirTemp("/tmp", "zs") // the sockets of gpg's agent need a short path
	require.NoError(t, err)
	s := &signer{t, dir}
	t.Cleanup(func() {
		_ = exec.Command("gpgconf", "--homedir", dir, "--kill", "all").Run()
		os.RemoveAll(dir)
	})
	s.write("SUMS", sums)
	return s
}

func (s *signer) path(name string) string { return filepath.Join(s.dir, name) }

func (s *signer) write(name, text string) {
	require.NoError(s.t, os.WriteFile(s.path(name), []byte(text), 0o600))
}

func (s *signer) read(name string) []byte {
	text, err := os.ReadFile(s.path(name))
	require.NoError(s.t, err)
	return text
}

// sh runs commands; gpg is one that asks nothing.
func (s *signer) sh(commands string) {
	s.t.Helper()
	cmd := exec.Command("sh", "-ec",
		`gpg() { command gpg --homedir . --batch --yes --quiet --no-tty --pinentry-mode loopback --passphrase '' "$@"; }
		`+commands)
	cmd.Dir = s.dir
	out, err := cmd.CombinedOutput()
	require.NoError(s.t, err, "%s", out)
}

func (s *signer) keys(files ...string) Ring {
	s.t.Helper()
	var ring Ring
	for _, f := range files {
		keys, err := ReadKeyFile(s.path(f))
		require.NoError(s.t, err)
		ring = append(ring, keys...)
	}
	return ring
}

func (s *signer) detached(r Ring, file string) []Signature {
	s.t.Helper()
	found, err := r.Detached(s.path("SUMS"), bytes.NewReader(s.read("SUMS")), s.path(file))
	require.NoError(s.t, err)
	return found
}

func TestSignaturesOfTheReferencePrograms(t *testing.T) {
	s := newSigner(t)
	s.sh(`gpg --quick-gen-key 'Saltmarsh Watchers <keys@saltmarsh.example>' ed25519 sign never
		gpg --export --armor > club.asc; gpg --export > club.bin
		gpg --detach-sign --armor -o SUMS.asc SUMS; gpg --detach-sign -o SUMS.sig SUMS
		gpg --clear-sign -o SUMS.clear SUMS
		gpg --digest-algo SHA1 --allow-weak-digest-algos --detach-sign -o SUMS.sha1 SUMS
		gpg --quick-gen-key 'Somebody <else@saltmarsh.example>' rsa2048 sign never
		gpg -u Somebody --detach-sign -o SUMS.other SUMS; cat SUMS.other SUMS.sig > SUMS.both
		gpg --export Somebody > other.bin
		minisign -GW -p mini.pub -s mini.key -c 'the club' >/dev/null; minisign -S -s mini.key -m SUMS -x SUMS.minisig
		minisign -S -l -s mini.key -m SUMS -x SUMS.legacy`)
	for _, keys := range []string{"club.asc", "club.bin"} {
		club := s.keys(keys)
		require.Len(t, club, 1)
		assert.Equal(t, "Saltmarsh Watchers <keys@saltmarsh.example>", club[0].Owner)
		assert.True(t, strings.HasSuffix(club[0].Fingerprint, club[0].ID))
		for _, file := range []string{"SUMS.asc", "SUMS.sig"} {
			found := s.detached(club, file)
			require.Len(t, found, 1, file)
			assert.Equal(t, Good, found[0].Status, "%s: %s", file, found[0].Why)
			assert.Equal(t, club[0].Owner, found[0].Key.Owner)
			assert.WithinDuration(t, time.Now(), found[0].Made, time.Hour)
		}
		found := s.detached(club, "SUMS.both")
		require.Len(t, found, 2)
		assert.Equal(t, []Status{Unknown, Good}, []Status{found[0].Status, found[1].Status})
		assert.Equal(t, s.keys("other.bin")[0].ID, found[0].KeyID)
		found = s.detached(club, "SUMS.sha1")
		assert.Equal(t, Refused, found[0].Status)
		assert.Contains(t, found[0].Why, "SHA-1")
	}
	club := s.keys("club.asc")
	text, found, err := club.ClearSigned("SUMS.clear", append([]byte("0000  not signed\n"), s.read("SUMS.clear")...))
	require.NoError(t, err)
	assert.Equal(t, Good, found[0].Status, found[0].Why)
	assert.Equal(t, strings.TrimSuffix(sums, "\n"), string(text),
		"only what is signed, without the dashes that were put in")
	_, found, err = club.ClearSigned("SUMS.clear",
		bytes.Replace(s.read("SUMS.clear"), []byte("d41d"), []byte("d41e"), 1))
	require.NoError(t, err)
	assert.Equal(t, Bad, found[0].Status)
	_, _, err = club.ClearSigned("SUMS", s.read("SUMS"))
	assert.ErrorIs(t, err, ErrNoSignature)

	mini := s.keys("mini.pub")
	assert.Contains(t, mini[0].Owner, strings.TrimLeft(mini[0].ID, "0"),
		"the reference writes an ID without the zeros that it begins with")
	for _, file := range []string{"SUMS.minisig", "SUMS.legacy"} {
		found := s.detached(mini, file)
		assert.Equal(t, Good, found[0].Status, file)
		assert.Equal(t, Unknown, s.detached(club, file)[0].Status)
		assert.WithinDuration(t, time.Now(), found[0].Made, time.Hour)
	}
	alone, err := ReadKeys([]byte(mini[0].Fingerprint+"\n"), "typed")
	require.NoError(t, err)
	assert.Equal(t, mini[0].ID, alone[0].ID)

	s.write("SUMS", sums+"one more line\n")
	for file, ring := range map[string]Ring{"SUMS.asc": club, "SUMS.minisig": mini, "SUMS.legacy": mini} {
		assert.Equal(t, Bad, s.detached(ring, file)[0].Status, file)
	}
}

func TestKeysThatMustNotBeReliedOn(t *testing.T) {
	s := newSigner(t)
	s.sh(`gpg --faked-system-time 20240101T000000! --quick-gen-key 'Expired <a@saltmarsh.example>' ed25519 sign 30d
		gpg --faked-system-time 20240102T000000! -u Expired --detach-sign -o SUMS.expired SUMS
		gpg --export Expired > expired.bin
		gpg --quick-gen-key 'Revoked <b@saltmarsh.example>' ed25519 sign never
		gpg -u Revoked --detach-sign -o SUMS.revoked SUMS
		revoked=$(gpg --list-keys --with-colons Revoked | awk -F: '/^fpr/{print $10}')
		sed 's/^:---/---/' openpgp-revocs.d/$revoked.rev > rev.asc
		gpg --import rev.asc; gpg --export Revoked > revoked.bin
		gpg --export-secret-keys Revoked > secret.bin`)
	for name, why := range map[string]string{"expired": "its key has expired", "revoked": "its key was revoked"} {
		found := s.detached(s.keys(name+".bin"), "SUMS."+name)
		assert.Equal(t, Refused, found[0].Status, name)
		assert.Equal(t, why, found[0].Why)
	}
	_, err := ReadKeyFile(s.path("secret.bin"))
	assert.ErrorContains(t, err, "holds a secret key")
	_, err = ReadKeyFile(s.path("SUMS"))
	assert.ErrorContains(t, err, "no OpenPGP public key")
	_, err = Ring(nil).Detached("SUMS", bytes.NewReader(nil), s.path("SUMS"))
	assert.ErrorIs(t, err, ErrNoSignature)

	// a key that its owner says is for encryption only
	e, err := openpgp.NewEntity("Wrong Purpose", "", "c@saltmarsh.example", &packet.Config{
		Algorithm: packet.PubKeyAlgoRSA, RSABits: 2048, DefaultHash: crypto.SHA256,
	})
	require.NoError(t, err)
	var sig, key bytes.Buffer
	require.NoError(t, openpgp.DetachSign(&sig, []*openpgp.Entity{e}, bytes.NewReader(s.read("SUMS")), nil))
	for _, identity := range e.Identities {
		for _, cert := range identity.SelfCertifications {
			cert.Packet.FlagSign = false
			require.NoError(t, cert.Packet.SignUserId(identity.Name, e.PrimaryKey, e.PrivateKey, nil))
		}
	}
	for _, direct := range e.DirectSignatures {
		direct.Packet.FlagSign = false
		require.NoError(t, direct.Packet.SignDirectKeyBinding(e.PrimaryKey, e.PrivateKey, nil))
	}
	require.NoError(t, e.Serialize(&key))
	s.write("purpose.bin", key.String())
	s.write("SUMS.purpose", sig.String())
	found := s.detached(s.keys("purpose.bin"), "SUMS.purpose")
	assert.Equal(t, Refused, found[0].Status)
	assert.Equal(t, "its key is not one for signing", found[0].Why)
}

// TestKeyThatIsNamedTwice has a signature read what it is of once for all keys: the second pass over a stream has
// nothing left, and would be of an empty file.
func TestKeyThatIsNamedTwice(t *testing.T) {
	s := newSigner(t)
	s.sh(`echo | minisign -G -f -W -p a.pub -s a.key >/dev/null
		minisign -S -W -s a.key -m SUMS -x good.minisig; minisign -S -W -l -s a.key -m SUMS -x old.minisig
		: > empty; minisign -S -W -s a.key -m empty -x empty.minisig`)
	twice := s.keys("a.pub", "a.pub")
	for _, file := range []string{"good.minisig", "old.minisig"} {
		assert.Equal(t, Good, s.detached(twice, file)[0].Status, file)
	}
	assert.Equal(t, Bad, s.detached(twice, "empty.minisig")[0].Status,
		"the signature of an empty file is none of another")
	assert.Len(t, twice.Distinct(), 1)
}

// TestSignatureOfTheFuture is met by boards and computers without a clock.
func TestSignatureOfTheFuture(t *testing.T) {
	s := newSigner(t)
	s.sh(`
		gpg --faked-system-time 20991231T000000! \
			--quick-gen-key 'Saltmarsh <tides@saltmarsh.example>' ed25519 sign never
		gpg --faked-system-time 20991231T000000! --detach-sign -o future.sig SUMS; gpg --export > future.gpg
		gpg --quick-gen-key 'Brindle <boards@saltmarsh.example>' ed25519 sign never
		gpg --faked-system-time 20991231T000000! -u Brindle --detach-sign -o later.sig SUMS
		gpg --export Brindle > now.gpg`)
	for sig, key := range map[string]string{"future.sig": "future.gpg", "later.sig": "now.gpg"} {
		found := s.detached(s.keys(key), sig)
		require.NotEmpty(t, found, sig)
		assert.Equal(t, Refused, found[0].Status, sig)
		assert.Contains(t, found[0].Why, "made in the future, on 31 December 2099: set the date", sig)
	}
}

func TestKeptKeys(t *testing.T) {
	s := newSigner(t)
	s.sh(`gpg --quick-gen-key 'Saltmarsh Watchers <keys@saltmarsh.example>' ed25519 sign never
		gpg --export --armor > club.asc
		minisign -GW -p mini.pub -s mini.key >/dev/null`)
	folder := s.path("a/keys")
	none, err := Kept(folder)
	require.NoError(t, err)
	assert.Empty(t, none)
	for _, file := range []string{"club.asc", "mini.pub", "club.asc"} {
		_, err := Keep(state.Place{Home: filepath.Dir(filepath.Dir(folder)), Folder: "a/keys"}, s.keys(file)[0],
			s.read(file))
		require.NoError(t, err)
	}
	kept, err := Kept(folder)
	require.NoError(t, err)
	require.Len(t, kept, 2)
	club := kept.ByID(s.keys("club.asc")[0].ID)
	require.Len(t, club, 1)
	assert.True(t, club[0].Kept)
	spaced := fmt.Sprintf("%s %s", strings.ToLower(club[0].Fingerprint[:20]), club[0].Fingerprint[20:])
	assert.True(t, club[0].IsFingerprint(spaced))
	assert.False(t, club[0].IsFingerprint(club[0].Fingerprint[30:]), "too little to tell keys apart")
	assert.False(t, club[0].IsFingerprint(strings.Repeat("0", 40)))
	require.NoError(t, Remove(club))
	kept, err = Kept(folder)
	require.NoError(t, err)
	assert.Len(t, kept, 1)
	require.NoError(t, os.WriteFile(filepath.Join(folder, "x.key"), []byte("rubbish"), 0o600))
	_, err = Kept(folder)
	assert.ErrorContains(t, err, "x.key holds no OpenPGP public key")
}

// FuzzSignatures takes any bytes for keys, for signatures and for a clear-signed message.
func FuzzSignatures(f *testing.F) {
	e, err := openpgp.NewEntity("Saltmarsh Watchers", "", "keys@saltmarsh.example", nil)
	if err != nil {
		f.Fatal(err)
	}
	var key, sig, armoured bytes.Buffer
	_ = e.Serialize(&key)
	_ = openpgp.DetachSign(&sig, []*openpgp.Entity{e}, strings.NewReader(sums), nil)
	_ = openpgp.ArmoredDetachSign(&armoured, []*openpgp.Entity{e}, strings.NewReader(sums), nil)
	for _, seed := range [][]byte{
		key.Bytes(), sig.Bytes(), armoured.Bytes(),
		[]byte("-----BEGIN PGP SIGNED MESSAGE-----\nHash: SHA512\n\n" + sums + armoured.String()),
		[]byte("untrusted comment: x\nRUQzAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAAA\n"),
	} {
		f.Add(seed)
	}
	ring, err := ReadKeys(key.Bytes(), "")
	if err != nil {
		f.Fatal(err)
	}
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, data []byte) {
		_, _ = ReadKeys(data, "")
		path := filepath.Join(dir, "sig")
		if err := os.WriteFile(path, data, 0o600); err != nil {
			t.Fatal(err)
		}
		found, _ := Ring(ring).Detached("x", strings.NewReader("other"), path)
		_, more, _ := Ring(ring).ClearSigned("x", data)
		for _, s := range append(found, more...) {
			if s.Status == Good && !bytes.Contains(data, []byte(sums[:20])) {
				t.Fatalf("%+v", s)
			}
		}
	})
}
