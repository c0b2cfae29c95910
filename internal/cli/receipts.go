package cli

import (
	"bytes"
	"errors"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"zipstamp/internal/document"
	"zipstamp/internal/page"
	"zipstamp/internal/receipt"
	"zipstamp/internal/view"
)

func (a *app) receipts() *cobra.Command {
	cmd := a.command("receipts", 0, 0, func(cmd *cobra.Command, _ []string) error { return cmd.Help() })
	cmd.AddCommand(a.receiptsList(), a.receiptsShow(), a.receiptsExport())
	return cmd
}

// filter chooses among receipts.
type filter struct{ card, image, since, until string }

func (f *filter) flags(fs *pflag.FlagSet) {
	fs.StringVar(&f.card, "card", "", "")
	fs.StringVar(&f.image, "image", "", "")
	fs.StringVar(&f.since, "since", "", "")
	fs.StringVar(&f.until, "until", "", "")
}

// has tells whether one of the texts has the part in it, whatever the case.
func has(part string, texts ...string) bool {
	for _, t := range texts {
		if strings.Contains(strings.ToLower(t), strings.ToLower(part)) {
			return true
		}
	}
	return false
}

// choose gives the receipts that fit, with their numbers, which count from the latest of all.
func (f filter) choose(all []receipt.Document) (chosen []receipt.Document, numbers []int, err error) {
	var since, until time.Time
	for text, at := range map[string]*time.Time{f.since: &since, f.until: &until} {
		if text == "" {
			continue
		}
		if *at, err = time.ParseInLocation(time.DateOnly, text, time.Local); err != nil {
			return nil, nil, &usageError{view.NotADate(text)}
		}
	}
	if f.until != "" {
		until = until.AddDate(0, 0, 1)
	}
	for i, d := range all {
		digests := []string{filepath.Base(d.Image.Path)}
		for _, hex := range d.Image.Image {
			digests = append(digests, hex)
		}
		switch {
		case f.card != "" && !has(f.card, d.Card.Name, d.Card.Path, d.Card.Model, d.Card.Serial, d.Card.CID):
		case f.image != "" && (d.Image.Path == "" || !has(f.image, digests...)):
		case f.since != "" && d.Ended.Before(since), f.until != "" && !d.Ended.Before(until):
		default:
			chosen, numbers = append(chosen, d), append(numbers, i+1)
		}
	}
	return chosen, numbers, nil
}

func (a *app) receiptsList() *cobra.Command {
	var f filter
	cmd := a.command("receipts list", 0, 0, func(*cobra.Command, []string) error {
		all := a.history()
		chosen, numbers, err := f.choose(all)
		if err != nil {
			return err
		}
		if !a.json {
			a.screen.Receipts(chosen, numbers, len(all))
			return nil
		}
		a.printJSON(receiptList(chosen, numbers, len(all)))
		return nil
	})
	f.flags(cmd.Flags())
	return cmd
}

// The JSON document of receipts list.
type listedReceipt struct {
	Number   int       `json:"number"`
	File     string    `json:"file"`
	Digest   string    `json:"sha256"`
	Job      string    `json:"job"`
	Ended    time.Time `json:"ended"`
	Verdict  string    `json:"verdict"`
	Finding  string    `json:"finding"` // the verdict, with what it rests on
	Sentence string    `json:"sentence"`
	Card     string    `json:"card"`
	Image    string    `json:"image,omitempty"`
}

func receiptList(all []receipt.Document, numbers []int, of int) any {
	doc := struct {
		document.Head
		List []listedReceipt `json:"list"`
	}{document.New(document.Receipts, statusGood, view.ReceiptsSentence(len(all), of)), []listedReceipt{}}
	for i, d := range all {
		doc.List = append(doc.List, listedReceipt{
			numbers[i], d.File, d.Digest, d.Job, d.Ended, string(d.Verdict), view.Finding(d), d.Sentence, d.Card.Name,
			d.Image.Path,
		})
	}
	return doc
}

func (a *app) receiptsShow() *cobra.Command {
	var f filter
	cmd := a.command("receipts show", 0, 1, func(_ *cobra.Command, args []string) error {
		doc, err := a.findReceipt(args, f)
		if err != nil {
			return err
		}
		if a.json {
			a.printJSON(doc)
			return nil
		}
		a.screen.Document(doc, a.pathOf(doc, args))
		return nil
	})
	f.flags(cmd.Flags())
	return cmd
}

// pathOf is where a receipt is that was found, as it was shown when it was made.
func (a *app) pathOf(doc receipt.Document, args []string) string {
	who, err := whoRuns()
	if err != nil || filepath.Base(doc.File) != doc.File || len(args) > 0 && args[0] == doc.File {
		return doc.File
	}
	set, err := loadSettings(who, nil)
	if err != nil {
		return doc.File
	}
	return who.short(filepath.Join(who.receiptsFolder(set).Path(), doc.File))
}

// findReceipt finds the receipt that is named.
func (a *app) findReceipt(args []string, f filter) (receipt.Document, error) {
	if len(args) > 0 {
		if _, err := strconv.Atoi(args[0]); err != nil {
			doc, err := receipt.Load(args[0])
			doc.File = args[0]
			if err != nil && !errors.Is(err, os.ErrNotExist) {
				err = &usageError{err}
			}
			return doc, err
		}
	}
	chosen, numbers, err := f.choose(a.history())
	if err != nil {
		return receipt.Document{}, err
	}
	for i, doc := range chosen {
		if len(args) == 0 || args[0] == strconv.Itoa(numbers[i]) {
			return doc, nil
		}
	}
	return receipt.Document{}, &usageError{view.ErrNoReceipt}
}

func (a *app) receiptsExport() *cobra.Command {
	var f filter
	cmd := a.command("receipts export", 1, 2, func(_ *cobra.Command, args []string) error {
		doc, err := a.findReceipt(args[1:], f)
		if err != nil {
			return err
		}
		text, err := a.export(filepath.Ext(args[0]), doc)
		if err != nil {
			return err
		}
		if info, err := os.Stat(args[0]); err == nil && !info.Mode().IsRegular() {
			return &usageError{view.NoPlainFile(args[0])}
		}
		if err := os.WriteFile(args[0], text, 0o644); err != nil {
			return err
		}
		if a.json {
			a.printJSON(struct {
				document.Head
				Path    string `json:"path"`
				Receipt string `json:"receipt"`
			}{document.New(document.Export, statusGood, view.ExportedSentence(args[0], doc)), args[0], doc.File})
			return nil
		}
		a.screen.Exported(args[0], doc)
		return nil
	})
	f.flags(cmd.Flags())
	return cmd
}

// export makes the text of a file with the ending.
func (a *app) export(ending string, doc receipt.Document) ([]byte, error) {
	var b bytes.Buffer
	var err error
	switch strings.ToLower(ending) {
	case ".html", ".htm":
		err = page.HTML(&b, doc, doc.Digest)
	case ".png":
		err = page.Picture(&b, doc, doc.Digest)
	case ".txt":
		view.Text(&b, doc)
	case ".json":
		return document.Encode(doc)
	default:
		err = &usageError{view.NoExport(ending)}
	}
	return b.Bytes(), err
}
