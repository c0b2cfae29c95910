package trust

import (
	"bytes"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"aead.dev/minisign"
)

const (
	minisignComment = "untrusted comment:"
	legacyMax       = 256 << 20 // bytes of a file whose signature is of the old form, which takes all of it into memory
)

// isMinisign tells a signature or key of minisign by its first line.
func isMinisign(text []byte) bool { return bytes.HasPrefix(text, []byte(minisignComment)) }

// readMinisign reads a public key, with its comment or alone. It returns nothing where there is none.
func readMinisign(text []byte) ([]Key, error) {
	var public minisign.PublicKey
	trimmed := bytes.TrimSpace(text)
	if !isMinisign(trimmed) && (bytes.ContainsAny(trimmed, "\n ") || len(trimmed) != 56) {
		return nil, nil
	}
	if err := public.UnmarshalText(trimmed); err != nil {
		return nil, fmt.Errorf("holds no minisign public key that can be used (%w)", err)
	}
	comment := ""
	if first, _, found := strings.Cut(string(trimmed), "\n"); found {
		comment = strings.TrimSpace(strings.TrimPrefix(first, minisignComment))
	}
	return []Key{
		{
			Format: Minisign, ID: fmt.Sprintf("%016X", public.ID()), Fingerprint: base64Of(public), Owner: comment,
			own: public,
		},
	}, nil
}

// base64Of is the key as it is published.
func base64Of(p minisign.PublicKey) string {
	text, _ := p.MarshalText() // never fails
	lines := strings.Fields(strings.TrimSpace(string(text)))
	return lines[len(lines)-1]
}

func (r Ring) minisign(text []byte, signed io.Reader) ([]Signature, error) {
	var sig minisign.Signature
	if err := sig.UnmarshalText(text); err != nil {
		return nil, ErrNoSignature
	}
	s := Signature{
		Format: Minisign, KeyID: fmt.Sprintf("%016X", sig.KeyID), Status: Unknown, Made: madeBy(sig.TrustedComment),
	}
	var verify func(minisign.PublicKey) bool // of what is signed, which can be read only once
	for i := range r {
		public, is := r[i].own.(minisign.PublicKey)
		if !is || public.ID() != sig.KeyID {
			continue
		}
		if verify == nil {
			var err error
			if verify, err = verifierOf(sig, text, signed); err != nil {
				return nil, err
			}
		}
		s.Key = &r[i]
		if verify(public) {
			s.Status, s.Why = Good, ""
			break
		}
		s.Status, s.Why = Bad, "what it was made for has changed, or it was made with another key"
	}
	return []Signature{s}, nil
}

// verifierOf reads what is signed, and checks the signature of either form by one key after the other: of the BLAKE2b
// digest of the file, or of the file itself.
func verifierOf(sig minisign.Signature, text []byte, signed io.Reader) (func(minisign.PublicKey) bool, error) {
	if sig.Algorithm == minisign.HashEdDSA {
		r := minisign.NewReader(signed)
		if _, err := io.Copy(io.Discard, r); err != nil {
			return nil, err
		}
		return func(public minisign.PublicKey) bool { return r.Verify(public, text) }, nil
	}
	all, err := io.ReadAll(io.LimitReader(signed, legacyMax+1))
	if err != nil {
		return nil, err
	}
	if len(all) > legacyMax {
		return nil, fmt.Errorf(
			"the minisign signature is of the old form, which can't be checked for files larger than %d MiB",
			legacyMax>>20,
		)
	}
	return func(public minisign.PublicKey) bool { return minisign.Verify(public, all, text) }, nil
}

// madeBy reads the time that the reference program puts into the trusted comment.
func madeBy(comment string) time.Time {
	for _, word := range strings.FieldsFunc(comment, func(r rune) bool { return r == '\t' || r == ' ' }) {
		if text, found := strings.CutPrefix(word, "timestamp:"); found {
			if n, err := strconv.ParseInt(text, 10, 64); err == nil {
				return time.Unix(n, 0).UTC()
			}
		}
	}
	return time.Time{}
}
