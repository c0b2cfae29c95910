package image_test

import (
	"bytes"
	"fmt"
	"io"
	"log"
	"os"
	"path/filepath"

	"github.com/klauspost/compress/gzip"

	"zipstamp/internal/digest"
	"zipstamp/internal/image"
)

// A download is opened, looked into, and unpacked as a stream. What was read of the download passes the tap.
func Example() {
	dir, err := os.MkdirTemp("", "example")
	if err != nil {
		log.Fatal(err)
	}
	defer os.RemoveAll(dir)
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	if _, err := z.Write(make([]byte, 1<<20)); err != nil {
		log.Fatal(err)
	}
	if err := z.Close(); err != nil {
		log.Fatal(err)
	}
	path := filepath.Join(dir, "tides.img.gz")
	if err := os.WriteFile(path, packed.Bytes(), 0o600); err != nil {
		log.Fatal(err)
	}

	f, err := image.Open(path)
	if err != nil {
		log.Fatal(err)
	}
	defer f.Close()
	contents, err := f.Look("") // no member of an archive is chosen
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(f.Packing(), contents.Size.Bytes, contents.Size.Certainty)

	download, unpacked := digest.NewHasher(digest.SHA256), digest.NewHasher(digest.SHA256)
	stream, err := f.Unpack(contents, download)
	if err != nil {
		log.Fatal(err)
	}
	defer stream.Close()
	if _, err := io.Copy(unpacked, stream); err != nil {
		log.Fatal(err)
	}
	fmt.Println(unpacked.Digests()[0])
	// Output:
	// gzip 1048576 lower bound
	// sha256:30e14955ebf1352266dc2ff8067e68104607e750abb9d3b36582b8af909fcb58
}
