package fetch_test

import (
	"errors"
	"fmt"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/fetch"
)

// fates are what came of downloads from hosts that misbehave, as docs/hosts.md has them.
type fates struct {
	mu   sync.Mutex
	rows []string
}

const hostsDocument = "../../docs/hosts.md"

// newFates compares a table of the document with what came of it, when the test has ended. ZIPSTAMP_WRITE writes it.
func newFates(t *testing.T, title string) *fates {
	f := &fates{}
	t.Cleanup(func() {
		if t.Failed() || len(f.rows) == 0 || runtime.GOOS == "windows" { // there, tests run without the documents
			return
		}
		slices.Sort(f.rows)
		text, err := os.ReadFile(hostsDocument)
		require.NoError(t, err)
		head := fmt.Sprintf("## %s%s\n\n| the host | what comes of it |\n| --- | --- |\n", strings.ToUpper(title[:1]),
			title[1:])
		before, rest, ok := strings.Cut(string(text), head)
		require.True(t, ok, head)
		table, after, _ := strings.Cut(rest+"\n", "\n\n")
		if os.Getenv("ZIPSTAMP_WRITE") != "" {
			all := strings.TrimRight(before+head+strings.Join(f.rows, "\n")+"\n\n"+after, "\n") + "\n"
			require.NoError(t, os.WriteFile(hostsDocument, []byte(all), 0o644))
			return
		}
		rows := strings.Split(strings.TrimSpace(table), "\n")
		if len(f.rows) < len(rows) && isChosen() {
			return
		}
		assert.Equal(t, rows, f.rows, "docs/hosts.md: run it with ZIPSTAMP_WRITE=1, and look at what changed")
	})
	return f
}

// isChosen tells whether only some of the cases were run.
func isChosen() bool {
	return slices.ContainsFunc(os.Args, func(a string) bool {
		return strings.HasPrefix(a, "-test.run=") && strings.Contains(a, "/")
	})
}

// note notes what came of a download.
func (f *fates) note(name string, s *site, got fetch.Got, err error) {
	fate := "it arrives"
	var e *fetch.Error
	switch {
	case errors.As(err, &e) && e.Status > 0:
		fate = fmt.Sprintf("it ends: %s %d", e.Why, e.Status)
	case errors.As(err, &e):
		fate = fmt.Sprintf("it ends: %s", e.Why)
	case got.Unsure:
		fate = "it may be incomplete"
	}
	var happened []string
	for _, kind := range s.told {
		if kind != fetch.Waits && !slices.Contains(happened, string(kind)) {
			happened = append(happened, string(kind))
		}
	}
	if len(happened) > 0 {
		fate += "; " + strings.Join(happened, ", ")
	}
	f.mu.Lock()
	defer f.mu.Unlock()
	f.rows = append(f.rows, fmt.Sprintf("| %s | %s |", name, fate))
}
