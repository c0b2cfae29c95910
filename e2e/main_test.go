// Package e2e drives the built program, as a person or a script does, on files in temporary folders.
package e2e

import (
	"bytes"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"sync"
	"testing"

	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
	"zipstamp/internal/testbed"
)

var (
	program string // the built program
	sample  string // a folder with the demo's data, which tests copy from
	unpack  []byte // the demo's image
)

func TestMain(m *testing.M) {
	dir, err := os.MkdirTemp("", "zipstamp-test-")
	if err != nil {
		panic(err)
	}
	program, sample = filepath.Join(dir, "zipstamp"), filepath.Join(dir, "sample")
	if runtime.GOOS == "windows" {
		program += ".exe"
	}
	if err := errors.Join(os.Mkdir(sample, 0o755), demo.Make(sample)); err != nil {
		panic(err)
	}
	unpack = demo.Image()
	flag.Parse()
	// most of the time the programs wait for their cards
	if parallel := flag.Lookup("test.parallel"); parallel.Value.String() == parallel.DefValue {
		_ = flag.Set("test.parallel", strconv.Itoa(4*runtime.GOMAXPROCS(0)))
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// build builds the program, once. Where there is no Go tool, as on a machine that was given only the tests, it fails.
var build = sync.OnceValue(func() error {
	cmd := exec.Command("go", "build", "-o", program, "-ldflags", "-X main.version=9.8.7-test", "zipstamp")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := cmd.CombinedOutput()
	if err != nil && !errors.Is(err, exec.ErrNotFound) {
		panic(fmt.Sprintf("build: %v\n%s", err, out))
	}
	return err
})

// desk is a folder to work in, and how the program is run there.
type desk struct {
	t   *testing.T
	dir string
	env []string
}

// newDesk makes a folder with copies of some of the sample files, and state and settings of its own.
func newDesk(t *testing.T, files ...string) *desk {
	if err := build(); err != nil {
		testbed.Missing(t, "this test builds the program: "+err.Error())
	}
	d := &desk{t: t, dir: t.TempDir()}
	for _, f := range files {
		text, err := os.ReadFile(filepath.Join(sample, f))
		require.NoError(t, err)
		d.write(f, text)
	}
	d.env = append(os.Environ(), "HOME="+d.dir, "XDG_STATE_HOME="+d.path("state"), "XDG_CONFIG_HOME="+d.path("config"),
		"XDG_CACHE_HOME="+d.path("cache"),
		"LANG=C.UTF-8", "TERM=xterm-256color",
		"SUDO_UID=", "SUDO_GID=", "ZIPSTAMP_RECEIPTS=", "ZIPSTAMP_REPAIRS=", "ZIPSTAMP_READ_BACK=")
	return d
}

func (d *desk) path(name string) string { return filepath.Join(d.dir, name) }

func (d *desk) write(name string, text []byte) {
	d.t.Helper()
	require.NoError(d.t, os.MkdirAll(filepath.Dir(d.path(name)), 0o755))
	require.NoError(d.t, os.WriteFile(d.path(name), text, 0o644))
}

func (d *desk) read(name string) []byte {
	d.t.Helper()
	text, err := os.ReadFile(d.path(name))
	require.NoError(d.t, err)
	return text
}

// run is a run that has ended.
type run struct {
	status   int
	out, err string
}

func (d *desk) command(args ...string) *exec.Cmd {
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = d.dir, d.env
	return cmd
}

// zipstamp runs the program with nothing on its standard input.
func (d *desk) zipstamp(args ...string) run {
	d.t.Helper()
	cmd := d.command(args...)
	var out, err bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &err
	_ = cmd.Run() // the status tells
	require.NotNil(d.t, cmd.ProcessState)
	return run{cmd.ProcessState.ExitCode(), out.String(), err.String()}
}

// want runs the program, and checks its exit status and parts of what it says.
func (d *desk) want(status int, says string, args ...string) run {
	d.t.Helper()
	r := d.zipstamp(args...)
	all := plain(r.out + r.err)
	require.Equal(d.t, status, r.status, "%v\n%s", args, r.out+r.err)
	require.Contains(d.t, all, says, "%v", args)
	return r
}

// plain is text with its line breaks undone, so that it can be searched whatever its width.
func plain(s string) string { return strings.Join(strings.Fields(s), " ") }

// card makes a practice card.
func (d *desk) card(name string, flags ...string) {
	d.t.Helper()
	d.want(0, "Made the practice card", append([]string{"practice", "new", name}, flags...)...)
}

// document is the one JSON document of a run. It follows the schema that it names, and has the exit status of the run.
func document(t *testing.T, r run) map[string]any {
	t.Helper()
	dec := json.NewDecoder(strings.NewReader(r.out))
	dec.UseNumber()
	var doc map[string]any
	require.NoError(t, dec.Decode(&doc), "%s", r.out)
	require.False(t, dec.More(), "one document only")
	require.NoError(t, schemaOf(doc).Validate(doc), "%s", r.out)
	require.Equal(t, json.Number(strconv.Itoa(r.status)), doc["exit"])
	doc = nil
	require.NoError(t, json.Unmarshal([]byte(r.out), &doc)) // with plain numbers, for tests
	return doc
}

// schemas are those in docs/schemas, by their names.
var schemas = sync.OnceValue(func() map[string]*jsonschema.Schema {
	compiler := jsonschema.NewCompiler()
	compiler.AssertFormat()
	paths, _ := filepath.Glob("../docs/schemas/*.json")
	all := map[string]*jsonschema.Schema{}
	for _, path := range paths {
		all[strings.TrimSuffix(filepath.Base(path), ".json")] = compiler.MustCompile(path)
	}
	return all
})

// schemaOf is the schema that a document names.
func schemaOf(doc map[string]any) *jsonschema.Schema {
	name, _ := doc["schema"].(string)
	return schemas()[name]
}
