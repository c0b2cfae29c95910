package e2e

import (
	"encoding/json"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
)

// TestDryRunWritesNothing checks and shows what would be done, and leaves cards, receipts and all as they are.
func TestDryRunWritesNothing(t *testing.T) {
	t.Parallel()
	d := newDesk(t, demo.XZ, demo.Sums)
	d.card("a.card", "--claimed", "64MB")
	before := d.fill("a.card", 64_000_000)
	damaged := d.read(demo.XZ)
	damaged[len(damaged)/2]++
	d.write("damaged/"+demo.XZ, damaged)
	for _, job := range [][]string{
		{"stamp", demo.XZ, "a.card"},
		{"blank", "a.card"},
		{"gauge", "spots", "a.card"},
		{"gauge", "whole", "a.card"},
		{"pace", "a.card"},
	} {
		d.want(0, "Nothing was written: this was a dry run.", append(job, "--dry-run")...)
		doc := document(t, d.zipstamp(append(job, "--dry-run", "--json")...))
		assert.Equal(t, "a.card", doc["cards"].([]any)[0].(map[string]any)["name"])
	}
	d.want(3, "is not what was published", "stamp", "--dry-run", "--sums", demo.Sums, "damaged/"+demo.XZ, "a.card")
	d.write("hash.txt", []byte(strings.Repeat("a1", 32)))
	require.NoError(t, os.Rename(d.path(demo.Sums), d.path("damaged/far.sums")))
	d.want(3, "hash.txt has a digest without a name", "stamp", "--dry-run", demo.XZ, "a.card")
	require.NoError(t, os.Rename(d.path("damaged/far.sums"), d.path(demo.Sums)))
	d.want(4, "there is no such card", "stamp", "--dry-run", demo.XZ, "b.card")
	d.want(2, "the card must be named", "stamp", "--dry-run", demo.XZ)
	assert.Equal(t, before, d.sum("a.card"))
	_, err := os.Stat(d.path("state/zipstamp/receipts"))
	assert.ErrorIs(t, err, os.ErrNotExist)
}

// TestProgressForOtherPrograms reads what comes beside the result.
func TestProgressForOtherPrograms(t *testing.T) {
	t.Parallel()
	d := newDesk(t, demo.XZ, demo.Sums)
	d.card("a.card", "--claimed", "64MB", "--write-rate", "60MB/s")
	d.card("b.card", "--claimed", "64MB")
	r := d.zipstamp("stamp", "--yes", "--json", "--progress", "json", demo.XZ, "a.card", "b.card")
	document(t, r)
	phases := map[string]bool{}
	for line := range strings.Lines(r.err) {
		var doc map[string]any
		require.NoError(t, json.Unmarshal([]byte(line), &doc), line)
		require.NoError(t, schemaOf(doc).Validate(doc), line)
		if doc["card"] == "a.card" && doc["state"] == "done" {
			phases[doc["phase"].(string)] = true
		}
	}
	for _, phase := range []string{"try", "write", "rewrite", "read back"} {
		assert.True(t, phases[phase], phase)
	}
	for _, flag := range [][]string{{"--quiet"}, {"--progress", "none"}} {
		r = d.zipstamp(append([]string{"stamp", "--yes", demo.XZ, "a.card"}, flag...)...)
		assert.Equal(t, []any{0, ""}, []any{r.status, r.err}, flag)
	}
	d.want(2, `--progress: "loud" is not auto, json or none`, "stamp", "--progress", "loud", demo.XZ, "a.card")
}

// TestOneThatIsTooSmallStopsNoOthers stamps the cards that are large enough.
func TestOneThatIsTooSmallStopsNoOthers(t *testing.T) {
	t.Parallel()
	d := newDesk(t, demo.XZ, demo.Sums)
	d.card("a.card", "--claimed", "64MB")
	d.card("s.card", "--claimed", "20MB")
	before := d.sum("s.card")
	doc := document(t, d.want(4, "1 of 2 cards are stamped", "stamp", "--yes", "--json", demo.XZ, "s.card", "a.card"))
	cards := doc["cards"].([]any)
	assert.Equal(t, "card too small", cards[0].(map[string]any)["cause"])
	assert.Equal(t, "good", cards[1].(map[string]any)["verdict"])
	assert.Equal(t, before, d.sum("s.card"))
	d.want(4, "the image does not fit", "stamp", "--yes", demo.XZ, "s.card")
}

// TestSettingsInForce shows where each comes from.
func TestSettingsInForce(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.want(0, "repairs 3, by default", "settings")
	d.write("config/zipstamp/config.toml", []byte("repairs = 5\nreceipts = \"~/my cards\"\n"))
	d.env = append(d.env, "ZIPSTAMP_EJECT=false")
	r := d.want(0, "repairs 5, set in ~/config/zipstamp/config.toml", "settings")
	assert.Contains(t, plain(r.out), "eject false, set in ZIPSTAMP_EJECT")
	assert.Contains(t, plain(r.out), "receipts ~/my cards, set in ~/config/zipstamp/config.toml")
	document(t, d.zipstamp("settings", "--json"))
	d.card("a.card", "--claimed", "64MB")
	d.want(0, "is empty", "blank", "--yes", "a.card")
	kept, err := os.ReadDir(d.path("my cards"))
	require.NoError(t, err)
	assert.Len(t, kept, 1)
	d.write("config/zipstamp/config.toml", []byte("\nrepairs = \"x\"\n"))
	d.want(2, "config.toml, line 2: repairs must be a whole number, such as 3", "settings")
}
