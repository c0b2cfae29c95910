package cli

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/image"
	"zipstamp/internal/stamp"
	"zipstamp/internal/testbed"
	"zipstamp/internal/view"
)

func TestExitStatuses(t *testing.T) {
	for want, errs := range map[int][]error{
		0: {nil},
		1: {errors.New("odd"), &os.PathError{Op: "write", Path: "x", Err: syscall.ENOSPC}},
		2: {&usageError{errors.New("x")}, &image.ChoiceError{}},
		3: {errNotPublished, &image.DamageError{}, &image.UnusableError{}, &stamp.ChangedError{}},
		4: {
			&card.RefusedError{}, &card.GoneError{}, &stamp.TooSmallError{},
			&stamp.ReadBackError{Last: &card.GoneError{}},
		},
		5:   {&card.IOError{}, &stamp.ReadBackError{}, &stamp.ReadBackError{Last: &card.IOError{}}},
		130: {view.ErrInterrupted},
	} {
		for _, err := range errs {
			assert.Equal(t, want, statusOf(err), "%T", err)
			if err != nil {
				assert.Equal(t, want, statusOf(shown{fmt.Errorf("deep: %w", &view.Hint{Err: err})}), "%T, wrapped", err)
			}
		}
	}
}

func TestPathsBelowHomeAreShort(t *testing.T) {
	p := person{home: filepath.FromSlash("/home/wren"), sudo: true}
	for path, want := range map[string]string{
		"/home/wren/a/b": "~/a/b", "/home/wrenly/a": "/home/wrenly/a", "r.json": "r.json", "/home/wren": "/home/wren",
	} {
		if runtime.GOOS == "windows" { // whose shells know no tilde
			want = path
		}
		assert.Equal(t, filepath.FromSlash(want), p.short(filepath.FromSlash(path)))
	}
}

func TestSplitExisting(t *testing.T) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	base, below := splitExisting(filepath.Join(dir, "a", "b"))
	assert.Equal(t, []string{dir, filepath.Join("a", "b")}, []string{base, below})
	if !testbed.Linked(t, dir, filepath.Join(dir, "link")) {
		t.Skip("no symbolic links here")
	}
	base, below = splitExisting(filepath.Join(dir, "link"))
	assert.Equal(t, []string{dir, "."}, []string{base, below})
}

func TestFaultsAreReadFromTheCommandLine(t *testing.T) {
	f, err := parseFault("kind=flip, sector=8192,count=3,times=2,chance=0.25")
	require.NoError(t, err)
	assert.Equal(t, "{flip 8192 3 2 0.25}", fmt.Sprint(f))
	for text, why := range map[string]string{
		"": "is not one of kind=", "kind=flip": "sector= is missing", "sector=x": `"x" is not a number`,
		"sector=1,sector=2": "is given twice", "sector=1,colour=red": "is not one of kind=",
	} {
		_, err := parseFault(text)
		assert.ErrorContains(t, err, why, text)
	}
}
