package systems_test

import (
	"bytes"
	"crypto/sha256"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/state"
	"zipstamp/internal/systems"
)

// list is a list with one system.
func list(edition int, more string) string {
	return fmt.Sprintf(`zipstamp_systems = 1
name = "Saltmarsh Watchers"
edition = %d
%s
[[system]]
name = "Saltmarsh OS"
version = "1.2"
date = 2026-11-18
boards = ["brindle3"]
urls = ["os.img.xz", "https://mirror.example/os.img.xz"]
size = 5
digest = "sha256:%x"
later = "what a later version of the format has"
`, edition, more, sha256.Sum256(nil))
}

func TestLists(t *testing.T) {
	l, err := systems.Read([]byte(list(3, "expires = 2026-12-01T00:00:00Z")))
	require.NoError(t, err)
	s := l.Systems[0]
	assert.Equal(t, "2026-11-18", s.Date.Format("2006-01-02"))
	for name, is := range map[string]bool{
		"saltmarsh os": true, "Saltmarsh_OS@1.2": true, "saltmarsh-os@1.3": false, "saltmarsh": false,
	} {
		assert.Equal(t, is, s.Is(name), name)
	}
	assert.True(t, s.IsFor("Brindle"))
	assert.False(t, s.IsFor("heron"))
	assert.True(t, l.Old(time.Date(2026, 12, 2, 0, 0, 0, 0, time.UTC)))
	assert.False(t, l.Old(time.Date(2026, 11, 2, 0, 0, 0, 0, time.UTC)))

	json := fmt.Sprintf(`{"zipstamp_systems": 1, "name": "x", "edition": 1, "system": [{"name": "a", "version": "1",
		"date": "2026-11-18", "urls": ["https://a/b"], "size": 1, "digest": "sha256:%x"}]}`, sha256.Sum256(nil))
	_, err = systems.Read([]byte(json))
	require.NoError(t, err)

	right := list(1, "")
	for says, wrong := range map[string]string{
		"no zipstamp_systems": strings.Replace(right, "zipstamp_systems", "other", 1),
		"of version 9":        strings.Replace(right, "zipstamp_systems = 1", "zipstamp_systems = 9", 1),
		"no name":             strings.Replace(right, `"Saltmarsh Watchers"`, `"\u001b[2J"`, 1),
		"no edition":          list(0, ""), "line 3": strings.Replace(right, "edition = 1", "edition = x", 1),
		"name has one of": strings.Replace(right, "Saltmarsh OS", "a@b", 1),
		"no address of":   strings.Replace(right, "https://mirror", "file://mirror", 1),
		"SHA-256 or":      strings.Replace(right, "sha256:", "md5:", 1),
		"a size is":       strings.Replace(right, "size = 5", "size = -5", 1),
		"date is missing": strings.Replace(right, "date = 2026-11-18", "", 1), "UTF-8": right + "\xff",
	} {
		_, err := systems.Read([]byte(wrong))
		assert.ErrorContains(t, err, says)
	}
}

// TestKeptLists: a list that was changed on the disk, an older one and another one under the same number are refused.
func TestKeptLists(t *testing.T) {
	place := state.Place{Home: t.TempDir(), Folder: "lists"}
	kept := func(text string) *systems.Kept {
		l, err := systems.Read([]byte(text))
		require.NoError(t, err)
		return &systems.Kept{
			List: l, Text: []byte(text), About: systems.About{From: "https://saltmarsh.example/a/l.toml", Host: "x"},
		}
	}
	first, second := kept(list(1, "")), kept(list(2, ""))
	require.NoError(t, systems.Keep(place, first))
	require.NoError(t, second.Follows(first))
	require.ErrorIs(t, first.Follows(second), systems.ErrOlder)
	require.ErrorIs(t, kept(list(1, "# changed")).Follows(first), systems.ErrSame)
	require.NoError(t, systems.Keep(place, second))
	all, damaged, err := systems.All(place.Path())
	require.NoError(t, err)
	require.Empty(t, damaged)
	require.Len(t, all, 1)
	assert.Equal(t, int64(2), all[0].Edition)
	for text, url := range map[string]string{
		"os.img": "https://saltmarsh.example/a/os.img", "/os.img": "https://saltmarsh.example/os.img",
		"https://b/c": "https://b/c",
	} {
		a, err := all[0].Address(text)
		require.NoError(t, err)
		assert.Equal(t, url, a.String())
	}
	// One file is the list, under any name that is alike.
	name := systems.NameOfFile("saltmarsh--WATCHERS ")
	path := filepath.Join(place.Path(), name+".list")
	good, err := os.ReadFile(path)
	require.NoError(t, err)
	other := kept(strings.Replace(list(1, ""), "Saltmarsh Watchers", "Ebb Club", 1))
	require.NoError(t, systems.Keep(place, other))
	require.NoError(t, os.Mkdir(filepath.Join(place.Path(), "of_an_earlier_version-01234567"), 0o700))
	for what, text := range map[string][]byte{
		"empty": nil, "cut short": good[:len(good)-9], "first line only": good[:bytes.IndexByte(good, '\n')],
		"another byte": append(bytes.Clone(good[:len(good)-1]), '#'), "of a later version": bytes.Replace(good,
			[]byte(`"zipstamp_list":2`), []byte(`"zipstamp_list":9`), 1),
	} {
		require.NoError(t, os.WriteFile(path, text, 0o600))
		all, damaged, err = systems.All(place.Path())
		require.NoError(t, err, what)
		require.Len(t, all, 1, "%s: the other one counts", what)
		assert.Equal(t, "Ebb Club", all[0].Name)
		require.Len(t, damaged, 2, what)
		assert.Equal(t, []string{"of_an_earlier_version-01234567", name}, []string{damaged[0].Name, damaged[1].Name})
		require.ErrorIs(t, damaged[1].Err, systems.ErrDamaged, what)
	}
	require.NoError(t, systems.Keep(place, second), "it is added again")
	require.NoError(t, systems.Remove(place.Path(), "of_an_earlier_version-01234567"))
	all, damaged, err = systems.All(place.Path())
	require.NoError(t, err)
	assert.Len(t, all, 2)
	assert.Empty(t, damaged)
	require.NoError(t, systems.Remove(place.Path(), name))
	require.NoError(t, systems.Remove(place.Path(), systems.NameOfFile(other.Name)))
	all, _, err = systems.All(place.Path())
	require.NoError(t, err)
	assert.Empty(t, all)
}

// TestNamesBelongToTheListThatHadThemFirst signed, also when its file was lost meanwhile.
func TestNamesBelongToTheListThatHadThemFirst(t *testing.T) {
	at := time.Date(2026, 11, 18, 0, 0, 0, 0, time.UTC)
	kept := func(name, key string, days int, of ...string) *systems.Kept {
		k := &systems.Kept{
			List: systems.List{Name: name}, About: systems.About{Key: key, Added: at.AddDate(0, 0, days)},
		}
		for i, s := range of {
			k.Systems = append(k.Systems, systems.System{Name: s, Version: "1", Date: at.AddDate(0, 0, days*10+i)})
		}
		return k
	}
	words := func(lists ...*systems.Kept) (all []string) {
		for _, o := range systems.Offers(lists) {
			all = append(all, o.Word())
			assert.True(t, o.Called(o.List.Name+"/"+o.Name+"@1"))
			assert.Equal(t, o.Owner == nil, o.Called(o.Name))
		}
		return all
	}
	unsigned := kept("Pond", "", 0, "Saltmarsh OS", "Ebb")
	assert.Equal(t, []string{"Ebb", "Saltmarsh-OS", "Ebb", "Saltmarsh-OS"},
		words(unsigned, kept("Weed", "", 1, "Saltmarsh OS", "Ebb")), "everybody's where nobody has signed it")
	first := kept("Saltmarsh Watchers", "key", 1, "Saltmarsh OS")
	first.Yield(nil, []*systems.Kept{unsigned})
	assert.Equal(t, []string{"Saltmarsh-OS", "Ebb", "Pond/Saltmarsh-OS"}, words(unsigned, first))

	other := kept("Heron Club", "another", 0, "Heron OS") // kept before the first was
	brings := kept("Heron Club", "another", 0, "Heron OS", "saltmarsh-os", "Flood")
	brings.Yield(other, []*systems.Kept{first, other})
	want := []string{"Saltmarsh-OS", "Flood", "Heron-Club/saltmarsh-os", "Heron-OS"}
	assert.Equal(t, want, words(brings, first))
	again := kept("Saltmarsh Watchers", "key", 1, "Saltmarsh OS", "Flood")
	again.Yield(nil, []*systems.Kept{brings}) // after its file was damaged
	want = append([]string{"Saltmarsh-Watchers/Flood"}, want...)
	assert.Equal(t, want, words(brings, again))
	assert.Contains(t, words(brings), "saltmarsh-os", "the first was removed")
}

// TestMadeAnew: what was written by hand stays, also what this version doesn't know; sizes and digests are those of
// now.
func TestMadeAnew(t *testing.T) {
	now := time.Date(2026, 11, 28, 0, 0, 0, 0, time.UTC)
	found := systems.Found{
		Name: "os.img.xz", Size: 7, Digest: fmt.Sprintf("sha256:%x", sha256.Sum256([]byte("x"))),
		Boards: []string{"brindle2"}, Smallest: 8e9, Changed: now,
	}
	made, err := systems.Making{Now: now}.Make([]byte(list(4, "")), []systems.Found{found})
	require.NoError(t, err)
	s := made.Systems[0]
	assert.Equal(t, []any{int64(5), "Saltmarsh OS", "1.2", []string{"brindle3"}, int64(7), found.Digest, int64(8e9)},
		[]any{
			made.Edition, s.Name, s.Version, s.Boards, s.Size, s.Digest, s.Smallest,
		})
	assert.Equal(t, []string{"os.img.xz"}, made.Other)
	assert.Contains(t, string(made.Text), "later = 'what a later version of the format has'")
	again, err := systems.Making{Now: now, Base: "https://saltmarsh.example/"}.Make(made.Text, nil)
	require.NoError(t, err)
	assert.Equal(t, []string{"Saltmarsh OS"}, again.Stay)
	based, err := systems.Making{Now: now, Base: "https://saltmarsh.example/"}.Make(made.Text, []systems.Found{found})
	require.NoError(t, err)
	assert.Equal(t, []string{"https://saltmarsh.example/os.img.xz", "https://mirror.example/os.img.xz"},
		based.Systems[0].URLs)

	for file, want := range map[string][2]string{
		"saltmarsh-os-1.2-brindle3.img.xz": {"saltmarsh-os brindle3", "1.2"},
		"saltmarsh_v2026.11.zip":           {"saltmarsh", "2026.11"}, "tides-2026-11-18.img": {"tides", "2026-11-18"},
		"tides-20261118.img.gz": {"tides", "20261118"}, "tides.img": {"tides", "2026-11-28"},
		"1.2.img": {"1.2", "2026-11-28"},
	} {
		name, version := systems.Guess(file, now)
		assert.Equal(t, want, [2]string{name, version}, file)
	}
}

func FuzzList(f *testing.F) {
	f.Add([]byte(list(1, "")))
	f.Add([]byte(`{"zipstamp_systems": 1, "name": "x", "edition": 1}`))
	f.Fuzz(func(t *testing.T, text []byte) {
		l, err := systems.Read(text)
		if err != nil {
			return
		}
		for _, s := range l.Systems {
			assert.Positive(t, s.Size)
			assert.NotEmpty(t, s.Known().Hex())
			assert.True(t, s.Is(s.Name+"@"+s.Version))
		}
	})
}
