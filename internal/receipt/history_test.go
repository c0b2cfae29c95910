package receipt

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/document"
)

func TestHistoryIsWhatWasStampedLatestFirst(t *testing.T) {
	dir := t.TempDir()
	put := func(name string, doc any) {
		text, err := json.Marshal(doc)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), text, 0o600))
	}
	for i := range 3 {
		put(fmt.Sprintf("2026110%d-120000-stamp-sdb.json", i+1), Document{
			Head: document.New(document.Receipt, 0, fmt.Sprint("the stamp of day ", i+1)), Job: "stamp",
		})
	}
	put(".20261104-120000-stamp-sdb.json.part", Document{Job: "stamp"})
	put("20261105-other.json", map[string]any{"receipt": 1, "kind": "something else"})
	put("20261106-list.json", []int{1})
	require.NoError(
		t, os.WriteFile(filepath.Join(dir, "20261107-cut.json"), []byte(`{"receipt": 1, "job": "st`), 0o600),
	)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "20261108-large.json"),
		[]byte(`{"receipt":1,"job":"stamp","error":"`+strings.Repeat("x", reserve)+`"}`), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "20261109-folder.json"), 0o700))
	require.NoError(t, os.Symlink("20261101-120000-stamp-sdb.json", filepath.Join(dir, "20261110-link.json")))

	all := History(dir)
	require.Len(t, all, 3)
	for i, doc := range all {
		assert.Equal(t, fmt.Sprint("the stamp of day ", 3-i), doc.Sentence)
	}
	assert.Empty(t, History(filepath.Join(dir, "none")))
}

func TestLatestReceiptOfACard(t *testing.T) {
	one := Document{
		File: "one", Job: JobStamp, Verdict: Good,
		Card: Card{Record: card.Record{Kind: "block device", Bus: "SD slot", Size: 32e9, CID: "27-SM-BRNDL-10a1b2c3"}},
	}
	other, reader, failed := one, one, one
	other.File, other.Card.CID = "other", "27-SM-BRNDL-99999999"
	reader.File, reader.Card = "reader", Card{
		Record: card.Record{
			Kind: "block device", Bus: "USB", Size: 32e9, Serial: "R1", Reader: true, DiskID: "5a17a001",
		},
	}
	failed.File, failed.Verdict = "failed", Failed
	for _, c := range []struct {
		all  []Document
		now  card.Record
		file string
		like card.Likeness
	}{
		{[]Document{failed, other, reader, one}, one.Card.Record, "one", card.Same},
		{[]Document{failed, other, reader}, one.Card.Record, "reader", card.MayBe},
		{[]Document{other, failed}, one.Card.Record, "", card.Different},
		{[]Document{one, reader}, reader.Card.Record, "one", card.MayBe},
	} {
		doc, like := Latest(c.all, c.now, Document.Left)
		assert.Equal(t, c.like, like)
		if c.file == "" {
			assert.Nil(t, doc)
			continue
		}
		assert.Equal(t, c.file, doc.File)
	}
}

func TestReceiptsThatCannotBeRight(t *testing.T) {
	good := `{"receipt":1,"job":"gauge whole","verdict":"holds what it claims","card":{"size":64},
		"gauge":{"claimed":64,"extents":[{"offset":0,"length":64,"state":"holds"}]}%s}`
	_, err := read(strings.NewReader(fmt.Sprintf(good, "")), "a")
	require.NoError(t, err)
	for _, more := range []string{
		`,"gauge":{"claimed":0}`, `,"gauge":{"claimed":-5}`, `,"gauge":{"claimed":9223372036854775807}`,
		`,"gauge":{"claimed":64,"extents":[{"offset":9223372036854775807,"length":64}]}`,
		`,"gauge":{"claimed":64,"extents":[{"offset":32,"length":9223372036854775807}]}`,
		`,"gauge":{"claimed":64,"reads":{"median":1e300}}`, `,"phases":[{"rate":1e300}]`, `,"phases":[{"seconds":-1}]`,
		`,"speed":{"write":[{"rate":1e300}]}`, `,"card":{"size":-1}`, `,"bad":{"list":[{"length":-1}]}`,
		`,"gauge":{"claimed":64,"holds":-1}`,
	} {
		_, err := read(strings.NewReader(fmt.Sprintf(good, more)), "a")
		assert.ErrorContains(t, err, "no receipt that can be right", more)
	}
}

// FuzzReceipt reads receipts of any kind: none does harm, and what is read can be written and read again.
func FuzzReceipt(f *testing.F) {
	f.Add([]byte(
		`{"receipt":1,"job":"stamp","card":{"size":5},"gauge":{"claimed":5,"extents":[{"offset":0,"length":5}]}}`,
	))
	f.Fuzz(func(t *testing.T, text []byte) {
		doc, err := read(bytes.NewReader(text), "a")
		if err != nil {
			return
		}
		again, err := document.Encode(doc)
		require.NoError(t, err)
		if len(again) <= reserve {
			_, err = read(bytes.NewReader(again), "a")
			require.NoError(t, err)
		}
	})
}
