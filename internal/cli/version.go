package cli

import (
	"runtime"
	"runtime/debug"
	"time"

	"github.com/spf13/cobra"

	"zipstamp/internal/document"
	"zipstamp/internal/view"
)

func (a *app) versionCommand() *cobra.Command {
	return a.command("version", 0, 0, func(*cobra.Command, []string) error {
		b := a.built()
		if !a.json {
			a.screen.Version(b)
			return nil
		}
		a.printJSON(struct {
			document.Head
			Name     string `json:"version_name"`
			Commit   string `json:"commit,omitempty"`
			Modified bool   `json:"modified"`
			Made     string `json:"committed,omitempty"`
			Go       string `json:"go"`
			System   string `json:"system"`
			CPU      string `json:"processor"`
		}{
			document.New(document.VersionReport, statusGood, view.VersionSentence(b)), b.Version, b.Commit, b.Modified,
			timeText(b.Committed), b.Go, b.System, b.Processor,
		})
		return nil
	})
}

func timeText(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

// built is what the Go tool has kept of how this program was built.
func (a *app) built() view.Built {
	b := view.Built{Version: a.version, Go: runtime.Version(), System: runtime.GOOS, Processor: runtime.GOARCH}
	info, ok := debug.ReadBuildInfo()
	if !ok {
		return b
	}
	for _, s := range info.Settings {
		switch s.Key {
		case "vcs.revision":
			b.Commit = s.Value
		case "vcs.modified":
			b.Modified = s.Value == "true"
		case "vcs.time":
			b.Committed, _ = time.Parse(time.RFC3339, s.Value) // the zero time where there is none
		}
	}
	return b
}
