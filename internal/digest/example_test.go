package digest_test

import (
	"fmt"
	"io"
	"strings"

	"zipstamp/internal/digest"
)

// A text from a publisher's page is compared with what was read.
func Example() {
	published, err := digest.Parse("SHA256: 2c4f3f64 06e3ae29 b6c9d767 3208cf8c d68a9ffc 02e59b65 abf365e6 8cf61610")
	if err != nil {
		fmt.Println(err)
		return
	}
	h := digest.NewHasher(published.Algorithm)
	if _, err := io.Copy(h, strings.NewReader("high water at noon\n")); err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(h.Digests()[0])
	fmt.Println(h.Digests()[0] == published)
	// Output:
	// sha256:2c4f3f6406e3ae29b6c9d7673208cf8cd68a9ffc02e59b65abf365e68cf61610
	// true
}

// A sums file may mix all notations. Folders before a name don't count.
func ExampleReadSums() {
	sums, err := digest.ReadSums(strings.NewReader(`
d41d8cd98f00b204e9800998ecf8427e  images/tides.img
SHA1 (tides.img) = da39a3ee5e6b4b0d3255bfef95601890afd80709
`), "SUMS")
	if err != nil {
		fmt.Println(err)
		return
	}
	entries, err := sums.Lookup("tides.img")
	for _, e := range entries {
		fmt.Println(e.Line, e.Digest, err)
	}
	// Output:
	// 2 md5:d41d8cd98f00b204e9800998ecf8427e <nil>
	// 3 sha1:da39a3ee5e6b4b0d3255bfef95601890afd80709 <nil>
}
