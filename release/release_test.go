package main

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func command(t *testing.T, dir, name string, words ...string) string {
	t.Helper()
	cmd := exec.Command(name, words...)
	cmd.Dir = dir
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s %q: %s", name, words, out)
	return string(out)
}

// TestRelease makes a release of the last commit twice, and uses it as those who download it do. With ZIPSTAMP_RELEASE,
// it is left in the folder with that name, which must be new.
func TestRelease(t *testing.T) {
	dir := t.TempDir()
	var all [2]string
	for i := range all {
		clone := filepath.Join(dir, "clone", strings.Repeat("x", i+1)) // another path must give the same bytes
		command(t, ".", "git", "clone", "-q", "..", clone)
		all[i] = filepath.Join(dir, "out", strings.Repeat("y", i+1))
		if kept := os.Getenv("ZIPSTAMP_RELEASE"); i == 0 && kept != "" {
			all[i] = kept
		}
		require.NoError(t, makeAll(clone, all[i], t.Output()))
	}
	names, err := os.ReadDir(all[0])
	require.NoError(t, err)
	assert.Len(t, names, 7+2*3+2, "archives, packages, the bill and the digests")
	for _, e := range names {
		a, err := os.ReadFile(filepath.Join(all[0], e.Name()))
		require.NoError(t, err)
		b, err := os.ReadFile(filepath.Join(all[1], e.Name()))
		require.NoError(t, err)
		assert.True(t, bytes.Equal(a, b), "%s is the same each time", e.Name())
	}

	tarball, err := filepath.Glob(filepath.Join(all[0], "zipstamp-*-"+runtime.GOOS+"-"+runtime.GOARCH+".tar.gz"))
	require.NoError(t, err)
	require.Len(t, tarball, 1)
	command(t, dir, "tar", "xf", tarball[0])
	inside := filepath.Join(dir, strings.TrimSuffix(filepath.Base(tarball[0]), ".tar.gz"))
	own := filepath.Join(inside, "zipstamp")
	version := strings.TrimSpace(command(t, "..", "git", "describe", "--tags", "--always", "--abbrev=12"))
	assert.Contains(t, command(t, dir, own, "version"), version)
	for _, name := range []string{
		"README.md", "LICENSE", "LIBRARIES.txt", "man/zipstamp-stamp.1", "completions/zipstamp.bash",
		"completions/_zipstamp", "completions/zipstamp.fish", "completions/zipstamp.ps1",
	} {
		assert.FileExists(t, filepath.Join(inside, name))
	}
	libraries, err := os.ReadFile(filepath.Join(inside, "LIBRARIES.txt"))
	require.NoError(t, err)
	bill, err := os.ReadFile(filepath.Join(all[0], "zipstamp-"+version+".cdx.json"))
	require.NoError(t, err)
	for _, m := range regexp.MustCompile(`"name": "([^"]+/[^"]+)"`).FindAllSubmatch(bill, -1) {
		assert.Contains(t, string(libraries), "======== "+string(m[1])+" ", "its licence")
	}

	checked := command(t, all[0], own, "check", "SHA256SUMS")
	assert.Contains(t, checked, "14 as published, 0 not, 0 with nothing to compare")
	damaged := filepath.Join(all[1], filepath.Base(tarball[0]))
	require.NoError(t, os.WriteFile(damaged, []byte("cut off"), 0o644))
	assert.Error(t, exec.Command(own, "check", filepath.Join(all[1], "SHA256SUMS")).Run(), "a file is damaged")

	if _, err := exec.LookPath("dpkg-deb"); err != nil {
		t.Skip("dpkg-deb is not here; packages are not looked into")
	}
	deb, err := filepath.Glob(filepath.Join(all[0], "*-linux-amd64.deb"))
	require.NoError(t, err)
	require.Len(t, deb, 1)
	listed := command(t, dir, "dpkg-deb", "--contents", deb[0])
	for _, name := range []string{
		"/usr/bin/zipstamp", "/usr/share/man/man1/zipstamp-stamp.1.gz", "/usr/share/zsh/vendor-completions/_zipstamp",
		"/usr/share/bash-completion/completions/zipstamp", "/usr/share/fish/vendor_completions.d/zipstamp.fish",
		"/usr/share/doc/zipstamp/copyright",
	} {
		assert.Contains(t, listed, "."+name+"\n")
	}
	assert.NotContains(t, listed, "ps1")
}

// TestChangesAreNotReleased has a checkout with a file that is in no commit.
func TestChangesAreNotReleased(t *testing.T) {
	clone := filepath.Join(t.TempDir(), "clone")
	command(t, ".", "git", "clone", "-q", "..", clone)
	require.NoError(t, os.WriteFile(filepath.Join(clone, "new.go"), []byte("package main\n"), 0o644))
	out := filepath.Join(t.TempDir(), "out")
	assert.ErrorContains(t, makeAll(clone, out, t.Output()), "new.go")
	assert.NoDirExists(t, out)
}
