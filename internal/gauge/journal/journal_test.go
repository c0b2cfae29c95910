package journal

import (
	"bytes"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/state"
)

var head = Head{
	Job:     "gauge spots",
	Card:    card.Record{Path: "/dev/sdb", Name: "sdb", Kind: "block device", Size: 64e6, Serial: "SW-0001"},
	Nonce:   mark.Nonce{1, 2, 3},
	Started: time.Date(2026, 11, 26, 9, 30, 0, 0, time.UTC),
}

func places(n int, fill byte) (out []Place) {
	for i := range n {
		out = append(out, Place{int64(i) * 8192, bytes.Repeat([]byte{fill + byte(i)}, 512*(1+i%8))})
	}
	return out
}

func TestJournalIsReadAsItWasSaved(t *testing.T) {
	folder := state.Place{Home: t.TempDir(), Folder: "a/journals"}
	j, err := Create(folder, head)
	require.NoError(t, err)
	info, err := os.Stat(j.Path())
	require.NoError(t, err)
	if runtime.GOOS != "windows" { // where a file is as private as its folder
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), "it has contents of the card")
	}
	all, err := All(folder.Path())
	require.NoError(t, err)
	assert.Empty(t, all, "nothing was saved, so nothing is to be put back")
	batches := [][]Place{places(20, 1), places(1, 77)}
	for _, b := range batches {
		require.NoError(t, j.Save(b))
	}
	require.NoError(t, j.Close())

	all, err = All(folder.Path())
	require.NoError(t, err)
	require.Len(t, all, 1)
	assert.NoError(t, all[0].Err)
	assert.Equal(t, head, all[0].Head)
	assert.Equal(t, batches, all[0].Batches)

	// However much of it is on the disk after a power cut, what is there of a whole batch is used, and the rest was
	// never written on the card.
	text, err := os.ReadFile(all[0].Path)
	require.NoError(t, err)
	first := bytes.LastIndex(text, []byte(opener))
	for cut := len(text) - 1; cut > 0; cut -= 1 + cut/50 {
		// a file system may have given it room that was never filled
		for _, tail := range [][]byte{nil, make([]byte, 4096)} {
			p, err := Read(bytes.NewReader(append(bytes.Clone(text[:cut]), tail...)))
			switch lines := bytes.Count(text[:min(cut, first)], []byte("\n")); {
			case cut >= first && tail == nil:
				require.NoError(t, err, "cut at %d", cut)
				require.Equal(t, batches[:1], p.Batches)
			case err == nil:
				require.LessOrEqual(t, len(p.Batches), 1)
				require.True(t, lines >= 2 || len(p.Batches) == 0)
			}
		}
	}
	// What is changed anywhere in a batch is noticed.
	for at := first; at < len(text); at += 37 {
		wrong := bytes.Clone(text)
		wrong[at] ^= 4
		p, err := Read(bytes.NewReader(wrong))
		if err == nil {
			assert.Len(t, p.Batches, 1, "changed at %d", at)
		}
	}
	require.NoError(t, all[0].Remove())
	all, err = All(folder.Path())
	require.NoError(t, err)
	assert.Empty(t, all)
}

func TestJournalsThatCannotBeUsed(t *testing.T) {
	dir := t.TempDir()
	for name, text := range map[string]string{
		"1.journal": "zipstamp journal 9\n{}\n",
		"2.journal": "something else\n",
		"3.journal": "zipstamp journal 1\n{\"card\":\n",
		"4.journal": "zipstamp journal 1\n{\"card\":{\"size\":0}}\n",
		"6.text":    "zipstamp journal 9\n{}\n",
		"7.journal": "", // these were being made when the program was killed: nothing was written on the card
		"8.journal": "zipstamp jou",
		"9.journal": "zipstamp journal 1\n{\"card\":",
		"a.journal": "\x00\x00\x00",
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o600))
	}
	all, err := All(dir)
	require.NoError(t, err)
	require.Len(t, all, 4)
	require.ErrorIs(t, all[0].Err, ErrVersion)
	for _, p := range all {
		assert.Error(t, p.Err, p.Path)
	}
	none, err := All(filepath.Join(dir, "none"))
	require.NoError(t, err)
	assert.Empty(t, none)
}

// FuzzRead reads anything, and never more than there is room for on the card.
func FuzzRead(f *testing.F) {
	dir := f.TempDir()
	j, err := Create(state.Place{Home: dir, Folder: "."}, head)
	require.NoError(f, err)
	require.NoError(f, j.Save(places(3, 9)))
	path := j.Path()
	require.NoError(f, j.Close())
	text, err := os.ReadFile(path)
	require.NoError(f, err)
	f.Add(text)
	f.Add(text[:len(text)-5])
	f.Add([]byte("zipstamp journal 1\n{\"card\":{\"size\":4096}}\nbatch\n\xff\xff\x00\x00"))
	f.Fuzz(func(t *testing.T, text []byte) {
		p, err := Read(bytes.NewReader(text))
		if err != nil {
			return
		}
		for _, b := range p.Batches {
			for _, one := range b {
				if one.Offset < 0 || one.Offset > p.Card.Size-int64(len(one.Data)) {
					t.Fatalf("a place at %d of %d", one.Offset, p.Card.Size)
				}
			}
		}
	})
}

// TestListingBesideTests lists journals while others are begun: none of these is taken for one that came to nothing.
func TestListingBesideTests(t *testing.T) {
	place := state.Place{Home: t.TempDir(), Folder: "journals"}
	var all sync.WaitGroup
	ended := make(chan struct{})
	for range 3 {
		all.Go(func() {
			for {
				select {
				case <-ended:
					return
				default:
					pending, err := All(place.Path())
					assert.NoError(t, err)
					for _, p := range pending {
						assert.NoError(t, p.Err)
					}
				}
			}
		})
	}
	for i := range 200 {
		j, err := Create(place, Head{
			Job: "pace", Card: card.Record{Name: "x", Size: 1 << 20}, Started: time.Unix(int64(i), 0),
		})
		require.NoError(t, err)
		require.NoError(t, j.Save([]Place{{0, make([]byte, 512)}}))
		require.FileExists(t, j.Path())
		require.NoError(t, j.Remove())
	}
	close(ended)
	all.Wait()
}

// TestListingKeepsWhatWasSavedSince has a listing that has seen a journal without contents: it removes that only if it
// still has none, and no run holds it.
func TestListingKeepsWhatWasSavedSince(t *testing.T) {
	place := state.Place{Home: t.TempDir(), Folder: "journals"}
	for name, saves := range map[string]int{"none": 0, "some": 1} {
		t.Run(name, func(t *testing.T) {
			j, err := Create(place, Head{Card: card.Record{Name: name, Size: 1 << 20}})
			require.NoError(t, err)
			root, err := place.Open()
			require.NoError(t, err)
			defer root.Close()
			removeEmpty(root, filepath.Base(j.Path()))
			require.FileExists(t, j.Path(), "the run goes on")
			for range saves {
				require.NoError(t, j.Save([]Place{{0, make([]byte, 512)}}))
			}
			path := j.Path()
			require.NoError(t, j.Close())
			removeEmpty(root, filepath.Base(path))
			if saves == 0 {
				assert.NoFileExists(t, path)
			} else {
				assert.FileExists(t, path)
			}
		})
	}
}
