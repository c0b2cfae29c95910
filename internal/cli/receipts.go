package cli

import (
	"bytes"
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
	var f filter
	cmd := a.group("receipts", a.receiptsList(), a.receiptsShow(), a.receiptsExport())
	f.flags(cmd.Flags())
	cmd.RunE = func(*cobra.Command, []string) error { return a.listReceipts(f) }
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

// parseDay reads a day as people name it: 2026-11-26, today, yesterday, monday (the last one), 3 days ago, 2 weeks ago.
func parseDay(text string, now time.Time) (time.Time, error) {
	today := time.Date(now.Year(), now.Month(), now.Day(), 0, 0, 0, 0, now.Location())
	words := strings.Fields(strings.ToLower(text))
	if t, err := time.ParseInLocation(time.DateOnly, text, now.Location()); err == nil {
		return t, nil
	}
	switch {
	case len(words) == 1 && words[0] == "today":
		return today, nil
	case len(words) == 1 && words[0] == "yesterday":
		return today.AddDate(0, 0, -1), nil
	case len(words) == 1:
		for back := range 7 {
			if day := today.AddDate(0, 0, -back); strings.EqualFold(day.Weekday().String(), words[0]) {
				return day, nil
			}
		}
	case len(words) == 3 && words[2] == "ago":
		n, err := strconv.Atoi(words[0])
		days := map[string]int{"day": 1, "week": 7}[strings.TrimSuffix(words[1], "s")]
		switch unit := strings.TrimSuffix(words[1], "s"); {
		case err != nil || n < 0 || n > maxAgo:
		case days > 0:
			return today.AddDate(0, 0, -n*days), nil
		case unit == "month":
			return today.AddDate(0, -n, 0), nil
		case unit == "year":
			return today.AddDate(-n, 0, 0), nil
		}
	}
	return time.Time{}, view.NotADate(text)
}

// maxAgo bounds how long ago a day may be, in its unit.
const maxAgo = 10000

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
	for _, bound := range []struct {
		text string
		at   *time.Time
	}{{f.since, &since}, {f.until, &until}} {
		if bound.text == "" {
			continue
		}
		if *bound.at, err = parseDay(bound.text, time.Now()); err != nil {
			return nil, nil, &usageError{err}
		}
	}
	if f.until != "" {
		until = until.AddDate(0, 0, 1)
	}
	for i, d := range all {
		digests := []string{filepath.Base(d.Image.Path)}
		for _, hexes := range []map[string]string{d.Image.Image, d.Image.Download} {
			for _, hex := range hexes {
				digests = append(digests, hex)
			}
		}
		switch {
		case f.card != "" && !has(f.card, d.Card.OwnName, d.Card.Name, d.Card.Path, d.Card.Model, d.Card.Serial,
			d.Card.CID):
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
	cmd := a.command("receipts list", 0, 0, func(*cobra.Command, []string) error { return a.listReceipts(f) })
	f.flags(cmd.Flags())
	return cmd
}

// listReceipts shows the receipts that fit.
func (a *app) listReceipts(f filter) error {
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
			if err != nil {
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
		if !isExport(args[0]) {
			return &usageError{view.TakenPath(args[0])}
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

func isReceipt(path string) bool {
	_, err := receipt.Load(path)
	return err == nil
}

// isExport tells whether a file may be replaced by an export: there is none yet, or it is one.
func isExport(path string) bool {
	text, err := os.ReadFile(path)
	if err != nil || len(text) == 0 {
		return true // what can't be read, can't be written
	}
	return bytes.Contains(text, []byte(view.RecordDigest)) || isReceipt(path)
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
