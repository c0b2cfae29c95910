package digest

import (
	"crypto/md5"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/sha3"
	"crypto/sha512"
	"hash"
	"strings"

	"github.com/zeebo/blake3"
	"golang.org/x/crypto/blake2b"
)

// Algorithm is a hash function by which images are published. The zero value is none.
type Algorithm uint8

// The algorithms, weakest first. Of two with digests of one length, the one that is published more often comes last: it
// is the one that digits alone stand for.
const (
	MD5        Algorithm = iota + 1 // RFC 1321
	SHA1                            // FIPS 180-4
	SHA3_224                        // FIPS 202
	SHA224                          // FIPS 180-4
	BLAKE2b256                      // RFC 7693
	BLAKE3                          // the BLAKE3 specification, section 2; 256 bits
	SHA3_256                        // FIPS 202
	SHA256                          // FIPS 180-4
	BLAKE2b384                      // RFC 7693
	SHA3_384                        // FIPS 202
	SHA384                          // FIPS 180-4
	BLAKE2b512                      // RFC 7693
	SHA3_512                        // FIPS 202
	SHA512                          // FIPS 180-4
)

var algorithms = [...]struct {
	name  string
	plain string
	size  int // bytes
	make  func() hash.Hash
}{
	MD5:        {"MD5", "md5", md5.Size, md5.New},
	SHA1:       {"SHA-1", "sha1", sha1.Size, sha1.New},
	SHA224:     {"SHA-224", "sha224", sha256.Size224, sha256.New224},
	SHA256:     {"SHA-256", "sha256", sha256.Size, sha256.New},
	SHA384:     {"SHA-384", "sha384", sha512.Size384, sha512.New384},
	SHA512:     {"SHA-512", "sha512", sha512.Size, sha512.New},
	SHA3_224:   {"SHA3-224", "sha3-224", 28, func() hash.Hash { return sha3.New224() }},
	SHA3_256:   {"SHA3-256", "sha3-256", 32, func() hash.Hash { return sha3.New256() }},
	SHA3_384:   {"SHA3-384", "sha3-384", 48, func() hash.Hash { return sha3.New384() }},
	SHA3_512:   {"SHA3-512", "sha3-512", 64, func() hash.Hash { return sha3.New512() }},
	BLAKE2b256: {"BLAKE2b-256", "blake2b-256", blake2b.Size256, unkeyed(blake2b.New256)},
	BLAKE2b384: {"BLAKE2b-384", "blake2b-384", blake2b.Size384, unkeyed(blake2b.New384)},
	BLAKE2b512: {"BLAKE2b", "blake2b", blake2b.Size, unkeyed(blake2b.New512)},
	BLAKE3:     {"BLAKE3", "blake3", 32, func() hash.Hash { return blake3.New() }},
}

// unkeyed makes hashes without a key, which never fails.
func unkeyed(make func(key []byte) (hash.Hash, error)) func() hash.Hash {
	return func() hash.Hash {
		h, err := make(nil)
		if err != nil {
			panic(err)
		}
		return h
	}
}

// Algorithms lists all of them, weakest first.
func Algorithms() (all []Algorithm) {
	for a := MD5; a <= SHA512; a++ {
		all = append(all, a)
	}
	return all
}

// String is the name as the standard writes it, such as SHA-256.
func (a Algorithm) String() string { return algorithms[a].name }

// Plain is the name as file names and tags write it, such as sha256.
func (a Algorithm) Plain() string { return algorithms[a].plain }

// Size is the length of a digest in bytes.
func (a Algorithm) Size() int { return algorithms[a].size }

// New returns a hash of this algorithm.
func (a Algorithm) New() hash.Hash { return algorithms[a].make() }

// Forgeable tells whether somebody could make another file with the same digest: a match
// then shows that the file isn't damaged, and not who made it.
func (a Algorithm) Forgeable() bool { return a == MD5 || a == SHA1 }

// Alike lists the other algorithms whose digests have as many digits.
func (a Algorithm) Alike() (others []Algorithm) {
	for _, b := range Algorithms() {
		if b != a && b.Size() == a.Size() {
			others = append(others, b)
		}
	}
	return others
}

// byHexLength is the algorithm whose digests have n hex digits, the one that is published most; 0 if there is none.
func byHexLength(n int) (found Algorithm) {
	for _, a := range Algorithms() {
		if a.Size()*2 == n {
			found = a
		}
	}
	return found
}

// otherNames are names of algorithms that are written in another way than by their own name, without hyphens.
var otherNames = map[string]Algorithm{
	"sha2224": SHA224, "sha2256": SHA256, "sha2384": SHA384, "sha2512": SHA512, "blake2b512": BLAKE2b512,
	"blake2": BLAKE2b512, "blake3256": BLAKE3,
}

// shortNames are those of programs and endings of files.
var shortNames = map[string]Algorithm{"b2": BLAKE2b512, "b3": BLAKE3}

// foreign are names of algorithms that are not known here: digests by them have as many digits as others.
var foreign = map[string]bool{
	"sm3": true, "ripemd160": true, "rmd160": true, "ripemd": true, "whirlpool": true, "tiger": true, "gost": true,
	"streebog": true, "streebog256": true, "streebog512": true, "shake128": true, "shake256": true, "md2": true,
	"md4": true, "blake2s": true, "blake2s256": true, "skein": true, "keccak": true, "keccak256": true,
	"sha512256": true, "sha512224": true, "xxh128": true, "xxhash": true, "btih": true, "commit": true, "uuid": true,
}

var namesOfAlgorithms = func() map[string]Algorithm {
	names := map[string]Algorithm{}
	for _, a := range Algorithms() {
		names[bareName(a.Plain())] = a
	}
	for name, a := range otherNames {
		names[name] = a
	}
	return names
}()

var joints = strings.NewReplacer("-", "", "_", "", "/", "")

func bareName(name string) string { return strings.ToLower(joints.Replace(name)) }

// byName reads a name in any case, with or without hyphens; 0 if it is unknown.
func byName(name string) Algorithm { return namesOfAlgorithms[bareName(name)] }

// named finds the name of an algorithm in a word, which may have more in it: sha256sum, Checksums-Sha256, image_md5.
// 0 if there is none.
func named(word string) Algorithm {
	whole := bareName(word)
	for _, trimmed := range []string{
		whole, strings.TrimSuffix(whole, "sums"), strings.TrimSuffix(whole, "sum"),
		strings.TrimPrefix(whole, "checksums"), strings.TrimSuffix(whole, "hash"),
		strings.TrimSuffix(whole, "checksum"), strings.TrimSuffix(whole, "digest"),
	} {
		if a := max(namesOfAlgorithms[trimmed], shortNames[trimmed]); a != 0 {
			return a
		}
	}
	parts := strings.FieldsFunc(strings.ToLower(word), func(r rune) bool { return r == '_' || r == '-' || r == '.' })
	for i := range parts {
		for j := len(parts); j > i; j-- {
			part := strings.Join(parts[i:j], "")
			for _, trimmed := range []string{part, strings.TrimSuffix(part, "sums"), strings.TrimSuffix(part, "sum")} {
				if a := namesOfAlgorithms[trimmed]; a != 0 && len(parts) > 1 {
					return a
				}
			}
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
