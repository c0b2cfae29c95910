package receipt

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestHistoryIsWhatWasStampedLatestFirst(t *testing.T) {
	dir := t.TempDir()
	put := func(name string, doc any) {
		text, err := json.Marshal(doc)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), text, 0o600))
	}
	for i := range 3 {
		put(fmt.Sprintf("2026110%d-120000-stamp-sdb.json", i+1), Document{Receipt: 1, Job: "stamp", Sentence: fmt.Sprint("the stamp of day ", i+1)})
	}
	put(".20261104-120000-stamp-sdb.json.part", Document{Receipt: 1, Job: "stamp"})
	put("20261105-other.json", map[string]any{"receipt": 1, "kind": "something else"})
	put("20261106-list.json", []int{1})
	require.NoError(t, os.WriteFile(filepath.Join(dir, "20261107-cut.json"), []byte(`{"receipt": 1, "job": "st`), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "20261108-large.json"), []byte(`{"receipt":1,"job":"stamp","error":"`+strings.Repeat("x", reserve)+`"}`), 0o600))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "20261109-folder.json"), 0o700))
	require.NoError(t, os.Symlink("20261101-120000-stamp-sdb.json", filepath.Join(dir, "20261110-link.json")))

	all := History(dir)
	require.Len(t, all, 3)
	for i, doc := range all {
		assert.Equal(t, fmt.Sprint("the stamp of day ", 3-i), doc.Sentence)
	}
	assert.Empty(t, History(filepath.Join(dir, "none")))
}

func TestStampedKnowsACardAgain(t *testing.T) {
	slot := Document{Job: JobStamp, Verdict: Good, Card: Card{Size: 32e9, CID: "27-SM-BRNDL-10a1b2c3", DiskID: "5a17a001"}}
	reader := Document{Job: JobStamp, Verdict: NotReadBack, Card: Card{Size: 32e9, DiskID: "5a17a001"}}
	failed, gauged := slot, slot
	failed.Verdict = Failed
	gauged.Job = JobSpots
	for _, c := range []struct {
		what    string
		doc     Document
		cid, id string
		size    int64
		want    bool
	}{
		{"the same card in the slot", slot, "27-SM-BRNDL-10a1b2c3", "", 32e9, true},
		{"also when something else was written since", slot, "27-SM-BRNDL-10a1b2c3", "ffff0000", 32e9, true},
		{"another card with the same image in the slot", slot, "27-SM-BRNDL-99999999", "5a17a001", 32e9, false},
		{"the same card in a reader, which tells no CID", slot, "", "5A17A001", 32e9, true},
		{"a card that was stamped in a reader", reader, "27-SM-BRNDL-10a1b2c3", "5a17a001", 32e9, true},
		{"another size", reader, "", "5a17a001", 64e9, false},
		{"a card without a table", reader, "", "", 32e9, false},
		{"a test, which stamped nothing", gauged, "27-SM-BRNDL-10a1b2c3", "5a17a001", 32e9, false},
		{"a stamp that failed", failed, "27-SM-BRNDL-10a1b2c3", "5a17a001", 32e9, false},
	} {
		assert.Equal(t, c.want, c.doc.Stamped(c.cid, c.id, c.size), c.what)
	}
}
