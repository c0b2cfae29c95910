// Package testbed gives tests what they need of the computer: rights, programs, loop devices, files.
package testbed

import (
	"errors"
	"flag"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zipstamp/internal/card/lock"
)

// Loop attaches a file as a loop device for the length of a test, with direct access to the file. The test is
// skipped where that needs more rights; with ZIPSTAMP_TEST_ALL set it fails instead.
func Loop(t *testing.T, file string, options ...string) string {
	t.Helper()
	NeedRoot(t)
	done := loops(t, lock.Share)
	defer done()
	args := slices.Concat([]string{"--direct-io=on", "--show", "-f"}, options, []string{file})
	out, err := exec.Command("losetup", args...).CombinedOutput()
	if err != nil {
		Missing(t, "no loop device is available: "+string(out))
	}
	device := strings.TrimSpace(string(out))
	t.Cleanup(func() {
		out, err := exec.Command("losetup", "-d", device).CombinedOutput()
		assert.NoError(t, err, "%s", out)
	})
	return device
}

// LoopsAlone keeps other tests from attaching loop devices until done is called, so that none gets one that is free for
// a moment.
func LoopsAlone(t *testing.T) (done func()) { return loops(t, lock.Take) }

func loops(t *testing.T, take func(*os.File) error) (done func()) {
	t.Helper()
	f, err := os.OpenFile(filepath.Join(os.TempDir(), "zipstamp-test-loops.lock"), os.O_RDWR|os.O_CREATE, 0o600)
	require.NoError(t, err)
	for err = take(f); errors.Is(err, lock.ErrHeld); err = take(f) {
		time.Sleep(10 * time.Millisecond)
	}
	require.NoError(t, err)
	return func() { f.Close() }
}

// NeedRoot skips the test, or fails it with ZIPSTAMP_TEST_ALL set, where it doesn't run as root.
func NeedRoot(t *testing.T) {
	t.Helper()
	if os.Geteuid() != 0 {
		Missing(t, "this test needs root")
	}
}

// NeedTool does the same where a program isn't installed.
func NeedTool(t testing.TB, names ...string) {
	t.Helper()
	for _, name := range names {
		if _, err := exec.LookPath(name); err != nil {
			Missing(t, "this test needs the program "+name)
		}
	}
}

// Missing skips a test for a reason, or fails it where all tests have to run.
func Missing(t testing.TB, reason string) {
	t.Helper()
	if os.Getenv("ZIPSTAMP_TEST_ALL") != "" {
		t.Fatal(reason)
	}
	t.Skip(reason)
}

// Linked makes a symbolic link, and tells whether this system follows it: on Windows, that may need more rights.
func Linked(t testing.TB, target, link string) bool {
	t.Helper()
	if err := os.Symlink(target, link); err != nil {
		return false
	}
	there, err := filepath.EvalSymlinks(link)
	return err == nil && there != link
}

// Answers waits until a program takes connections on a Unix socket. The file of the socket is there before that.
func Answers(t testing.TB, socket string) {
	t.Helper()
	require.Eventually(t, func() bool {
		conn, err := net.Dial("unix", socket)
		if err == nil {
			conn.Close()
		}
		return err == nil
	}, time.Minute, 10*time.Millisecond, socket)
}

// Memory makes a folder for files that needn't last, in memory where there is a place for that. It goes with the test.
func Memory(t testing.TB) string {
	t.Helper()
	if runtime.GOOS == "linux" {
		if dir, err := os.MkdirTemp("/dev/shm", "zipstamp-test-"); err == nil {
			t.Cleanup(func() { os.RemoveAll(dir) })
			return dir
		}
	}
	return t.TempDir()
}

// Sparse makes a file of zeros.
func Sparse(t *testing.T, path string, size int64) string {
	t.Helper()
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	require.NoError(t, os.Truncate(path, size))
	return path
}

// Long tells whether all that a test can try is to be tried, as in .ci/run: ZIPSTAMP_LONG is set. Otherwise a test
// tries a few cases of each kind, so that all of them together take three minutes at most.
func Long() bool { return os.Getenv("ZIPSTAMP_LONG") != "" }

// Trials is how many random trials a test does: few; many in a long run; or as many as the variable ZIPSTAMP_TRIALS
// says.
func Trials(few, many int) int {
	if n, err := strconv.Atoi(os.Getenv("ZIPSTAMP_TRIALS")); err == nil && n > 0 {
		return n
	}
	if Long() {
		return many
	}
	return few
}

// Check is rapid.Check with so many cases, or the usual hundred in a long run, for properties whose cases take long.
func Check(t *testing.T, few int, property func(*rapid.T)) {
	t.Helper()
	if !Long() {
		checks := flag.Lookup("rapid.checks")
		usual := checks.Value.String()
		require.NoError(t, checks.Value.Set(strconv.Itoa(few)))
		defer func() { require.NoError(t, checks.Value.Set(usual)) }()
	}
	rapid.Check(t, property)
}

// Seed is where the chance of random trials starts: that of the variable ZIPSTAMP_SEED, or another one each time, which
// the log tells. The few trials of a short run are the same each time, so that a change that breaks something is told
// from a card that nobody has tried yet.
func Seed(t testing.TB) uint64 {
	t.Helper()
	seed, err := strconv.ParseUint(os.Getenv("ZIPSTAMP_SEED"), 10, 64)
	switch {
	case err == nil:
	case os.Getenv("ZIPSTAMP_TRIALS") == "":
		seed = 1
	default:
		seed = uint64(time.Now().UnixNano()) >> 8
	}
	t.Logf("ZIPSTAMP_SEED=%d", seed)
	return seed
}
