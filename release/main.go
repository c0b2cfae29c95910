// Command release makes the files that people download, from a clean checkout: archives for all systems, packages for
// Debian and Fedora and their kin, a bill of materials, and the digests of all of them. The same commit and the same
// version of Go give the same bytes.
package main

import (
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"
)

// targets are the systems and processors that get files.
var targets = []target{
	{"linux", "amd64"},
	{"linux", "arm64"},
	{"linux", "armv6"},
	{"windows", "amd64"},
	{"windows", "arm64"},
	{"darwin", "amd64"},
	{"darwin", "arm64"},
}

func main() {
	if len(os.Args) != 2 {
		fmt.Fprintln(os.Stderr, "usage: go -C release run . OUT\nOUT is a new folder, as seen from the folder release.")
		os.Exit(2)
	}
	if err := makeAll("..", os.Args[1], os.Stderr); err != nil {
		fmt.Fprintln(os.Stderr, "release:", err)
		os.Exit(1)
	}
}

// makeAll makes all files of the checkout at root in the folder out, which must be new or empty.
func makeAll(root, out string, say io.Writer) error {
	if left, err := os.ReadDir(out); err == nil && len(left) > 0 {
		return fmt.Errorf("%s is not empty", out)
	} else if err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	r := &release{root: root, out: out}
	if err := r.look(); err != nil {
		return err
	}
	if err := os.MkdirAll(out, 0o755); err != nil {
		return err
	}
	work, err := os.MkdirTemp("", "zipstamp-release-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	for _, t := range targets {
		fmt.Fprintln(say, "building for", t)
		p := filepath.Join(work, t.String(), "zipstamp"+t.ending())
		if err := r.build(t, p); err != nil {
			return fmt.Errorf("build for %s: %w", t, err)
		}
		r.programs = append(r.programs, program{t, p})
	}
	for _, step := range []func() error{r.gather, r.archives, r.packages, r.bill, r.sums} {
		if err := step(); err != nil {
			return err
		}
	}
	return nil
}

// release is one release as it is made.
type release struct {
	root, out string
	version   string    // as the program prints it: v1.2.0, or v1.2.0-7-g0123abc
	time      time.Time // of the commit
	commit    string
	programs  []program
	modules   []module
	files     []file // that go with the program, on all systems
}

// file is one that goes with the program.
type file struct {
	name string // in an archive
	text []byte
}

// look finds out what is released. It is an error if the checkout has changes.
func (r *release) look() error {
	changed, err := r.git("status", "--porcelain")
	if err != nil {
		return err
	}
	if changed != "" {
		return fmt.Errorf("the checkout has changes; commit them, or use a fresh clone:\n%s", changed)
	}
	if r.version, err = r.git("describe", "--tags", "--always", "--abbrev=12"); err != nil {
		return err
	}
	if r.commit, err = r.git("rev-parse", "HEAD"); err != nil {
		return err
	}
	stamp, err := r.git("log", "-1", "--format=%cI")
	if err != nil {
		return err
	}
	if r.time, err = time.Parse(time.RFC3339, stamp); err != nil {
		return err
	}
	r.time = r.time.UTC()
	return nil
}

// name is the start of the names of all files.
func (r *release) name() string { return "zipstamp-" + r.version }

// sums writes the digests of all files.
func (r *release) sums() error {
	entries, err := os.ReadDir(r.out)
	if err != nil {
		return err
	}
	var text strings.Builder
	for _, e := range entries { // sorted by name
		f, err := os.Open(filepath.Join(r.out, e.Name()))
		if err != nil {
			return err
		}
		h := sha256.New()
		_, err = io.Copy(h, f)
		f.Close()
		if err != nil {
			return err
		}
		fmt.Fprintf(&text, "%x  %s\n", h.Sum(nil), e.Name())
	}
	return os.WriteFile(filepath.Join(r.out, "SHA256SUMS"), []byte(text.String()), 0o644)
}
