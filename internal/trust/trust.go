// Package trust checks who published something: signatures by OpenPGP (RFC 9580) and minisign, detached or
// clear-signed, made by keys that the user keeps or names. A signature by a key that isn't known says nothing.
package trust

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp/armor"
	openpgp "github.com/ProtonMail/go-crypto/openpgp/v2"

	"zipstamp/internal/state"
)

// Format is a kind of signature.
type Format string

// The formats.
const (
	OpenPGP  Format = "OpenPGP"
	Minisign Format = "minisign"
)

// Status is how a signature was found.
type Status string

// The statuses. A signature is refused if it is right as such, but not to be relied on: its key has expired or was
// revoked, is not meant for signing, or the digest that was signed can be forged.
const (
	Good    Status = "good"
	Unknown Status = "key not known"
	Bad     Status = "bad"
	Refused Status = "refused"
)

// Signature is a signature that was checked.
type Signature struct {
	Of     string // path of the file that it is for
	File   string // path of the file that it stands in; Of itself, if that is clear-signed
	Format Format
	KeyID  string // 16 hex digits
	Status Status
	Why    string // if it is bad or refused
	Key    *Key   // nil if it isn't known
	Made   time.Time
	Later  bool // it was made after now, by the clock of this computer; so it is refused
}

// Clear tells whether it is one of a clear-signed message.
func (s Signature) Clear() bool { return s.Of == s.File }

// Endings are those of files with detached signatures, behind the name of the file that is signed.
var Endings = []string{".asc", ".sig", ".gpg", ".sign", ".minisig"}

// maxSignature bounds a file with signatures, bytes.
const maxSignature = 1 << 20

// Beside returns the files with detached signatures that lie beside the file at path.
func Beside(path string) []string {
	var found []string
	for _, ending := range Endings {
		if info, err := os.Stat(path + ending); err == nil && info.Mode().IsRegular() && info.Size() <= maxSignature {
			found = append(found, path+ending)
		}
	}
	return found
}

// ErrNoSignature says that a file holds none.
var ErrNoSignature = errors.New("holds no signature")

// Detached checks the signatures in the file at path against what signed reads. A file that holds none, as a key may
// have the same ending, gives ErrNoSignature. Other errors are those of reading.
func (r Ring) Detached(of string, signed io.Reader, path string) ([]Signature, error) {
	text, err := state.ReadFile(path, maxSignature)
	if err != nil {
		return nil, err
	}
	return r.DetachedText(of, signed, path, text)
}

// DetachedText is Detached for the text of a file.
func (r Ring) DetachedText(of string, signed io.Reader, path string, text []byte) (found []Signature, err error) {
	if isMinisign(text) {
		found, err = r.minisign(text, signed)
	} else {
		found, err = r.openPGP(text, signed)
	}
	for i := range found {
		found[i].Of, found[i].File = of, path
	}
	return found, err
}

// Ring is the keys that are known.
type Ring []Key

// Key is a public key.
type Key struct {
	Format      Format
	ID          string // 16 hex digits
	Fingerprint string // hex digits; of minisign, which has none, the key itself in Base64
	Owner       string // as the key says; nobody has checked that
	Source      string // path of the file that it was read from
	Kept        bool   // it is one of those that the user keeps

	own any // *openpgp.Entity or minisign.PublicKey
}

// ReadKeys reads the public keys in a file. The error says what is wrong with it.
func ReadKeys(text []byte, source string) ([]Key, error) {
	if len(text) > MaxKeys {
		return nil, errors.New("is too large for a file of keys")
	}
	keys, err := readMinisign(text)
	if err == nil && len(keys) == 0 {
		keys, err = readOpenPGP(text)
	}
	if err == nil && len(keys) == 0 {
		err = errors.New("holds no public key")
	}
	for i := range keys {
		keys[i].Source = source
	}
	return keys, err
}

// Text is the key in a form that ReadKeys reads.
func (k Key) Text() (string, error) {
	e, ok := k.own.(*openpgp.Entity)
	if !ok {
		return minisignComment + " " + oneLine(k.Owner) + "\n" + k.Fingerprint + "\n", nil
	}
	var b strings.Builder
	w, err := armor.Encode(&b, openpgp.PublicKeyType, nil)
	if err == nil {
		err = errors.Join(e.Serialize(w), w.Close())
	}
	return b.String(), err
}

func oneLine(text string) string {
	return strings.Map(func(r rune) rune {
		if r < ' ' {
			return ' '
		}
		return r
	}, text)
}

// MaxKeys bounds a file of keys, bytes.
const MaxKeys = 16 << 20

// ReadKeyFile is ReadKeys of the file at path.
func ReadKeyFile(path string) ([]Key, error) {
	text, err := state.ReadFile(path, MaxKeys)
	if err != nil {
		return nil, err
	}
	keys, err := ReadKeys(text, path)
	if err != nil {
		return nil, fmt.Errorf("%s %w", path, err)
	}
	return keys, nil
}

// Distinct is the ring without keys that are in it already.
func (r Ring) Distinct() (out Ring) {
	for _, k := range r {
		same := func(o Key) bool { return o.Format == k.Format && o.Fingerprint == k.Fingerprint }
		if !slices.ContainsFunc(out, same) {
			out = append(out, k)
		}
	}
	return out
}

// ByID finds a key by its ID or the end of its fingerprint, of 8 characters at least.
func (r Ring) ByID(text string) []Key {
	text = plainHex(text)
	return slices.DeleteFunc(slices.Clone(r), func(k Key) bool {
		return len(text) < 8 || !bytes.HasSuffix([]byte(plainHex(k.Fingerprint)), []byte(text)) &&
			plainHex(k.ID) != text && !bytes.HasSuffix([]byte(plainHex(k.ID)), []byte(text))
	})
}

// plainHex takes out what people put between digits.
func plainHex(text string) string {
	return string(bytes.Map(func(r rune) rune {
		switch {
		case r == ' ' || r == ':' || r == '-' || r == '\t':
			return -1
		case r >= 'a' && r <= 'z':
			return r - 'a' + 'A'
		}
		return r
	}, bytes.TrimPrefix(bytes.TrimPrefix([]byte(text), []byte("0x")), []byte("0X"))))
}

// IsFingerprint tells whether text is the key's fingerprint, or its end of 16 characters or more, as people copy it.
func (k Key) IsFingerprint(text string) bool {
	text = plainHex(text)
	return len(text) >= 16 && bytes.HasSuffix([]byte(plainHex(k.Fingerprint)), []byte(text))
}

// IsSignature tells whether a text holds a detached signature, whoever made it.
func IsSignature(text []byte) bool {
	if isMinisign(text) {
		return bytes.Count(bytes.TrimSpace(text), []byte("\n")) >= minisignLines-1
	}
	_, err := Ring(nil).openPGP(text, bytes.NewReader(nil))
	return !errors.Is(err, ErrNoSignature)
}

// minisignLines is how many lines a signature of minisign has: a comment, the signature, a trusted comment, and its
// signature.
const minisignLines = 4
