package digest

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha512"
	"hash"
	"strings"
)

// Algorithm is a hash function by which images are published. The zero value is none.
type Algorithm uint8

// The algorithms, weakest first.
const (
	MD5    Algorithm = iota + 1 // RFC 1321
	SHA1                        // FIPS 180-4
	SHA224                      // FIPS 180-4
	SHA256                      // FIPS 180-4
	SHA384                      // FIPS 180-4
	SHA512                      // FIPS 180-4
)

var algorithms = [...]struct {
	name string
	size int // bytes
	make func() hash.Hash
}{
	MD5:    {"MD5", md5.Size, md5.New},
	SHA1:   {"SHA-1", sha1.Size, sha1.New},
	SHA224: {"SHA-224", sha256.Size224, sha256.New224},
	SHA256: {"SHA-256", sha256.Size, sha256.New},
	SHA384: {"SHA-384", sha512.Size384, sha512.New384},
	SHA512: {"SHA-512", sha512.Size, sha512.New},
}

// Algorithms lists all of them, weakest first.
func Algorithms() []Algorithm {
	return []Algorithm{MD5, SHA1, SHA224, SHA256, SHA384, SHA512}
}

// String is the name as the standard writes it, such as SHA-256.
func (a Algorithm) String() string { return algorithms[a].name }

// Plain is the name as file names and tags write it, such as sha256.
func (a Algorithm) Plain() string {
	return strings.ToLower(strings.ReplaceAll(algorithms[a].name, "-", ""))
}

// Size is the length of a digest in bytes.
func (a Algorithm) Size() int { return algorithms[a].size }

// New returns a hash of this algorithm.
func (a Algorithm) New() hash.Hash { return algorithms[a].make() }

// Forgeable tells whether somebody could make another file with the same digest: a match
// then shows that the file isn't damaged, and not who made it.
func (a Algorithm) Forgeable() bool { return a == MD5 || a == SHA1 }

// byHexLength is the algorithm whose digests have n hex digits; 0 if there is none.
func byHexLength(n int) Algorithm {
	for _, a := range Algorithms() {
		if a.Size()*2 == n {
			return a
		}
	}
	return 0
}

// byName reads a name in any case, with or without a hyphen; 0 if it is unknown.
func byName(name string) Algorithm {
	name = strings.ToLower(strings.NewReplacer("-", "", "_", "").Replace(name))
	for _, a := range Algorithms() {
		if a.Plain() == name {
			return a
		}
	}
	return 0
}

// Called is the name of an algorithm, SHA-256, by its plain one, sha256; empty if there is none.
func Called(plain string) string {
	if a := byName(plain); a != 0 {
		return a.String()
	}
	return ""
}
