package gaugetest

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/gauge/space"
	"zipstamp/internal/meter"
	"zipstamp/internal/testbed"
)

// TestSpaceTouchesOnlyItsOwn fills some of a folder's file system, keeps the files, finds what was changed in them, and
// removes them and nothing else.
func TestSpaceTouchesOnlyItsOwn(t *testing.T) {
	folder := t.TempDir()
	own := filepath.Join(folder, space.FolderName)
	first := filepath.Join(own, "space-00001.bin")
	test := space.Test{Folder: folder, Nonce: mark.Nonce{9}, First: 24_000_000}
	run := func(change func(*space.Test)) (*gauge.Report, error) {
		s := test
		change(&s)
		return s.Run(context.Background())
	}
	require.NoError(t, os.WriteFile(filepath.Join(folder, "mine.txt"), []byte("low water"), 0o600))
	rep, err := run(func(*space.Test) {})
	require.NoError(t, err)
	assert.Equal(t, gauge.Holds, rep.Verdict)
	assert.Equal(t, int64(24_000_000/4096*4096), rep.Tested)
	assert.NoDirExists(t, own)

	_, err = run(func(s *space.Test) { s.Again = true })
	require.ErrorIs(t, err, space.ErrNothing)
	_, err = run(func(s *space.Test) { s.Keep = true })
	require.NoError(t, err)
	kept, err := space.LeftBehind(folder)
	require.NoError(t, err)
	assert.Equal(t, []any{true, int64(24_000_000 / 4096 * 4096), test.Nonce}, []any{kept.Kept, kept.Bytes, kept.Nonce})
	_, err = run(func(*space.Test) {})
	require.ErrorIs(t, err, space.ErrKept)

	change := func(off int64, text []byte) {
		t.Helper()
		f, err := os.OpenFile(first, os.O_WRONLY, 0)
		require.NoError(t, err)
		defer f.Close()
		_, err = f.WriteAt(text, off)
		require.NoError(t, err)
	}
	again := func() *gauge.Report {
		t.Helper()
		rep, err := run(func(s *space.Test) { s.Again, s.Nonce = true, mark.Nonce{} }) // on another computer, say
		require.NoError(t, err)
		return rep
	}
	assert.Equal(t, gauge.Holds, again().Verdict)
	change(5_000_000/512*512+100, []byte{0xFF, 0xFF})
	rep = again()
	assert.Equal(t, gauge.Faulty, rep.Verdict)
	assert.Equal(t, int64(1), rep.Bad.Worn)
	change(8<<20, make([]byte, 6<<20))
	rep = again()
	assert.Equal(t, gauge.Counterfeit, rep.Verdict)
	require.NotNil(t, rep.Loss)
	assert.Equal(t, rep.Tested-6<<20, rep.Loss.Real, "so much came back")
	assert.Equal(t, gauge.LostZeros, rep.Loss.ReadsAs)

	require.NoError(t, os.WriteFile(filepath.Join(own, "space-1.bin"), nil, 0o600))
	removed, err := space.RemoveFiles(folder)
	require.NoError(t, err)
	assert.Equal(t, 1, removed)
	assert.FileExists(t, filepath.Join(own, "space-1.bin"), "that is not one of its names")
	require.NoError(t, os.RemoveAll(own))
	if testbed.Linked(t, folder, own) {
		_, err = run(func(*space.Test) {})
		require.Error(t, err, "a link in place of its folder")
		require.NoError(t, os.Remove(own))
	}
	text, err := os.ReadFile(filepath.Join(folder, "mine.txt"))
	require.NoError(t, err)
	assert.Equal(t, "low water", string(text))
}

// TestStoppedSpaceLeavesNothing stops it while it writes and while it reads; and one that was killed is cleaned up by
// the next.
func TestStoppedSpaceLeavesNothing(t *testing.T) {
	folder := t.TempDir()
	own := filepath.Join(folder, space.FolderName)
	for _, phase := range []meter.Phase{meter.Write, meter.ReadBack} {
		ctx, stop := context.WithCancelCause(context.Background())
		var m meter.Meter
		done := make(chan struct{})
		go func() {
			defer close(done)
			for ctx.Err() == nil {
				if now := m.Read(); now.Phase == phase && now.Done > 0 {
					stop(errStop)
				}
			}
		}()
		_, err := space.Test{Folder: folder, Meter: &m, First: 200_000_000}.Run(ctx)
		stop(nil)
		<-done
		if err != nil { // it may have been done just then
			require.ErrorIs(t, err, errStop)
		}
		assert.NoDirExists(t, own)
	}
	require.NoError(t, os.Mkdir(own, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(own, "about.json"),
		[]byte(`{"zipstamp_space": 1, "nonce": "00000000000000000000000000000000"}`), 0o600))
	require.NoError(t, os.WriteFile(filepath.Join(own, "space-00001.bin"), make([]byte, 9000), 0o600))
	_, err := space.Test{Folder: folder, First: 5_000_000, Again: true}.Run(context.Background())
	require.ErrorIs(t, err, space.ErrNothing, "it was never whole")
	_, err = space.Test{Folder: folder, First: 5_000_000}.Run(context.Background())
	require.NoError(t, err)
	assert.NoDirExists(t, own)
	for text, says := range map[string]string{"{": "damaged", `{"zipstamp_space": 7}`: "another version"} {
		require.NoError(t, os.MkdirAll(own, 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(own, "about.json"), []byte(text), 0o600))
		_, err = space.Test{Folder: folder, First: 5_000_000}.Run(context.Background())
		assert.ErrorContains(t, err, says)
	}
}
