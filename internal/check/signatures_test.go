package check

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"testing"

	"aead.dev/minisign"
	"github.com/ProtonMail/go-crypto/openpgp/armor"
	"github.com/ProtonMail/go-crypto/openpgp/clearsign"
	openpgp "github.com/ProtonMail/go-crypto/openpgp/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/digest"
	"zipstamp/internal/image"
	"zipstamp/internal/meter"
	"zipstamp/internal/trust"
)

// publisher signs, in both formats.
type publisher struct {
	entity  *openpgp.Entity
	private minisign.PrivateKey
	ring    trust.Ring
}

func newPublisher(t *testing.T) *publisher {
	t.Helper()
	entity, err := openpgp.NewEntity("Saltmarsh Watchers", "", "keys@saltmarsh.example", nil)
	require.NoError(t, err)
	var text bytes.Buffer
	w, err := armor.Encode(&text, openpgp.PublicKeyType, nil)
	require.NoError(t, err)
	require.NoError(t, errors.Join(entity.Serialize(w), w.Close()))
	ring, err := trust.ReadKeys(text.Bytes(), "watchers.asc")
	require.NoError(t, err)
	public, private, err := minisign.GenerateKey(nil)
	require.NoError(t, err)
	key, err := public.MarshalText()
	require.NoError(t, err)
	more, err := trust.ReadKeys(key, "club.pub")
	require.NoError(t, err)
	return &publisher{entity, private, append(ring, more...)}
}

func (p *publisher) detached(t *testing.T, data []byte) []byte {
	t.Helper()
	var b bytes.Buffer
	require.NoError(t, openpgp.ArmoredDetachSign(&b, []*openpgp.Entity{p.entity}, bytes.NewReader(data), nil))
	return b.Bytes()
}

func (p *publisher) clear(t *testing.T, text string) []byte {
	t.Helper()
	var b bytes.Buffer
	w, err := clearsign.Encode(&b, p.entity.PrivateKey, nil)
	require.NoError(t, err)
	_, err = io.WriteString(w, text)
	require.NoError(t, errors.Join(err, w.Close()))
	return b.Bytes()
}

// TestWhoSignedAnImage signs the image itself, or its sums, in every way; what counts is what the signature covers.
func TestWhoSignedAnImage(t *testing.T) {
	club, stranger := newPublisher(t), newPublisher(t)
	img := newDownload(t).packed
	line := fmt.Sprintf("%s  saltmarsh-os.img.gz\n", sum(digest.SHA256, img).Hex())
	other := fmt.Sprintf("%s  saltmarsh-os.img.gz\n", sum(digest.SHA256, []byte("forged")).Hex())
	const name = "saltmarsh-os.img.gz"
	for what, c := range map[string]struct {
		files    map[string][]byte
		required bool
		outcome  Outcome
		signed   bool // by the club, and what was checked
		bad      trust.Status
	}{
		"the image, by OpenPGP": {
			map[string][]byte{name + ".asc": club.detached(t, img)}, true, Matched, true, "",
		},
		"the image, by minisign": {
			map[string][]byte{name + ".minisig": minisign.Sign(club.private, img)}, true, Matched, true, "",
		},
		"another image, by OpenPGP": {
			map[string][]byte{name + ".sig": club.detached(t, img[1:])}, false, Mismatched, false, trust.Bad,
		},
		"another image, by minisign": {
			map[string][]byte{name + ".minisig": minisign.Sign(club.private, img[1:])},
			false, Mismatched, false,
			trust.Bad,
		},
		"by a stranger": {
			map[string][]byte{name + ".asc": stranger.detached(t, img)}, false, NothingPublished, false, "",
		},
		"by a stranger, and required": {
			map[string][]byte{name + ".asc": stranger.detached(t, img)}, true, Mismatched, false, "",
		},
		"by a stranger and by the club": {
			map[string][]byte{
				name + ".asc": stranger.detached(t, img), name + ".minisig": minisign.Sign(club.private, img),
			}, true, Matched, true, "",
		},
		"nothing in the file": {
			map[string][]byte{name + ".asc": []byte("-----BEGIN NOTHING-----\n")}, true, Mismatched, false, "",
		},
		"its sums": {
			map[string][]byte{"SHA256SUMS": []byte(line), "SHA256SUMS.asc": club.detached(t, []byte(line))},
			true,
			Matched, true, "",
		},
		"its sums, changed since": {
			map[string][]byte{"SHA256SUMS": []byte(line), "SHA256SUMS.asc": club.detached(t, []byte(other))},
			false,
			Mismatched, false, trust.Bad,
		},
		"sums that are clear-signed": {
			map[string][]byte{"SHA256SUMS": club.clear(t, line)}, true, Matched, true, "",
		},
		"clear-signed, with other sums": {
			map[string][]byte{"SHA256SUMS": club.clear(t, other)}, false, Mismatched, false, "",
		},
		"a line before what is signed": {
			map[string][]byte{"SHA256SUMS": append([]byte(line), club.clear(t, "# nothing\n")...)},
			true, Mismatched,
			false, "",
		},
		"a line behind what is signed": {
			map[string][]byte{"SHA256SUMS": append(club.clear(t, "# nothing\n"), line...)}, true, Mismatched, false, "",
		},
		"sums of a stranger": {
			map[string][]byte{"SHA256SUMS": stranger.clear(t, line)}, false, Matched, false, "",
		},
		"sums of a stranger, required": {
			map[string][]byte{"SHA256SUMS": stranger.clear(t, line)}, true, Mismatched, false, "",
		},
		"clear-signed sums that changed": {
			map[string][]byte{
				"SHA256SUMS": bytes.Replace(club.clear(t, line), []byte("saltmarsh-os.img.gz\n"),
					[]byte("saltmarsh-os.img.gz\n# more\n"), 1),
			}, false, Mismatched, false, trust.Bad,
		},
	} {
		t.Run(what, func(t *testing.T) {
			d := newDownload(t)
			for file, text := range c.files {
				d.write(t, file, text)
			}
			f, err := image.Open(d.path)
			require.NoError(t, err)
			defer f.Close()
			p, err := Find(f, "", Given{}, Keys{club.ring, c.required})
			require.NoError(t, err)
			var m meter.Meter
			r, err := Run(context.Background(), f, "", p, &m)
			require.NoError(t, err)
			assert.Equal(t, c.outcome, r.Outcome(), "%+v", r.Signatures)
			assert.Equal(t, c.signed, r.SignedBy() != nil)
			if bad := r.BadSignature(); assert.Equal(t, c.bad != "", bad != nil) && bad != nil {
				assert.Equal(t, c.bad, bad.Status)
				assert.NotEmpty(t, bad.Why)
			}
		})
	}
}

// TestSignedFileIsTheOneWithTheDigests changes the download between the two readings, and stops in the second.
func TestSignedFileIsTheOneWithTheDigests(t *testing.T) {
	club := newPublisher(t)
	d := newDownload(t)
	forged := bytes.Clone(d.packed)
	forged[len(forged)/2] ^= 1
	d.write(t, "SHA256SUMS", []byte(fmt.Sprintf("%s  saltmarsh-os.img.gz\n", sum(digest.SHA256, d.packed).Hex())))
	d.write(t, "saltmarsh-os.img.gz.minisig", minisign.Sign(club.private, forged))
	f, err := image.Open(d.path)
	require.NoError(t, err)
	defer f.Close()
	p, err := Find(f, "", Given{}, Keys{Ring: club.ring})
	require.NoError(t, err)

	stop := errors.New("stopped")
	ctx, cancel := context.WithCancelCause(context.Background())
	defer cancel(nil)
	var m meter.Meter
	report := Report{}
	m.Begin(meter.Check, 0)
	cancel(stop)
	assert.ErrorIs(t, report.checkSigned(ctx, f, p, &m), stop)

	r, err := Run(context.Background(), f, "", p, nil)
	require.NoError(t, err)
	require.NotNil(t, r.BadSignature(), "the signature is of another file")
	require.NoError(t, os.WriteFile(d.path, forged, 0o600)) // in the place of the one with the digest
	r.Signatures = nil
	require.NoError(t, r.checkSigned(context.Background(), f, p, nil))
	require.NotNil(t, r.BadSignature())
	assert.Equal(t, "the file changed while it was checked", r.BadSignature().Why)
	assert.Equal(t, Mismatched, r.Outcome())
}
