package loose

import (
	"archive/tar"
	"archive/zip"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/blank"
	"zipstamp/internal/card"
	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/stamp"
	"zipstamp/internal/testbed"
)

// system are the files of a made-up system.
var system = map[string]string{
	"kernel8.img":                      strings.Repeat("the tide comes in, ", 90_000),
	"brindle3.dtb":                     "\xd0\x0d\xfe\xed" + strings.Repeat("b", 30_000),
	"cmdline.txt":                      "console=serial0,115200\n",
	"overlays/tide-gauge-v2.dtbo":      strings.Repeat("overlay", 700),
	"overlays/wind.dtbo":               "w",
	"docs/Gezeiten und Wetter März.md": "# Saltmarsh OS\n",
	"empty.txt":                        "",
}

var day = time.Date(2026, 5, 1, 9, 30, 2, 0, time.UTC)

// folder makes a folder with the system's files in it.
func folder(t *testing.T, top string) string {
	t.Helper()
	dir := filepath.Join(t.TempDir(), "saltmarsh")
	for name, text := range system {
		at := filepath.Join(dir, top, filepath.FromSlash(name))
		require.NoError(t, os.MkdirAll(filepath.Dir(at), 0o755))
		require.NoError(t, os.WriteFile(at, []byte(text), 0o600))
		require.NoError(t, os.Chtimes(at, day, day))
	}
	require.NoError(t, os.MkdirAll(filepath.Join(dir, top, "logs"), 0o755))
	return dir
}

// openArchive opens an archive; it is closed with the test.
func openArchive(t *testing.T, path string) *image.File {
	t.Helper()
	f, err := image.Open(path)
	require.NoError(t, err)
	t.Cleanup(func() { f.Close() })
	return f
}

// cardFor lays out a card of a size with a set's files.
func cardFor(t *testing.T, s *Set, size int64) *Card {
	t.Helper()
	plan, err := blank.Wanted{Label: "SALTBOOT", Disk: 1, Serial: 2, Time: day, Files: s.Files}.For(size, 512)
	require.NoError(t, err)
	return &Card{Set: s, Plan: plan}
}

// write stamps a card, and returns what became of it.
func write(t *testing.T, c *Card, d card.Device, known stamp.Known) stamp.Outcome {
	t.Helper()
	job := stamp.Job{
		Source: c, Inspect: c.Inspect, ReadBack: true, Repairs: stamp.DefaultRepairs, Known: known,
		Cards: []stamp.Target{{Device: d}},
	}
	return job.Run(context.Background())[0]
}

// TestCardHasTheFiles makes cards of archives that the usual programs made, and of a folder, and has the reference
// tools read them.
func TestCardHasTheFiles(t *testing.T) {
	testbed.NeedTool(t, "zip", "7z", "tar", "xz", "zstd", "fsck.fat", "mcopy", "mdir")
	for _, c := range []struct{ name, make, top string }{
		{"a.zip", `zip -qr "$1" saltmarsh-1.2`, "saltmarsh-1.2"},
		{"plain.zip", `cd saltmarsh-1.2; zip -0 -qr "$1" .`, "saltmarsh-1.2"},
		{"a.7z", `7z a -bd "$1" saltmarsh-1.2 >/dev/null`, "saltmarsh-1.2"},
		{"a.tar", `tar cf "$1" saltmarsh-1.2`, "saltmarsh-1.2"},
		{"a.tar.xz", `tar cJf "$1" -C saltmarsh-1.2 .`, "saltmarsh-1.2"},
		{"a.tar.zst", `tar --zstd -cf "$1" saltmarsh-1.2`, "saltmarsh-1.2"},
		{"a.tgz", `tar czf "$1" -H pax saltmarsh-1.2`, "saltmarsh-1.2"},
		{"", "", "saltmarsh-1.2"},
	} {
		t.Run(c.name, func(t *testing.T) {
			dir := folder(t, c.top)
			var s *Set
			var err error
			if c.name == "" {
				s, err = OfFolder(dir, "")
			} else {
				path := filepath.Join(t.TempDir(), c.name)
				cmd := exec.Command("sh", "-ec", c.make, "sh", path)
				cmd.Dir = dir
				out, failed := cmd.CombinedOutput()
				require.NoError(t, failed, "%s", out)
				s, err = OfArchive(t.Context(), openArchive(t, path), "", nil)
			}
			require.NoError(t, err)
			assert.Equal(t, len(system), s.Count)
			for _, size := range []practice.Size{64e6, 16e6} {
				d, data := cardtest.Insert(t, t.TempDir(), practice.Spec{Claimed: size}, nil)
				defer d.Close()
				made := cardFor(t, s, d.Size())
				o := write(t, made, d, stamp.Known{})
				require.NoError(t, o.Err)
				assert.Equal(t, stamp.Verified, o.State)
				assert.Equal(t, c.name == "", len(o.Download) == 0, "a folder was not downloaded")
				assert.Empty(t, o.Image)
				reads(t, data, made.Plan)
			}
		})
	}
}

// reads has the reference tools read a card.
func reads(t *testing.T, data string, plan *blank.Plan) {
	t.Helper()
	all, err := os.ReadFile(data)
	require.NoError(t, err)
	volume := make([]byte, plan.Size)
	copy(volume, all[plan.Start:])
	part := filepath.Join(t.TempDir(), "part")
	require.NoError(t, os.WriteFile(part, volume, 0o600))
	out, err := exec.Command("fsck.fat", "-n", part).CombinedOutput()
	require.NoError(t, err, "%s", out)
	for name, text := range system {
		out, err := exec.Command("mcopy", "-n", "-i", part, "::"+name, "-").Output()
		require.NoError(t, err, name)
		assert.True(t, string(out) == text, name)
	}
	listing, err := exec.Command("mdir", "-i", part, "::").CombinedOutput()
	require.NoError(t, err, "%s", listing)
	assert.Contains(t, string(listing), "LOGS         <DIR>")
	assert.Regexp(t, `KERNEL8 +IMG +1710000 2026-05-01 `, string(listing), "its time is kept")
}

// TestSetsThatCannotBe is what is refused, or left out, before anything is written.
func TestSetsThatCannotBe(t *testing.T) {
	dir := t.TempDir()
	pack := func(name string, names ...string) *image.File {
		path := filepath.Join(dir, name)
		f, err := os.Create(path)
		require.NoError(t, err)
		w := tar.NewWriter(f)
		for _, n := range names {
			h := &tar.Header{Name: n, Typeflag: tar.TypeReg, Mode: 0o600, Size: 1, ModTime: time.Unix(0, 0)}
			if target, ok := strings.CutPrefix(n, "link "); ok {
				h = &tar.Header{Name: target, Typeflag: tar.TypeSymlink, Linkname: "x"}
			} else if target, ok := strings.CutPrefix(n, "pipe "); ok {
				h = &tar.Header{Name: target, Typeflag: tar.TypeFifo}
			}
			require.NoError(t, w.WriteHeader(h))
			if h.Size > 0 {
				_, err := w.Write([]byte("x"))
				require.NoError(t, err)
			}
		}
		require.NoError(t, w.Close())
		require.NoError(t, f.Close())
		return openArchive(t, path)
	}
	for _, c := range []struct {
		names  []string
		within string
		why    Fault
		name   string
	}{
		{[]string{"a", "link b"}, "", Link, "b"},
		{[]string{"a", "pipe b"}, "", Special, "b"},
		{[]string{"a", "x/../../b"}, "", Outside, "x/../../b"},
		{[]string{"a", "boot/b"}, "root", Nothing, "root"},
		{[]string{"._a", "__MACOSX/b"}, "", Nothing, ""},
	} {
		_, err := OfArchive(t.Context(), pack("bad.tar", c.names...), c.within, nil)
		var failed *Error
		require.ErrorAs(t, err, &failed, "%v", c.names)
		assert.Equal(t, []any{c.why, c.name}, []any{failed.Why, failed.Name})
	}

	s, err := OfArchive(t.Context(),
		pack("good.tar", "./a", "/b/c", ".DS_Store", "d//e", "System Volume Information/x"), "", nil)
	require.NoError(t, err)
	var paths []string
	for _, f := range s.Files {
		paths = append(paths, f.Path)
	}
	assert.Equal(t, []any{[]string{"a", "b/c", "d/e"}, 2, 3}, []any{paths, s.Litter, s.Undated})

	for _, c := range []struct {
		names  []string
		within string
		is     string
		chosen bool
	}{
		{[]string{"salt-1.2/kernel8.img", "salt-1.2/overlays/a.dtbo"}, "", "salt-1.2", true},
		{[]string{"salt-1.2/kernel8.img", "salt-1.2/overlays/a.dtbo"}, ".", "", false},
		{[]string{"salt-1.2/kernel8.img", "readme.txt"}, "", "", false},
		{[]string{"salt-1.2/EFI/BOOT/BOOTAA64.EFI"}, "", "salt-1.2", true},
		{[]string{"EFI/BOOT/BOOTAA64.EFI"}, "", "", false},
		{[]string{"boot/kernel8.img"}, "", "", false},
		{[]string{"boot/kernel8.img", "root/x"}, "/boot/", "boot", false},
		{[]string{"tables/2026.csv"}, "", "", false},
	} {
		s, err := OfArchive(t.Context(), pack("where.tar", c.names...), c.within, nil)
		require.NoError(t, err)
		assert.Equal(t, []any{c.is, c.chosen}, []any{s.Within, s.Chosen}, "%v", c.names)
	}

	if locked := folder(t, ""); os.Geteuid() > 0 && os.Chmod(filepath.Join(locked, "cmdline.txt"), 0) == nil {
		_, err = OfFolder(locked, "")
		require.ErrorIs(t, err, os.ErrPermission)
	}
	text := filepath.Join(dir, "a.txt")
	require.NoError(t, os.WriteFile(text, []byte("tide"), 0o600))
	_, err = OfArchive(t.Context(), openArchive(t, text), "", nil)
	var unusable *image.UnusableError
	require.ErrorAs(t, err, &unusable)
	assert.Equal(t, image.NoArchive, unusable.Why)
}

// TestFilesThatChange has files change between the listing and the writing: the card gets no partition table.
func TestFilesThatChange(t *testing.T) {
	for what, change := range map[string]func(t *testing.T, path string){
		"longer": func(t *testing.T, path string) {
			require.NoError(t, os.WriteFile(path, []byte("much longer than it was"), 0o600))
		},
		"another time": func(t *testing.T, path string) {
			require.NoError(t, os.Chtimes(path, day, day.Add(time.Hour)))
		},
		"no file": func(t *testing.T, path string) {
			require.NoError(t, os.Remove(path))
			require.NoError(t, os.Mkdir(path, 0o700))
		},
	} {
		dir := folder(t, "")
		s, err := OfFolder(dir, "")
		require.NoError(t, err)
		change(t, filepath.Join(dir, "overlays", "wind.dtbo"))
		d, data := cardtest.Insert(t, t.TempDir(), practice.Spec{Claimed: 64e6}, nil)
		o := write(t, cardFor(t, s, d.Size()), d, stamp.Known{})
		require.NoError(t, d.Close())
		var changed *stamp.ChangedError
		require.ErrorAs(t, o.Err, &changed, what)
		assert.Contains(t, []stamp.State{stamp.NoTable, stamp.Untouched}, o.State, what)
		start, err := os.ReadFile(data)
		require.NoError(t, err)
		assert.Equal(t, make([]byte, 512), start[:512], what)
	}

	// An archive that is no longer the one that was checked.
	path := filepath.Join(t.TempDir(), "a.zip")
	f, err := os.Create(path)
	require.NoError(t, err)
	z := zip.NewWriter(f)
	w, err := z.Create("kernel8.img")
	require.NoError(t, err)
	_, err = io.WriteString(w, system["kernel8.img"])
	require.NoError(t, err)
	require.NoError(t, z.Close())
	require.NoError(t, f.Close())
	s, err := OfArchive(t.Context(), openArchive(t, path), "", nil)
	require.NoError(t, err)
	d, _ := cardtest.Insert(t, t.TempDir(), practice.Spec{Claimed: 64e6}, nil)
	defer d.Close()
	o := write(t, cardFor(t, s, d.Size()), d, stamp.Known{Seal: [32]byte{1}})
	require.ErrorAs(t, o.Err, new(*stamp.ChangedError), "its seal differs")
}

// TestInspectFindsWrongFiles changes cards behind the back of the program: what the file system then says is found.
func TestInspectFindsWrongFiles(t *testing.T) {
	s, err := OfFolder(folder(t, ""), "")
	require.NoError(t, err)
	d, _ := cardtest.Insert(t, t.TempDir(), practice.Spec{Claimed: 64e6}, nil)
	defer d.Close()
	made := cardFor(t, s, d.Size())
	require.NoError(t, write(t, made, d, stamp.Known{}).Err)
	buf := make([]byte, made.Plan.HeadSize()+8<<20)
	_, err = d.ReadAt(buf, 0)
	require.NoError(t, err)
	inspect := func(from, to string) error {
		changed := bytes.Replace(buf, []byte(from), []byte(to), 1)
		require.NotEqual(t, buf, changed, from)
		_, err := d.WriteAt(changed, 0)
		require.NoError(t, err)
		_, err = made.Inspect(context.Background(), d, nil)
		return err
	}
	for _, c := range []struct {
		from, to, path string
		why            FileFault
		count          int
	}{
		{"console=serial0", "console=serial1", "cmdline.txt", Differs, 1},
		{"WIND", "XIND", "", Missing, 0}, // its long name no longer belongs to it
		{"FAT32   ", "FAT32  \x01", "", "", 0},
	} {
		err := inspect(c.from, c.to)
		var wrong *WrongError
		switch {
		case c.why == "":
			require.NoError(t, err, "what is no matter of the files")
		case c.path == "":
			require.ErrorAs(t, err, &wrong)
			assert.Contains(t, []FileFault{Missing, Extra}, wrong.Why)
			assert.Equal(t, 2, wrong.Count, "one is missing, and another is there")
		default:
			require.ErrorAs(t, err, &wrong)
			assert.Equal(t, WrongError{Path: c.path, Why: c.why, Count: c.count}, *wrong)
		}
	}
	// A table that leads elsewhere: the second cluster of the kernel is another.
	v, err := layout.OpenFAT(io.NewSectionReader(bytes.NewReader(buf), made.Plan.Start, made.Plan.Size))
	require.NoError(t, err)
	files, err := v.Files()
	require.NoError(t, err)
	require.Len(t, files, len(system))
	ctx, stop := context.WithCancelCause(context.Background())
	stop(errors.New("enough"))
	_, err = made.Inspect(ctx, d, nil)
	assert.ErrorContains(t, err, "enough")
	for at := made.Plan.Start; at < made.Plan.Start+v.Data(); at += 512 {
		if bytes.HasPrefix(buf[at:], []byte{0xF8, 0xFF, 0xFF, 0x0F}) {
			clear(buf[at+12 : at+4096])
			break
		}
	}
	_, err = d.WriteAt(buf, 0)
	require.NoError(t, err)
	_, err = made.Inspect(context.Background(), d, nil)
	var wrong *WrongError
	require.ErrorAs(t, err, &wrong)
	assert.Equal(t, Unlisted, wrong.Why)
}

// TestFoldersWithoutEntries has an archive that names no folder of its own, and more of them than files.
func TestFoldersWithoutEntries(t *testing.T) {
	path := filepath.Join(t.TempDir(), "deep.zip")
	f, err := os.Create(path)
	require.NoError(t, err)
	z := zip.NewWriter(f)
	for i := range 505 {
		w, err := z.Create(fmt.Sprintf("a%d/b/c/tide.txt", i))
		require.NoError(t, err)
		_, err = w.Write([]byte("x"))
		require.NoError(t, err)
	}
	require.NoError(t, errors.Join(z.Close(), f.Close()))
	s, err := OfArchive(t.Context(), openArchive(t, path), "", nil)
	require.NoError(t, err)
	d, _ := cardtest.Insert(t, t.TempDir(), practice.Spec{Claimed: 64e6}, nil)
	o := write(t, cardFor(t, s, d.Size()), d, stamp.Known{})
	require.NoError(t, o.Err)
}

// TestEveryPowerCut builds the states that a power cut could leave of a card of loose files: one that has a partition
// table has all of the files.
func TestEveryPowerCut(t *testing.T) {
	s, err := OfFolder(folder(t, ""), "")
	require.NoError(t, err)
	const size = 24_000_000
	random := rand.New(rand.NewPCG(testbed.Seed(t), 7))
	holds := bytes.Repeat([]byte{0x5A}, size/512*512)
	d, _ := cardtest.Insert(t, t.TempDir(), practice.Spec{Claimed: size}, holds)
	made := cardFor(t, s, d.Size())
	rec := &cardtest.Recorder{Device: d, Before: holds}
	require.NoError(t, write(t, made, rec, stamp.Known{}).Err)
	seen := 0
	count := rec.States(random, testbed.Trials(12, 200), func(st *cardtest.State) {
		table, err := layout.ReadTable(st, d.Size(), 512)
		require.NoError(t, err)
		if table.Scheme == layout.NoTable {
			return
		}
		hasFiles(t, io.NewSectionReader(st, made.Plan.Start, made.Plan.Size), system)
		require.False(t, t.Failed(), "after %d of %d", st.At, rec.Len())
		seen++
	})
	require.Positive(t, seen)
	t.Logf("%d states", count)
}

// TestFilesOnAnyCard makes cards of files on cards that lie, with caches and discards of all kinds, and cuts the power
// after each that is called good: all of its files are there.
func TestFilesOnAnyCard(t *testing.T) {
	dir := folder(t, "")
	random := rand.New(rand.NewPCG(1, 1))
	large := make([]byte, 13<<20) // some of it zeros, which a card may have without storing them
	for i := range large[:6<<20] {
		large[i] = byte(random.Uint32())
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tides.bin"), large, 0o600))
	s, err := OfFolder(dir, "")
	require.NoError(t, err)
	files := maps.Clone(system)
	files["tides.bin"] = string(large)
	seed, trials := testbed.Seed(t), testbed.Trials(5, 40)
	good, bad := 0, 0
	for i := range trials {
		random = rand.New(rand.NewPCG(seed, uint64(i)))
		spec := practice.Spec{
			Claimed:  practice.Size(24<<20 + 512*random.Int64N(80<<20/512)),
			Discards: append(practice.AllDiscards, practice.NoneToDo)[random.IntN(len(practice.AllDiscards)+1)],
			Seed:     random.Uint64() >> 1,
		}
		honest := random.IntN(3) == 0
		if !honest {
			spec.Real = practice.Size(512 * (1 + random.Int64N(int64(spec.Claimed)/512)))
			spec.Beyond = []practice.Beyond{practice.Wrap, practice.Drop, practice.Ends}[random.IntN(3)]
			spec.Reads = []practice.Reads{practice.Zeros, practice.FF, practice.Last}[random.IntN(3)]
		}
		if random.IntN(4) > 0 {
			spec.Cache = practice.Size(512 * (1 + random.Int64N(stamp.Displaced/512)))
			spec.WriteBack = random.IntN(2) == 0
			spec.Volatile = spec.WriteBack && random.IntN(2) == 0
		}
		d, data := cardtest.Insert(t, t.TempDir(), spec, nil)
		c := cardFor(t, s, d.Size())
		job := stamp.Job{
			Source: c, Inspect: c.Inspect, ReadBack: true, Repairs: 1, WriteAll: random.IntN(2) == 0,
			DiscardRest: random.IntN(2) == 0, Cards: []stamp.Target{{Device: d, Probe: random.IntN(4) > 0}},
		}
		var out stamp.Outcome
		for range 1 + random.IntN(2) { // on a card that may have them already
			out = job.Run(context.Background())[0]
		}
		require.NoError(t, d.Close()) // the power is cut
		if out.Err == nil {
			good++
		} else {
			bad++
			require.False(t, honest, "trial %d, seed %d: an honest card, %+v: %v", i, seed, spec, out.Err)
		}
		if (out.Err == nil || errors.As(out.Err, new(*stamp.CounterfeitError))) && out.Displaced >= int64(spec.Cache) {
			spec.Version, spec.Backing = practice.Version, data
			spec.Cache, spec.WriteBack, spec.Volatile = 0, false, false
			left, err := practice.OpenToRead(spec)
			require.NoError(t, err)
			volume := make([]byte, c.Plan.Size)
			_, err = left.ReadAt(volume, c.Plan.Start)
			require.NoError(t, errors.Join(err, left.Close()))
			hasFiles(t, bytes.NewReader(volume), files)
			require.False(t, t.Failed(), "trial %d, seed %d: called good: %+v", i, seed, spec)
		}
		require.NoError(t, os.Remove(data))
	}
	t.Logf("%d called good, %d called bad", good, bad)
}

// hasFiles checks that a volume is whole and has just these files.
func hasFiles(t *testing.T, volume io.ReaderAt, files map[string]string) {
	t.Helper()
	v, err := layout.OpenFAT(volume)
	require.NoError(t, err)
	check, err := v.Check()
	require.NoError(t, err)
	assert.Empty(t, check.Faults)
	assert.Len(t, check.Files, len(files))
	for _, f := range check.Files {
		r, err := v.Open(f.FATFile)
		require.NoError(t, err)
		text, err := io.ReadAll(r)
		require.NoError(t, err)
		assert.True(t, files[f.Path] == string(text), f.Path)
	}
}
