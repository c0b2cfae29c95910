// Command manual writes the pages of the manual, one a command: go run ./internal/cli/manual docs/man
package main

import (
	"log"
	"os"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"zipstamp/internal/cli"
)

func main() {
	log.SetFlags(0)
	if len(os.Args) != 2 {
		log.Fatal("usage: manual FOLDER")
	}
	root := cli.Root()
	root.DisableAutoGenTag = true
	root.InitDefaultCompletionCmd()
	forAll(root, func(c *cobra.Command) { c.DisableAutoGenTag = true })
	// fixed, so that the pages change only with the commands
	date := time.Date(2026, time.November, 1, 0, 0, 0, 0, time.UTC)
	header := &doc.GenManHeader{Title: "ZIPSTAMP", Section: "1", Source: "Zip Stamp", Manual: "Zip Stamp", Date: &date}
	if err := doc.GenManTree(root, header, os.Args[1]); err != nil {
		log.Fatal(err)
	}
}

func forAll(c *cobra.Command, do func(*cobra.Command)) {
	do(c)
	for _, sub := range c.Commands() {
		forAll(sub, do)
	}
}
