package main

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
)

var licenceName = regexp.MustCompile(`(?i)^((?:un)?licen[cs]e|copying|copyright|notice|patents)([-.].*)?$`)

// licences are the texts under which the libraries may be passed on. A library without one is an error.
func (r *release) licences() ([]byte, error) {
	var all bytes.Buffer
	all.WriteString("The libraries in zipstamp, and the terms under which they may be passed on.\n")
	root, err := r.run(nil, "go", "env", "GOROOT")
	if err != nil {
		return nil, err
	}
	text, err := os.ReadFile(filepath.Join(root, "LICENSE"))
	if err != nil {
		return nil, err
	}
	writeLicence(&all, "Go and its standard library", "LICENSE", text)
	for _, m := range r.modules {
		listed, err := r.run(nil, "go", "mod", "download", "-json", m.path+"@"+m.version)
		if err != nil {
			return nil, err
		}
		var at struct{ Dir string }
		if err := json.Unmarshal([]byte(listed), &at); err != nil {
			return nil, err
		}
		found, err := addLicences(&all, m, at.Dir)
		if err != nil {
			return nil, err
		}
		if !found {
			return nil, fmt.Errorf("%s has no licence in %s", m.path, at.Dir)
		}
	}
	return all.Bytes(), nil
}

// addLicences adds all texts of a module, also those of what it took from others; each once.
func addLicences(all *bytes.Buffer, m module, dir string) (found bool, err error) {
	var had [][]byte
	err = filepath.WalkDir(dir, func(path string, e fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case e.IsDir() && (e.Name() == "testdata" || e.Name() == "_examples"):
			return fs.SkipDir
		case !e.Type().IsRegular() || !licenceName.MatchString(e.Name()) || filepath.Ext(e.Name()) == ".go":
			return nil
		}
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		if slices.ContainsFunc(had, func(b []byte) bool { return bytes.Equal(b, text) }) {
			return nil
		}
		had = append(had, text)
		name, err := filepath.Rel(dir, path)
		writeLicence(all, m.path+" "+m.version, filepath.ToSlash(name), text)
		return err
	})
	return len(had) > 0, err
}

func writeLicence(all *bytes.Buffer, what, name string, text []byte) {
	fmt.Fprintf(all, "\n\n======== %s (%s)\n\n%s\n", what, name, bytes.TrimSpace(bytes.ReplaceAll(text, []byte("\r\n"),
		[]byte("\n"))))
}
