package main

import (
	"bytes"
	"debug/buildinfo"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
)

// target is a system and a processor.
type target struct{ system, processor string }

func (t target) String() string { return t.system + "-" + t.processor }

// ending is that of a program's name.
func (t target) ending() string {
	if t.system == "windows" {
		return ".exe"
	}
	return ""
}

// environment is what the Go compiler is told.
func (t target) environment() []string {
	processor, arm := t.processor, ""
	if processor == "armv6" {
		processor, arm = "arm", "6"
	}
	return []string{"CGO_ENABLED=0", "GOFLAGS=", "GOOS=" + t.system, "GOARCH=" + processor, "GOARM=" + arm}
}

// program is one that is built.
type program struct {
	target
	path string
}

// build builds the program for a target.
func (r *release) build(t target, path string) error {
	path, err := filepath.Abs(path)
	if err != nil {
		return err
	}
	_, err = r.run(t.environment(), "go", "build", "-trimpath", "-buildvcs=true", "-ldflags",
		"-s -w -buildid= -X main.version="+r.version, "-o", path, ".")
	return err
}

func (r *release) git(words ...string) (string, error) { return r.run(nil, "git", words...) }

// run runs a command in the checkout, and gives what it prints.
func (r *release) run(environment []string, name string, words ...string) (string, error) {
	cmd := exec.Command(name, words...)
	cmd.Dir, cmd.Env = r.root, append(os.Environ(), environment...)
	var errs bytes.Buffer
	cmd.Stderr = &errs
	out, err := cmd.Output()
	if err != nil {
		return "", fmt.Errorf("%s %s: %w\n%s", name, words[0], err, errs.Bytes())
	}
	return strings.TrimSpace(string(out)), nil
}

// module is a library that is in the programs.
type module struct{ path, version, sum string }

// gather finds the libraries that the programs have in them, and makes what goes with a program.
func (r *release) gather() error {
	for _, p := range r.programs {
		info, err := buildinfo.ReadFile(p.path)
		if err != nil {
			return err
		}
		for _, d := range info.Deps {
			if m := (module{d.Path, d.Version, d.Sum}); !slices.Contains(r.modules, m) {
				r.modules = append(r.modules, m)
			}
		}
	}
	slices.SortFunc(r.modules, func(a, b module) int { return strings.Compare(a.path, b.path) })
	licences, err := r.licences()
	if err != nil {
		return err
	}
	r.files = []file{{"LIBRARIES.txt", licences}}
	for _, name := range []string{"README.md", "LICENSE", "docs/systems.md"} {
		if err := r.add(filepath.Base(name), name); err != nil {
			return err
		}
	}
	pages, err := filepath.Glob(filepath.Join(r.root, "docs/man/*.1"))
	if err != nil {
		return err
	}
	for _, page := range pages {
		name := filepath.Base(page)
		if err := r.add("man/"+name, "docs/man/"+name); err != nil {
			return err
		}
	}
	return r.completions()
}

func (r *release) add(name, path string) error {
	text, err := os.ReadFile(filepath.Join(r.root, path))
	if err != nil {
		return err
	}
	r.files = append(r.files, file{name, text})
	return nil
}

// completions asks the program that runs here for what completes its words.
func (r *release) completions() error {
	i := slices.IndexFunc(r.programs, func(p program) bool {
		return p.system == runtime.GOOS && p.processor == runtime.GOARCH
	})
	if i < 0 {
		return fmt.Errorf("none of the programs runs on %s-%s", runtime.GOOS, runtime.GOARCH)
	}
	for shell, name := range map[string]string{
		"bash": "zipstamp.bash", "zsh": "_zipstamp", "fish": "zipstamp.fish", "powershell": "zipstamp.ps1",
	} {
		text, err := exec.Command(r.programs[i].path, "completion", shell).Output()
		if err != nil {
			return fmt.Errorf("completion %s: %w", shell, err)
		}
		r.files = append(r.files, file{"completions/" + name, text})
	}
	slices.SortFunc(r.files, func(a, b file) int { return strings.Compare(a.name, b.name) })
	return nil
}
