package trust

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	pgperrors "github.com/ProtonMail/go-crypto/openpgp/errors"
	"github.com/ProtonMail/go-crypto/openpgp/packet"
	openpgp "github.com/ProtonMail/go-crypto/openpgp/v2"
)

// config is how signatures are checked: the library refuses MD5, SHA-1 and RIPEMD-160 by itself.
var config = &packet.Config{}

// unarmored gives the packets of a text that may be armored.
func unarmored(text []byte) (io.Reader, string, error) {
	if i := bytes.Index(text, []byte("-----BEGIN PGP ")); i >= 0 {
		block, err := armor.Decode(bytes.NewReader(text[i:]))
		if err != nil {
			return nil, "", errors.New("has an OpenPGP armour that is not well formed")
		}
		return block.Body, block.Type, nil
	}
	return bytes.NewReader(text), "", nil
}

func readOpenPGP(text []byte) ([]Key, error) {
	body, kind, err := unarmored(text)
	if err != nil {
		return nil, err
	}
	if kind != "" && kind != openpgp.PublicKeyType {
		return nil, fmt.Errorf("holds a %s, not a public key", strings.ToLower(kind))
	}
	entities, err := openpgp.ReadKeyRing(body)
	if err != nil {
		return nil, fmt.Errorf("holds no OpenPGP public key that can be used (%w)", err)
	}
	var keys []Key
	for _, e := range entities {
		if e.PrivateKey != nil {
			return nil, errors.New("holds a secret key; export the public one, and give that")
		}
		keys = append(keys, Key{
			Format: OpenPGP, ID: fmt.Sprintf("%016X", e.PrimaryKey.KeyId),
			Fingerprint: fmt.Sprintf("%X", e.PrimaryKey.Fingerprint), Owner: owner(e), own: e,
		})
	}
	return keys, nil
}

func owner(e *openpgp.Entity) string {
	if _, primary := e.PrimaryIdentity(time.Time{}, config); primary != nil {
		return primary.Name
	}
	for name := range e.Identities {
		return name
	}
	return ""
}

// keyring is the OpenPGP keys.
func (r Ring) keyring() openpgp.EntityList {
	var list openpgp.EntityList
	for _, k := range r {
		if e, is := k.own.(*openpgp.Entity); is {
			list = append(list, e)
		}
	}
	return list
}

func (r Ring) keyOf(e *openpgp.Entity) *Key {
	for i := range r {
		if r[i].own == any(e) {
			return &r[i]
		}
	}
	return nil
}

// openPGP checks detached signatures.
func (r Ring) openPGP(text []byte, signed io.Reader) ([]Signature, error) {
	body, kind, err := unarmored(text)
	if err != nil && bytes.Contains(text, []byte("-----BEGIN "+openpgp.SignatureType)) {
		return []Signature{malformed}, nil
	}
	if err != nil || kind != "" && kind != openpgp.SignatureType {
		return nil, ErrNoSignature
	}
	found, err := r.verify(signed, body)
	if errors.Is(err, ErrNoSignature) && kind != "" {
		return []Signature{malformed}, nil
	}
	return found, err
}

// malformed is what says that it is a signature, and can't be read.
var malformed = Signature{Format: OpenPGP, Status: Refused, Why: "it is not well formed"}

// verify checks all signatures that body holds.
func (r Ring) verify(signed, body io.Reader) ([]Signature, error) {
	details, err := openpgp.VerifyDetachedSignatureReader(r.keyring(), signed, body, config)
	var unsupported pgperrors.UnsupportedError
	switch {
	case errors.As(err, &unsupported):
		return []Signature{
			{Format: OpenPGP, Status: Refused, Why: "its kind is not supported: " + string(unsupported)},
		}, nil
	case err != nil:
		return nil, ErrNoSignature
	}
	if _, err := io.Copy(io.Discard, details.UnverifiedBody); err != nil {
		return nil, err
	}
	var found []Signature
	for _, c := range details.SignatureCandidates {
		s := Signature{Format: OpenPGP, KeyID: fmt.Sprintf("%016X", c.IssuerKeyId), Status: Unknown}
		if c.CorrespondingSig != nil {
			s.Made = c.CorrespondingSig.CreationTime
		}
		if c.SignedByEntity != nil {
			s.Key = r.keyOf(c.SignedByEntity)
			s.Status, s.Why = judge(c)
			s.Later = !madeLater(c, time.Now()).IsZero()
		}
		found = append(found, s)
	}
	return found, nil
}

// judge says what became of a signature whose key is known.
func judge(c *openpgp.SignatureCandidate) (Status, string) {
	now := time.Now()
	e := c.SignedByEntity
	if made := madeLater(c, now); !made.IsZero() {
		return Refused, fmt.Sprintf(
			"by the clock of this computer it was made in the future, on %s: set the date, if it is wrong",
			made.UTC().Format("2 January 2006"),
		)
	}
	var wrong pgperrors.SignatureError
	switch err := c.SignatureError; {
	case e.Revoked(now):
		return Refused, "its key was revoked"
	case errors.Is(err, pgperrors.ErrKeyRevoked):
		return Refused, "its key was revoked"
	case errors.Is(err, pgperrors.ErrKeyExpired):
		return Refused, "its key has expired"
	case errors.Is(err, pgperrors.ErrSignatureExpired):
		return Refused, "it has expired"
	case errors.Is(err, pgperrors.ErrSignatureOlderThanKey):
		return Refused, "it is older than its key"
	case errors.As(err, &wrong) && strings.Contains(string(wrong), "insecure"):
		return Refused, "it signs a digest that can be forged (" + c.HashAlgorithm.String() + ")"
	case errors.As(err, new(pgperrors.WeakAlgorithmError)):
		return Refused, "its key is too weak: " + err.Error()
	case err != nil && c.SignedBy == nil:
		return Refused, "its key is not one for signing"
	case err != nil:
		return Bad, "what it was made for has changed, or it was made with another key"
	}
	// the library takes a signature that was made while its key was valid
	if _, err := e.VerifyPrimaryKey(now, config); err != nil {
		return Refused, "its key has expired"
	}
	if _, usable := e.SigningKeyById(now, c.IssuerKeyId, config); !usable {
		return Refused, "its key has expired or was revoked"
	}
	return Good, ""
}

// slack is how much clocks may differ.
const slack = 10 * time.Minute

// madeLater is when the signature or its key was made, if that is still to come: more often it is this computer's date
// that is wrong.
func madeLater(c *openpgp.SignatureCandidate, now time.Time) (made time.Time) {
	if s := c.CorrespondingSig; s != nil && s.CreationTime.After(now.Add(slack)) {
		return s.CreationTime
	}
	if key := c.SignedByEntity.PrimaryKey.CreationTime; key.After(now.Add(slack)) {
		return key
	}
	return made
}

// ClearSigned checks a clear-signed message (RFC 9580 section 7), and returns the text that is signed: what stands
// before or after it is not. ErrNoSignature says that text is no such message.
func (r Ring) ClearSigned(path string, text []byte) (signed []byte, found []Signature, err error) {
	block, _ := clearsign.Decode(text)
	switch {
	case block != nil:
		signed = block.Plaintext
		found, err = r.verify(bytes.NewReader(block.Bytes), block.ArmoredSignature.Body)
	case !bytes.Contains(text, []byte("-----BEGIN PGP SIGNED MESSAGE-----")):
		return nil, nil, ErrNoSignature
	}
	if block == nil || errors.Is(err, ErrNoSignature) {
		found, err = []Signature{malformed}, nil
	}
	for i := range found {
		found[i].Of, found[i].File = path, path
	}
	return signed, found, err
}
