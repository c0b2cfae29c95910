// Package demo makes the sample data of the scenario: the Saltmarsh Watchers, an amateur tide-and-weather
// club, prepare cards with Saltmarsh OS for their Brindle boards. Everything is the same at every run.
package demo

import (
	"archive/zip"
	"bytes"
	"crypto/ed25519"
	"crypto/sha256"
	"encoding/base64"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"aead.dev/minisign"
	"github.com/klauspost/compress/gzip"
	"github.com/ulikunitz/xz"

	"zipstamp/internal/card/practice"
)

// The files that Make leaves in its folder.
const (
	XZ        = "saltmarsh-os.img.xz"
	Gzip      = "saltmarsh-os.img.gz"
	Sums      = "SHA256SUMS"
	GzipSums  = "saltmarsh-os.img.gz.sha256" // of the image in it
	Key       = "watchers.pub"               // the club's key, by which Sums is signed
	Files     = "saltmarsh-boot.zip"         // the loose files of the boot partition
	Damaged   = "damaged"                    // a folder: the same download with a byte that changed on its way
	Downloads = "downloads"                  // a folder for what is fetched
	Good      = "good.card"
	Tired     = "tired.card" // stores a bit wrong the first time
	Liar      = "liar.card"  // claims twice what it holds
)

// Speeds of the practice cards, bytes a second: four times those of a common card, so that progress can be seen and the
// demo is short.
const (
	writeRate = 160e6
	readRate  = 320e6
)

// Make makes the sample data in folder, which exists.
func Make(folder string) error {
	img := Image()
	xzSum, err := pack(filepath.Join(folder, XZ), img, func(w io.Writer) (io.WriteCloser, error) {
		return &streams{to: w, packed: map[[32]byte][]byte{}}, nil
	})
	if err != nil {
		return err
	}
	gzSum, err := pack(filepath.Join(folder, Gzip), img, func(w io.Writer) (io.WriteCloser, error) {
		return gzip.NewWriterLevel(w, gzip.BestSpeed)
	})
	if err != nil {
		return err
	}
	zipSum, err := packFiles(filepath.Join(folder, Files))
	if err != nil {
		return err
	}
	unpacked := sha256.Sum256(img)
	sums := fmt.Sprintf("%s  %s\n", xzSum, XZ)
	for name, text := range map[string]string{
		Sums:     sums + fmt.Sprintf("%s  %s\n%s  %s\n", gzSum, Gzip, zipSum, Files),
		GzipSums: fmt.Sprintf("SHA256 (saltmarsh-os.img) = %X\n", unpacked),
	} {
		if err := os.WriteFile(filepath.Join(folder, name), []byte(text), 0o666); err != nil {
			return err
		}
	}
	if err := sign(folder, Sums); err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Join(folder, Downloads), 0o777); err != nil {
		return err
	}
	if err := makeDamaged(folder, sums); err != nil {
		return err
	}
	return makeCards(folder)
}

// pack writes a packed image, and returns its SHA-256 in hex.
func pack(path string, img []byte, packer func(io.Writer) (io.WriteCloser, error)) (string, error) {
	f, err := os.Create(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	sum := sha256.New()
	w, err := packer(io.MultiWriter(f, sum))
	if err != nil {
		return "", err
	}
	if _, err := w.Write(img); err != nil {
		return "", err
	}
	if err := w.Close(); err != nil {
		return "", err
	}
	return hex.EncodeToString(sum.Sum(nil)), f.Close()
}

// streams packs an image as .xz, a stream for each 4 MiB (The .xz File Format 1.2.1, section 2, allows for several), so
// that zeros, most of the image, are packed only once. It takes no more after a part of another size.
type streams struct {
	to     io.Writer
	packed map[[32]byte][]byte // by the SHA-256 of what is in them
}

func (s *streams) Write(img []byte) (n int, err error) {
	for part := range slices.Chunk(img, 4<<20) {
		sum := sha256.Sum256(part)
		if s.packed[sum] == nil {
			var b bytes.Buffer
			w, err := xz.WriterConfig{DictCap: 1 << 20}.NewWriter(&b)
			if err != nil {
				return n, err
			}
			if _, err := w.Write(part); err != nil {
				return n, err
			}
			if err := w.Close(); err != nil {
				return n, err
			}
			s.packed[sum] = b.Bytes()
		}
		if _, err := s.to.Write(s.packed[sum]); err != nil {
			return n, err
		}
		n += len(part)
	}
	return n, nil
}

func (s *streams) Close() error { return nil }

// packFiles writes an archive of the boot files, and returns its SHA-256 in hex.
func packFiles(path string) (string, error) {
	var b bytes.Buffer
	z := zip.NewWriter(&b)
	for _, f := range bootFiles() {
		w, err := z.CreateHeader(&zip.FileHeader{Name: "saltmarsh-1.2/" + f.path, Method: zip.Deflate, Modified: made})
		if err != nil {
			return "", err
		}
		if _, err := w.Write(f.data); err != nil {
			return "", err
		}
	}
	if err := z.Close(); err != nil {
		return "", err
	}
	return fmt.Sprintf("%x", sha256.Sum256(b.Bytes())), os.WriteFile(path, b.Bytes(), 0o666)
}

// sign signs a file with the club's key, and writes the public one beside it. Whoever reads this can sign with it too:
// it is a sample.
func sign(folder, name string) error {
	key, public, err := clubKey()
	if err != nil {
		return err
	}
	text, err := os.ReadFile(filepath.Join(folder, name))
	if err != nil {
		return err
	}
	signature := minisign.SignWithComments(key, text, fmt.Sprintf("timestamp:%d\tfile:%s", made.Unix(), name),
		"signature of the Saltmarsh Watchers")
	if err := os.WriteFile(filepath.Join(folder, name+".minisig"), signature, 0o666); err != nil {
		return err
	}
	line := strings.Fields(string(public))
	text = []byte("untrusted comment: Saltmarsh Watchers\n" + line[len(line)-1] + "\n")
	return os.WriteFile(filepath.Join(folder, Key), text, 0o666)
}

// clubKey is the same at every run: it comes from the club's name, in the form that the format gives to keys without a
// password.
func clubKey() (key minisign.PrivateKey, public []byte, err error) {
	// 2 bytes each for the algorithms of signature, password and checksum; salt, limits; ID, key, checksum
	const size, idAt, keyAt = 158, 54, 62
	seed := sha256.Sum256([]byte("Saltmarsh Watchers"))
	secret := make([]byte, size)
	copy(secret, "Ed\x00\x00B2")
	binary.LittleEndian.PutUint64(secret[idAt:], 0x5A17000120260501)
	copy(secret[keyAt:], ed25519.NewKeyFromSeed(seed[:]))
	if err := key.UnmarshalText([]byte(base64.StdEncoding.EncodeToString(secret))); err != nil {
		return key, nil, err
	}
	public, err = key.Public().(minisign.PublicKey).MarshalText()
	return key, public, err
}

// makeDamaged copies a download with one bit changed in the middle.
func makeDamaged(folder, sums string) error {
	text, err := os.ReadFile(filepath.Join(folder, XZ))
	if err != nil {
		return err
	}
	text[len(text)/2] ^= 0x20
	if err := os.MkdirAll(filepath.Join(folder, Damaged), 0o777); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(folder, Damaged, XZ), text, 0o666); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(folder, Damaged, Sums), []byte(sums), 0o666)
}

func makeCards(folder string) error {
	const claimed = 64e6
	cards := map[string]practice.Spec{
		Good: {Model: "Brindle Club 64", Serial: "SW-0001"},
		Tired: {
			Model: "Brindle Club 64", Serial: "SW-0002",
			Faults: []practice.Fault{{Kind: practice.Flip, Sector: 20000, Times: 1}},
		},
		Liar: {Model: "Bargain 64", Serial: "SW-0003", Real: 32e6, Beyond: practice.Wrap},
	}
	for name, s := range cards {
		s.Claimed, s.Backing = claimed, name+".data"
		s.WriteRate, s.ReadRate = writeRate, readRate
		if err := practice.Create(filepath.Join(folder, name), s); err != nil {
			return err
		}
	}
	return nil
}
