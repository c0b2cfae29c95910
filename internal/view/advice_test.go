//go:build linux

package view

import (
	"errors"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/darwin"
	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/card/linux"
	"zipstamp/internal/card/windows"
	"zipstamp/internal/shell"
)

// causes are all that package guard has, by its source.
func causes(t *testing.T) (all []guard.Cause) {
	f, err := parser.ParseFile(token.NewFileSet(), "../card/guard/reason.go", nil, 0)
	require.NoError(t, err)
	ast.Inspect(f, func(n ast.Node) bool {
		if v, ok := n.(*ast.ValueSpec); ok && fmt.Sprint(v.Type) == "Cause" {
			text, err := strconv.Unquote(v.Values[0].(*ast.BasicLit).Value)
			require.NoError(t, err)
			all = append(all, guard.Cause(text))
		}
		return true
	})
	return all
}

// TestAdviceFitsTheSystem has each reason and its advice in the words of each system, in a file for people to read.
// ZIPSTAMP_GOLDEN=1 writes it anew.
func TestAdviceFitsTheSystem(t *testing.T) {
	defer shell.Use(shell.Posix)
	systems := []struct {
		card.Local
		card, volume, at string
		foreign          []string // words of other systems
	}{
		{(linux.Host{}).Local(), "/dev/sdb", "/dev/sdb1", "/media/wren/SALT BOOT", []string{
			"diskutil", "administrator", "Start menu", "System Settings", `\`, "disk3", "disk4",
		}},
		{(&windows.Host{}).Local(), "disk3", `E:\`, `E:\`, []string{
			"/dev/", "sudo", " mount", "~", "--fixed-disk", "diskutil", "System Settings", "disk4",
		}},
		{(darwin.Host{}).Local(), "disk4", "disk4s1", "/Volumes/SALT BOOT", []string{
			"/dev/sd", "sudo umount", "swapoff", "--fixed-disk", "administrator", "Start menu", `\`, "disk3",
		}},
	}
	onlyLinux := []guard.Cause{guard.MountedAs, guard.MountedElse, guard.Unnamed, guard.SwapStays}
	var text strings.Builder
	all := causes(t)
	require.Greater(t, len(all), 35)
	for _, cause := range all {
		fmt.Fprintf(&text, "\n## %s\n", cause)
		var said []string
		for _, s := range systems {
			if s.System != "Linux" && slices.Contains(onlyLinux, cause) {
				continue
			}
			shell.Use(s.Shell)
			r := guard.Reason{
				Cause: cause, Name: s.at, Of: s.volume, Names: []string{s.card, s.volume}, N: 1, Was: 64e9,
				Err: fs.ErrPermission, System: []disks.SystemUse{{Point: s.at}}, Bus: disks.USB, Made: disks.InMemory,
				Holder: disks.Holder{Name: s.card}, Unfit: disks.Optical,
				Programs: []guard.Program{{ID: 7, Command: "gullview", How: guard.HasOpen, File: s.at}},
			}
			switch cause {
			case guard.IsPart:
				r.Of = s.card
			case guard.MountedAs:
				r.Name, r.Of = s.volume, s.at
			case guard.NamesNone, guard.NoneNamed, guard.Ambiguous:
				r.Name, r.Of = "SALTBOOT", "label"
			case guard.NoDevice:
				r.Name = "pipe"
			case guard.EmptyFile:
				r.Name = "reed $1.card"
			case guard.NoHost:
				r.Err = errors.ErrUnsupported
			case guard.SystemSays: // it has only what the system says
				r.Err = errors.New("too many links")
			}
			why := Reason(r)
			next := nextStep(&card.RefusedError{Card: s.card, Why: []guard.Reason{r}}, s.Local,
				[]string{"zipstamp", "stamp", "salt os.img", s.card})
			next = strings.ReplaceAll(next, os.Args[0], "zipstamp")
			if executable, err := os.Executable(); err == nil {
				next = strings.ReplaceAll(next, executable, "zipstamp")
			}
			said = append(said, strings.TrimSpace(why+"\n         "+next))
			for _, word := range s.foreign {
				own := strings.NewReplacer(s.at, "", s.card, "").Replace(why + "\n" + next)
				assert.NotContains(t, own, word, "%s, %s", cause, s.System)
			}
			assert.NotContains(t, why+next, "%!")
			assert.NotEqual(t, fs.ErrPermission.Error(), why, "%s has no words of its own", cause)
		}
		if len(said) == 3 && said[0] == said[1] && said[0] == said[2] {
			text.WriteString("all:     " + said[0] + "\n")
			continue
		}
		for i, one := range said {
			fmt.Fprintf(&text, "%-9s%s\n", systems[i].System+":", one)
		}
	}
	const golden = "testdata/advice.txt"
	if os.Getenv("ZIPSTAMP_GOLDEN") != "" {
		require.NoError(t, os.MkdirAll(filepath.Dir(golden), 0o755))
		require.NoError(t, os.WriteFile(golden, []byte(text.String()), 0o644))
	}
	want, err := os.ReadFile(golden)
	require.NoError(t, err)
	assert.Equal(t, string(want), text.String())
}
