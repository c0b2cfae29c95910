package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
	"zipstamp/internal/testbed"
)

// TestCompletion has a real bash offer what may stand at the end of a line.
func TestCompletion(t *testing.T) {
	t.Parallel()
	testbed.NeedTool(t, "bash")
	if _, err := os.Stat("/usr/share/bash-completion/bash_completion"); err != nil {
		testbed.Missing(t, "this test needs the package bash-completion")
	}
	script, err := filepath.Abs("testdata/complete.bash")
	require.NoError(t, err)
	d := newDesk(t, demo.XZ, demo.Sums)
	d.card("a.card", "--claimed", "64MB")
	d.want(0, "is called greenhouse 3", "cards", "name", "a.card", "greenhouse 3")
	d.want(0, "is empty", "blank", "--yes", "a.card")
	d.env = append(d.env, "PATH="+filepath.Dir(program)+":"+os.Getenv("PATH"))
	for line, want := range map[string][]string{
		"zipstamp sta": {"stamp"}, "zipstamp stamp ": {demo.XZ}, "zipstamp stamp salt": {demo.XZ},
		"zipstamp stamp x ": {"a.card", "name:greenhouse 3", "next"}, "zipstamp stamp x name:": {`greenhouse\ 3`},
		"zipstamp receipts show ": {"1"}, "zipstamp receipts --since y": {"yesterday"},
		"zipstamp practice new x --beyond ": {"wrap", "drop", "lazy", "oldest", "ends"},
		"zipstamp stamp --progress ":        {"auto", "json", "none"}, "zipstamp check --su": {"--sums"},
		"zipstamp completion ": {"bash", "fish", "powershell", "zsh"}, "zipstamp gauge w": {"whole"},
	} {
		cmd := exec.Command("bash", script, "zipstamp", line)
		cmd.Dir, cmd.Env = d.dir, d.env
		out, err := cmd.Output()
		require.NoError(t, err, line)
		got := strings.Split(strings.TrimSpace(string(out)), "\n")
		for _, w := range want {
			assert.Contains(t, trimmed(got), w, line)
		}
		assert.NotContains(t, got, demo.Sums, line)
	}
	for _, shell := range []string{"zsh", "fish", "powershell"} {
		d.want(0, "zipstamp", "completion", shell)
	}
}

// trimmed leaves out what a description adds.
func trimmed(words []string) (out []string) {
	for _, w := range words {
		out = append(out, strings.TrimSpace(w))
	}
	return out
}

// TestCardsWithNames gives names to cards, and finds them by these.
func TestCardsWithNames(t *testing.T) {
	t.Parallel()
	d := newDesk(t, demo.XZ, demo.Sums)
	d.card("a.card", "--claimed", "64MB")
	d.card("b.card", "--claimed", "64MB")
	d.want(0, "No card has a name", "cards", "name")
	d.want(0, "a.card has no name", "cards", "name", "a.card")
	d.want(0, "a.card is called greenhouse 3", "cards", "name", "a.card", "  greenhouse   3 ")
	d.want(0, "1 card has a name: greenhouse 3", "cards", "name")
	d.want(0, "Stamped and read back", "stamp", "--yes", demo.XZ, "name:Greenhouse 3")
	d.want(0, "on a.card (greenhouse 3, 64.0 MB): good", "receipts", "--card", "greenhouse")
	doc := document(t, d.zipstamp("receipts", "show", "--json"))
	assert.Equal(t, "greenhouse 3", doc["card"].(map[string]any)["own_name"])
	document(t, d.zipstamp("cards", "name", "--json"))
	// the name goes to another card, and the card gets another name
	d.want(0, "b.card is called greenhouse 3", "cards", "name", "b.card", "greenhouse 3")
	d.want(0, "a.card has no name", "cards", "name", "a.card")
	d.want(0, "b.card is called tides", "cards", "name", "b.card", "tides")
	d.want(4, "there is no card with the name greenhouse 3", "peek", "name:greenhouse 3")
	d.want(0, "b.card is no longer called tides", "cards", "name", "--forget", "b.card")
	d.want(2, "b.card has no name", "cards", "name", "--forget", "b.card")
	for _, name := range []string{"", "...", strings.Repeat("x", 41), "a\x1bb"} {
		d.want(2, "can't be the name of a card", "cards", "name", "a.card", name)
	}
	// a file of names that is damaged stops nothing
	d.write("state/zipstamp/names/names.json", []byte("{"))
	d.want(0, "is an image with 2 partitions", "peek", demo.XZ)
	d.want(1, "names.json is damaged", "cards", "name", "a.card", "x")
}
