package view

import "time"

// Built is how this program was built.
type Built struct {
	Version   string
	Commit    string    // of the source; empty where that isn't known
	Modified  bool      // the source had changes that were not committed
	Committed time.Time // zero where it isn't known
	Go        string    // version of the compiler
	System    string    // as Go names it
	Processor string    // likewise
}

// VersionSentence names the version.
func VersionSentence(b Built) string { return "zipstamp " + b.Version }

// Version shows how this program was built.
func (v *Screen) Version(b Built) {
	a := &answer{style: strong, sentence: VersionSentence(b)}
	if b.Commit != "" {
		changed := ""
		if b.Modified {
			changed = ", with changes"
		}
		a.add("source", "%s%s, of %s", b.Commit[:min(len(b.Commit), 12)], changed, Day(b.Committed))
	}
	a.add("built with", "%s", word(b.Go))
	a.add("built for", "%s, %s", b.System, b.Processor)
	a.print(v.Out, v.width)
}
