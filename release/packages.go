package main

import (
	"bytes"
	"compress/gzip"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"github.com/goreleaser/nfpm/v2"
	"github.com/goreleaser/nfpm/v2/deb"
	"github.com/goreleaser/nfpm/v2/files"
	"github.com/goreleaser/nfpm/v2/rpm"
)

// packagers are the kinds of packages, and where each has zsh's completions.
var packagers = []struct {
	nfpm.PackagerWithExtension
	zsh string
}{
	{deb.Default, "/usr/share/zsh/vendor-completions/"},
	{rpm.DefaultRPM, "/usr/share/zsh/site-functions/"},
}

// packages makes a .deb and an .rpm for each processor on which Linux runs.
func (r *release) packages() error {
	work, err := os.MkdirTemp("", "zipstamp-package-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(work)
	for _, p := range r.programs {
		if p.system != "linux" {
			continue
		}
		for _, kind := range packagers {
			if err := r.pack(kind.PackagerWithExtension, p, kind.zsh, work); err != nil {
				return err
			}
		}
	}
	return nil
}

func (r *release) pack(kind nfpm.PackagerWithExtension, p program, zsh, work string) error {
	var contents files.Contents
	add := func(source, destination string, mode os.FileMode) {
		contents = append(contents, &files.Content{
			Source: source, Destination: destination,
			FileInfo: &files.ContentFileInfo{Mode: mode, MTime: r.time, Owner: "root", Group: "root"},
		})
	}
	add(p.path, "/usr/bin/zipstamp", 0o755)
	for _, f := range r.files {
		text, where := f.text, ""
		switch folder, name := filepath.Split(f.name); {
		case folder == "man/":
			where = "/usr/share/man/man1/" + name + ".gz"
			var err error
			if text, err = zipped(text); err != nil {
				return err
			}
		case name == "zipstamp.bash":
			where = "/usr/share/bash-completion/completions/zipstamp"
		case name == "_zipstamp":
			where = zsh + name
		case name == "zipstamp.fish":
			where = "/usr/share/fish/vendor_completions.d/" + name
		case name == "LICENSE":
			where = "/usr/share/doc/zipstamp/copyright"
		case folder == "":
			where = "/usr/share/doc/zipstamp/" + name
		default:
			continue // for other systems
		}
		source := filepath.Join(work, strings.ReplaceAll(f.name, "/", "-"))
		if err := os.WriteFile(source, text, 0o644); err != nil {
			return err
		}
		add(source, where, 0o644)
	}
	info := nfpm.WithDefaults(&nfpm.Info{
		Name: "zipstamp", Arch: strings.Replace(p.processor, "armv", "arm", 1), Platform: "linux",
		Version: r.packageVersion(), VersionSchema: "none", Release: "1", Section: "utils", Priority: "optional",
		Maintainer:  "The founders of Zip Stamp <founders@zipstamp.example>",
		Description: "checks images of operating systems, and stamps them onto memory cards",
		License:     "Apache-2.0", MTime: r.time, DisableGlobbing: true,
		Overridables: nfpm.Overridables{Contents: contents, RPM: nfpm.RPM{BuildHost: "zipstamp", Compression: "xz"}},
	})
	if err := nfpm.PrepareForPackager(info, packagerName(kind)); err != nil {
		return err
	}
	f, err := os.Create(filepath.Join(r.out, r.name()+"-"+p.String()+kind.ConventionalExtension()))
	if err != nil {
		return err
	}
	return errors.Join(kind.Package(info, f), f.Close())
}

func packagerName(kind nfpm.PackagerWithExtension) string {
	return strings.TrimPrefix(kind.ConventionalExtension(), ".")
}

// packageVersion is the version as packages have it: 1.2.0, or 0~git20261128.0123abc where there is no release yet.
func (r *release) packageVersion() string {
	if number, ok := strings.CutPrefix(r.version, "v"); ok {
		return strings.ReplaceAll(number, "-", "+")
	}
	return "0~git" + r.time.Format("20060102") + "." + r.version
}

func zipped(text []byte) ([]byte, error) {
	var b bytes.Buffer
	z, err := gzip.NewWriterLevel(&b, gzip.BestCompression)
	if err != nil {
		return nil, err
	}
	_, err = z.Write(text)
	err = errors.Join(err, z.Close())
	return b.Bytes(), err
}
