// Command manual writes the pages of the manual, one a command: go run ./internal/cli/manual docs/man
package main

import (
	"fmt"
	"log"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/cobra/doc"

	"zipstamp/internal/cli"
	"zipstamp/internal/view/help"
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
	if err := complete(os.Args[1]); err != nil {
		log.Fatal(err)
	}
}

// complete adds to the pages what all commands have in common.
func complete(folder string) error {
	pages, err := filepath.Glob(filepath.Join(folder, "*.1"))
	if err != nil {
		return err
	}
	var more strings.Builder
	for _, s := range help.Sections {
		fmt.Fprintf(&more, ".SH %s\n", s.Title)
		for _, i := range s.Items {
			fmt.Fprintf(&more, ".TP\n\\fB%s\\fP\n%s\n", escape(i.Name), escape(i.Text))
		}
		more.WriteString("\n\n")
	}
	for _, path := range pages {
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		page := strings.Replace(string(text), ".SH EXAMPLE\n", ".SH EXAMPLES\n", 1)
		at := strings.Index(page, ".SH SEE ALSO")
		if at < 0 {
			at = len(page)
		}
		if err := os.WriteFile(path, []byte(page[:at]+more.String()+page[at:]), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// escape writes a text as roff has it.
func escape(text string) string {
	text = strings.NewReplacer(`\`, `\e`, "-", `\-`).Replace(text)
	if strings.HasPrefix(text, ".") || strings.HasPrefix(text, "'") {
		text = `\&` + text
	}
	return text
}

func forAll(c *cobra.Command, do func(*cobra.Command)) {
	do(c)
	for _, sub := range c.Commands() {
		forAll(sub, do)
	}
}
