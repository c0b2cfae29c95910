package cli

import (
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
	"github.com/stretchr/testify/assert"

	"zipstamp/internal/view/help"
)

// TestEveryCommandAndFlagHasItsHelp, and no help is of none.
func TestEveryCommandAndFlagHasItsHelp(t *testing.T) {
	used := map[string]bool{}
	var visit func(cmd *cobra.Command, path string)
	visit = func(cmd *cobra.Command, path string) {
		if cmd.Name() == "help" || cmd.Name() == "completion" {
			return
		}
		used[path] = true
		assert.NotEmpty(t, cmd.Short, path)
		assert.NotContains(t, cmd.Long+cmd.Example, "{", path)
		for line := range strings.Lines(cmd.Long + "\n" + cmd.Example) {
			if !strings.HasPrefix(line, "  zipstamp") {
				assert.LessOrEqual(t, len(strings.TrimRight(line, "\n")), 80, "%s: %s", path, line)
			}
		}
		cmd.LocalFlags().VisitAll(func(f *pflag.Flag) {
			if f.Name != "help" && f.Name != "version" {
				assert.NotEmpty(t, f.Usage, "%s --%s", path, f.Name)
			}
		})
		for _, below := range cmd.Commands() {
			visit(below, strings.TrimSpace(path+" "+below.Name()))
		}
	}
	visit(Root(), "")
	for _, path := range help.Paths() {
		assert.True(t, used[path], path)
	}
}
