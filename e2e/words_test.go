package e2e

import (
	"os"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
)

// TestWhatWasMeant types command lines that can't be run, and is told those that can.
func TestWhatWasMeant(t *testing.T) {
	t.Parallel()
	d := newDesk(t, demo.XZ, demo.Sums)
	require.NoError(t, os.Mkdir(d.path("box"), 0o755))
	d.card("box/good.card", "--claimed", "64MB")
	for _, c := range []struct {
		status int
		says   string
		typed  []string
	}{
		{2, " stamp " + demo.XZ + " box/good.card?", []string{"stmap", demo.XZ, "box/good.card"}},
		{2, " gauge spots box/good.card?", []string{"gauge", "spto", "box/good.card"}},
		{2, "zipstamp gauge whole box/good.card tests every block", []string{"gauge", "box/good.card"}},
		{2, " check " + demo.XZ + "?", []string{"verify", demo.XZ}},
		{2, " recheck box/good.card?", []string{"verify", "box/good.card"}},
		{2, " cards?", []string{"list"}},
		{2, " blank box/good.card?", []string{"format", "box/good.card"}},
		{2, " fetch saltmarsh-os.img.xz?", []string{"download", demo.XZ}},
		{2, "zipstamp doesn't replace itself", []string{"update"}},
		{2, "the commands are blank, cards, check", []string{"xyzzy"}},
		{2, " receipts list?", []string{"receipts", "lst"}},
		{2, " completion bash, or ", []string{"completion", "bsh"}},
		{2, " check --json " + demo.XZ + "?", []string{"check", "--josn", demo.XZ}},
		{2, " check --digest=abc " + demo.XZ + "?", []string{"check", "--sha256=abc", demo.XZ}},
		{2, " stamp --yes a b?", []string{"stamp", "-y", "a", "b"}},
		{2, " stamp --no-read-back a b?", []string{"stamp", "--no-verify", "a", "b"}},
		{2, "has no flag --frobnicate. Next: see zipstamp check --help", []string{"check", "--frobnicate"}},
		{2, "fetch it first: zipstamp fetch", []string{"check", "https://tides.example/os.img.xz"}},
		{2, " check " + demo.XZ + "?", []string{"check", "saltmrsh-os.img.xz"}},
		{2, " peek box/good.card?", []string{"peek", "good.card"}},
		{4, " stamp --yes " + demo.XZ + " box/good.card?", []string{"stamp", "--yes", demo.XZ, "box/good.crad"}},
		{2, "the shell fills a tilde in only without quotes; did you mean", []string{"check", "~/" + demo.XZ}},
		{2, "good.card is a card. Next: did you mean", []string{"stamp", "--yes", "box/good.card", demo.XZ}},
		{2, " recheck box/good.card " + demo.XZ + "?", []string{"recheck", demo.XZ, "box/good.card"}},
		{2, "is not a day such as 2026-11-26", []string{"receipts", "--since", "tomorrow"}},
	} {
		d.want(c.status, c.says, c.typed...)
	}
	d.want(0, "zipstamp 9.8.7-test", "version")
	assert.Equal(t, "9.8.7-test", document(t, d.zipstamp("version", "--json"))["version_name"])
	d.want(0, "There are no receipts", "receipts")
	d.want(0, "is empty", "blank", "--yes", "box/good.card")
	for _, day := range []string{"yesterday", "today", "3 days ago", "2026-11-01", "1 month ago"} {
		d.want(0, "blank good.card (64.0 MB): good", "receipts", "--since", day)
	}
	d.want(0, "The only receipt doesn't match", "receipts", "--until", "yesterday")
}
