// Command zipstamp checks operating-system images, writes them to memory cards, and reads them back.
package main

import (
	"io"
	"log"
	"os"

	"zipstamp/internal/cli"
)

// version is stamped in when the program is built for release; see README.md.
var version = ""

func main() {
	log.SetOutput(io.Discard) // libraries write into it what nobody here can make sense of
	os.Exit(cli.Main(os.Args[1:], version))
}
