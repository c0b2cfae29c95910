package e2e

import (
	"archive/tar"
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/lock"
	"zipstamp/internal/card/practice"
	"zipstamp/internal/gauge/mark"
	"zipstamp/internal/layout"
	"zipstamp/internal/testbed"
)

// Sizes of the matrix: what the cards claim, what those that lie hold, and the image, bytes.
const (
	faultClaimed = 128 << 20
	faultReal    = 20 << 20
	faultLarge   = 64 << 20
	faultImage   = 24 << 20
)

// fault is a row of the matrix: a card with a fault, or trouble around it.
type fault struct {
	name   string
	change func(*practice.Spec)
	stamp  string                      // another argument of stamp; may be empty
	around func(t *testing.T, d *desk) // what is wrong besides the card
}

func sectorFault(kind practice.FaultKind, at int64, times int) func(*practice.Spec) {
	return func(s *practice.Spec) {
		s.Faults = append(s.Faults, practice.Fault{Kind: kind, Sector: at / 512, Times: times})
	}
}

func liar(
	beyond practice.Beyond, reads practice.Reads, real practice.Size, cache practice.Size, back bool,
) func(*practice.Spec) {
	return func(s *practice.Spec) {
		s.Beyond, s.Reads, s.Real, s.Cache, s.WriteBack = beyond, reads, real, cache, back
	}
}

// faults are the rows. A place within the image is at 9 MiB, one behind it at 100 MiB.
func faults() []fault {
	const within, behind = 9 << 20, 100 << 20
	all := []fault{
		{name: "honest", change: func(*practice.Spec) {}},
		{name: "honest, sectors of 4096 bytes", change: func(s *practice.Spec) { s.Sector = 4096 }},
		{
			name:   "honest, 32 MiB of memory written back",
			change: func(s *practice.Spec) { s.Cache, s.WriteBack = 32<<20, true },
		},
		{
			name:   "honest, 1 MiB of memory that no flush stores",
			change: func(s *practice.Spec) { s.Cache, s.WriteBack, s.Volatile = 1<<20, true, true },
		},
		{
			name:   "honest, 32 MiB of memory that no flush stores",
			change: func(s *practice.Spec) { s.Cache, s.WriteBack, s.Volatile = 32<<20, true, true },
		},
		{
			name: "honest, discards: zeros later", stamp: "--discard-rest",
			change: func(s *practice.Spec) { s.Discards = practice.LateZeros },
		},
		{
			name: "honest, discards: old data later", stamp: "--discard-rest",
			change: func(s *practice.Spec) { s.Discards = practice.LateOld },
		},
		{
			name: "honest, discards: zeros also around", stamp: "--discard-rest",
			change: func(s *practice.Spec) { s.Discards = practice.Around },
		},
		{name: "addresses repeat", change: liar(practice.Wrap, "", faultReal, 0, false)},
		{name: "addresses repeat, the image fits", change: liar(practice.Wrap, "", faultLarge, 0, false)},
		{name: "addresses repeat, 3 sectors too small", change: liar(practice.Wrap, "", faultClaimed-1536, 0, false)},
		{
			name:   "addresses repeat, 8 MiB of memory written through",
			change: liar(practice.Wrap, "", faultReal, 8<<20, false),
		},
		{
			name:   "addresses repeat, 16 MiB of memory written back",
			change: liar(practice.Wrap, "", faultReal, 16<<20, true),
		},
		{name: "loses, reads zeros", change: liar(practice.Drop, practice.Zeros, faultReal, 0, false)},
		{name: "loses, reads 0xFF", change: liar(practice.Drop, practice.FF, faultReal, 0, false)},
		{name: "loses, reads noise", change: liar(practice.Drop, practice.Noise, faultReal, 0, false)},
		{name: "loses, reads noise that differs", change: liar(practice.Drop, practice.Changing, faultReal, 0, false)},
		{name: "loses, reads what was written last", change: liar(practice.Drop, practice.Last, faultReal, 0, false)},
		{name: "loses, the image fits", change: liar(practice.Drop, practice.Zeros, faultLarge, 0, false)},
		{
			name:   "loses, 8 MiB of memory written through",
			change: liar(practice.Drop, practice.Zeros, faultReal, 8<<20, false),
		},
		{
			name:   "loses, 32 MiB of memory written through",
			change: liar(practice.Drop, practice.Zeros, faultReal, 32<<20, false),
		},
		{
			name:   "loses, 32 MiB of memory written back",
			change: liar(practice.Drop, practice.Zeros, faultReal, 32<<20, true),
		},
		{name: "keeps anything until it is full", change: liar(practice.Lazy, practice.Zeros, faultReal, 0, false)},
		{name: "keeps anything, loses the oldest", change: liar(practice.Oldest, practice.Zeros, faultReal, 0, false)},
		{name: "keeps its ends", change: liar(practice.Ends, practice.Zeros, faultReal, 0, false)},
		{name: "a bit stored wrong, always", change: sectorFault(practice.Flip, within, 0)},
		{name: "a bit stored wrong, once", change: sectorFault(practice.Flip, within, 1)},
		{name: "a bit stored wrong, behind the image", change: sectorFault(practice.Flip, behind, 0)},
		{name: "a bit read wrong, always", change: sectorFault(practice.Misread, within, 0)},
		{name: "a bit read wrong, once", change: sectorFault(practice.Misread, within, 1)},
		{name: "a sector can't be read", change: sectorFault(practice.FailRead, within, 0)},
		{name: "a sector can't be read, twice", change: sectorFault(practice.FailRead, within, 2)},
		{name: "a sector can't be read, behind the image", change: sectorFault(practice.FailRead, behind, 0)},
		{name: "the first sector can't be read", change: sectorFault(practice.FailRead, 0, 0)},
		{name: "a sector can't be written", change: sectorFault(practice.FailWrite, within, 0)},
		{name: "a sector can't be written, twice", change: sectorFault(practice.FailWrite, within, 2)},
		{name: "the first sector can't be written", change: sectorFault(practice.FailWrite, 0, 0)},
		{name: "slow", change: func(s *practice.Spec) { s.WriteRate, s.ReadRate = 150e6, 300e6 }},
		{name: "stalls", change: func(s *practice.Spec) { s.StallEvery, s.Stall = 32<<20, practice.Duration(2e8) }},
		{name: "fades", change: func(s *practice.Spec) { s.FadeAfter, s.FadeRate = 16<<20, 150e6 }},
		{name: "write-protected", change: func(s *practice.Spec) { s.ReadOnly = true }},
		{name: "becomes write-protected after 14 MiB", change: func(s *practice.Spec) { s.ReadOnlyAfter = 14 << 20 }},
		{name: "pulled out after 256 KiB", change: func(s *practice.Spec) { s.GoneAfter = 256 << 10 }},
		{name: "pulled out after 30 MiB", change: func(s *practice.Spec) { s.GoneAfter = 30 << 20 }},
		{name: "pulled out after 100 MiB", change: func(s *practice.Spec) { s.GoneAfter = 100 << 20 }},
		{name: "its reader is reset after 36 MiB", change: func(s *practice.Spec) { s.ResetsAfter = 36 << 20 }},
		{name: "power cut after 2 MiB written", change: func(s *practice.Spec) { s.PowerCutAfter = 2 << 20 }},
		{name: "power cut after 30 MiB written", change: func(s *practice.Spec) { s.PowerCutAfter = 30 << 20 }},
		{name: "torn in the first 128 KiB written", change: func(s *practice.Spec) { s.TearAfter = 128 << 10 }},
		{name: "torn after 5 MiB written", change: func(s *practice.Spec) { s.TearAfter = 5<<20 + 512 }},
		{name: "its reader fails from 64 MiB on", change: func(s *practice.Spec) { s.ReaderLimit = 64 << 20 }},
		{name: "the folder for receipts is a file", around: func(t *testing.T, d *desk) {
			d.write("in-the-way", nil)
			d.env = append(d.env, "ZIPSTAMP_RECEIPTS="+d.path("in-the-way/receipts"))
		}},
		{name: "the folder for what is saved can't be made", around: func(t *testing.T, d *desk) {
			require.NoError(t, os.RemoveAll(d.path("state/zipstamp/journals")))
			require.NoError(t, os.RemoveAll(d.path("state/zipstamp/tests")))
			d.write("state/zipstamp/journals", []byte("in the way"))
			d.write("state/zipstamp/tests", []byte("in the way"))
		}},
		{name: "another run has the card", around: func(t *testing.T, d *desk) {
			f, err := os.OpenFile(d.path("a.card.data"), os.O_RDWR, 0)
			require.NoError(t, err)
			// a program that another test starts may have it for as long as that takes
			require.Eventually(t, func() bool { return lock.Take(f) == nil }, time.Minute, 10*time.Millisecond)
			t.Cleanup(func() { f.Close() })
		}},
		{
			name:   "the card's file is gone",
			around: func(t *testing.T, d *desk) { require.NoError(t, os.Remove(d.path("a.card.data"))) },
		},
		{
			name:   "the card's file was cut short",
			around: func(t *testing.T, d *desk) { require.NoError(t, os.Truncate(d.path("a.card.data"), 5<<20)) },
		},
	}
	for i := range all {
		if all[i].change == nil {
			all[i].change = func(*practice.Spec) {}
		}
	}
	return all
}

// faultCommands are the columns.
var faultCommands = []struct {
	name string
	args []string
}{
	{"stamp", []string{"stamp", "--yes", "--json", "os.img", "a.card"}},
	{"gauge spots", []string{"gauge", "spots", "--yes", "--json", "--seed", "7", "a.card"}},
	{"gauge whole", []string{"gauge", "whole", "--yes", "--json", "a.card"}},
	{"blank", []string{"blank", "--yes", "--json", "a.card"}},
	{"blank --with", []string{"blank", "--yes", "--json", "--with", "files.tar", "a.card"}},
	{"recheck", []string{"recheck", "--json", "a.card", "old.img"}},
	{"pace", []string{"pace", "--yes", "--json", "a.card"}},
	{"gauge restore", []string{"gauge", "restore", "--yes", "--json", "a.card"}},
}

// faultOS is the image of the matrix, and oldOS what the card holds before: a partition table, one partition, and
// noise.
var (
	faultOS = sync.OnceValue(func() []byte { return noiseOS(5, faultImage) })
	oldOS   = sync.OnceValue(func() []byte { return noiseOS(6, faultImage) })
)

// noiseOS is a system of so many bytes, some MiB.
func noiseOS(seed byte, size int) []byte {
	img := make([]byte, size)
	r := rand.NewChaCha8([32]byte{seed})
	_, _ = r.Read(img)
	table := layout.MBR(0x5a17a000+uint32(seed), layout.Partition{
		Type: 0x83, Start: 2048, Sectors: uint32(size-1<<20) / 512,
	})
	copy(img, table[:])
	return img
}

// bare is a card without what goes wrong with it: only how it keeps what is written.
func bare(s practice.Spec) practice.Spec {
	return practice.Spec{
		Version: practice.Version, Backing: s.Backing, Sector: s.Sector, Claimed: s.Claimed, Real: s.Real,
		Beyond: s.Beyond, Reads: s.Reads,
	}
}

// insertFault makes the card of a row, which holds the image, as far as it can.
func insertFault(t *testing.T, d *desk, f fault) (spec, whole practice.Spec) {
	spec = practice.Spec{Backing: "a.card.data", Claimed: faultClaimed, Serial: "SW-9"}
	f.change(&spec)
	require.NoError(t, practice.Create(d.path("a.card"), spec))
	whole = bare(spec)
	whole.Backing = d.path("a.card.data")
	c, err := practice.Open(whole)
	require.NoError(t, err)
	img := oldOS()
	for at := 0; at < len(img); at += 4 << 20 {
		_, err := c.WriteAt(img[at:at+4<<20], int64(at))
		require.NoError(t, err)
	}
	require.NoError(t, c.Close())
	return spec, whole
}

// onCard is what a card has, up to 40 MiB.
func onCard(t *testing.T, s practice.Spec) []byte {
	c, err := practice.OpenToRead(s)
	// a program that is just being started has what is open here, for a moment
	for try := 0; errors.Is(err, lock.ErrHeld) && try < 1000; try++ {
		time.Sleep(10 * time.Millisecond)
		c, err = practice.OpenToRead(s)
	}
	if err != nil {
		return nil // its file is not what it should be
	}
	defer c.Close()
	p := make([]byte, 40<<20)
	_, err = c.ReadAt(p, 0)
	require.NoError(t, err)
	return p
}

// looksWhole is what must never come of a command: a card that looks as if it could start a board, and can't.
const looksWhole = "LOOKS AS IF IT COULD START"

// butForPlaces is what may only be where the rest is saved.
const butForPlaces = "as it was, but for places"

// left says what is on the card afterwards.
func left(before, after []byte) string {
	img, old := faultOS(), oldOS()
	switch {
	case after == nil:
		return "-"
	case bytes.Equal(before, after):
		return "as it was"
	case bytes.Equal(img, after[:len(img)]):
		return "the image"
	case bytes.Equal(after[:512], img[:512]):
		return looksWhole
	case bytes.Equal(after[:512], old[:512]):
		differ := 0
		for at := 0; at < len(old); at += 512 {
			if !bytes.Equal(before[at:at+512], after[at:at+512]) {
				differ++
			}
		}
		if differ > 8192 { // more than tests write that put back what was there
			return looksWhole
		}
		return butForPlaces
	case after[510] == 0x55 && after[511] == 0xAA:
		return fileSystemOn(after)
	}
	for at := 0; at < len(after); at += 1 << 20 {
		if _, _, ok := mark.Know(after[at : at+512]); ok {
			return "test data"
		}
	}
	return "no table"
}

// looseFiles are the files of files.tar.
var looseFiles = sync.OnceValue(func() map[string][]byte {
	noise := oldOS()
	return map[string][]byte{
		"kernel8.img": noise[1<<20 : 13<<20], "brindle3.dtb": noise[13<<20 : 13<<20+30_000],
		"overlays/tide gauge.dtbo": noise[14<<20 : 20<<20], "cmdline.txt": []byte("console=serial0\n"),
	}
})

// looseTar is them as an archive.
func looseTar() []byte {
	var b bytes.Buffer
	w := tar.NewWriter(&b)
	for _, name := range slices.Sorted(maps.Keys(looseFiles())) {
		data := looseFiles()[name]
		h := &tar.Header{Name: name, Mode: 0o600, Size: int64(len(data)), ModTime: time.Unix(1_777_777_778, 0)}
		if w.WriteHeader(h) != nil {
			panic(name)
		}
		if _, err := w.Write(data); err != nil {
			panic(err)
		}
	}
	if err := w.Close(); err != nil {
		panic(err)
	}
	return b.Bytes()
}

// fileSystemOn is what a card with a new partition table has: nothing, or just the loose files.
func fileSystemOn(card []byte) string {
	table, _ := layout.ParseMBR(card, layout.SectorSize)
	if len(table.Parts) != 1 {
		return looksWhole
	}
	p := table.Parts[0]
	v, err := layout.OpenFAT(io.NewSectionReader(bytes.NewReader(card), p.Start, p.Length))
	if err != nil { // the table counts sectors of 4096 bytes
		v, err = layout.OpenFAT(io.NewSectionReader(bytes.NewReader(card), p.Start*8, p.Length*8))
	}
	if err != nil {
		return looksWhole
	}
	files, err := v.Files()
	switch {
	case err != nil:
		return looksWhole
	case len(files) == 0:
		return "an empty file system"
	case len(files) != len(looseFiles()):
		return looksWhole
	}
	for _, f := range files {
		r, err := v.Open(f)
		if err != nil {
			return looksWhole
		}
		if data, err := io.ReadAll(r); err != nil || !bytes.Equal(data, looseFiles()[f.Path]) {
			return looksWhole
		}
	}
	return "the files"
}

// cell does what a command does with the card of a row, and says what came of it, and what the program printed.
func cell(t *testing.T, f fault, column int) (said, printed string) {
	d := newDesk(t)
	for name, path := range faultFiles() {
		require.NoError(t, os.Link(path, d.path(name)))
	}
	spec, whole := insertFault(t, d, f)
	before := onCard(t, whole)
	command := faultCommands[column]
	if command.name == "gauge restore" {
		// what is to be put back: a test ends when the card is pulled out, after all its places have been written
		pulled := bare(spec)
		pulled.GoneAfter, pulled.Serial = 30<<20, spec.Serial
		text := specText(t, pulled)
		d.write("a.card", text)
		r := d.zipstamp("gauge", "spots", "--yes", "--seed", "7", "a.card")
		require.Contains(t, plain(r.err), "kept in", "%s", r.out+r.err)
		d.write("a.card", specText(t, spec))
	}
	if f.around != nil {
		f.around(t, d)
	}
	args := command.args
	if command.name == "stamp" && f.stamp != "" {
		args = append(slices.Clone(args), f.stamp)
	}
	r := d.zipstamp(args...)
	require.NotContains(t, r.err, "panic")
	after := onCard(t, whole)
	var doc struct {
		Schema, Verdict, Sentence string
		Exit                      int
		Gauge                     *struct {
			Loss *struct{ Exact bool }
		}
		Kept []struct{ Fate, Error string }
	}
	require.NoError(t, json.Unmarshal([]byte(r.out), &doc), "%s%s", r.out, r.err)
	require.Equal(t, r.status, doc.Exit)
	verdict := doc.Verdict
	switch {
	case len(doc.Kept) > 0 && doc.Kept[0].Error != "":
		verdict = "kept"
	case len(doc.Kept) > 0:
		verdict = "put back"
	case doc.Schema == "restore":
		verdict = "nothing to do"
	case verdict == "":
		verdict = "refused"
	case doc.Gauge != nil && doc.Gauge.Loss != nil && doc.Gauge.Loss.Exact:
		verdict += ", exact"
	}
	state := left(before, after)
	// What no cell may say.
	if state == looksWhole && slices.ContainsFunc(spec.Faults, func(f practice.Fault) bool {
		return f.Kind == practice.FailWrite && f.Sector == 0
	}) {
		state = "its first sector as it was" // it can't be taken away
	}
	if (state == "test data" || state == butForPlaces) && len(d.left("state/zipstamp/journals")) > 0 {
		state = "as it was, but for places that are saved"
	}
	assert.NotEqual(t, looksWhole, state, "%s: %s", f.name, command.name)
	if command.name != "gauge whole" && verdict != "refused" {
		assert.NotEqual(t, "test data", state, "%s: %s: the stamps of a test, and what stood there is saved nowhere",
			f.name, command.name)
	}
	assert.NotEqual(t, butForPlaces, state, "%s: %s: what stood there is saved nowhere", f.name, command.name)
	if verdict == "good" && command.name == "blank --with" {
		assert.Equal(t, "the files", state, "%s: called good", f.name)
	}
	if verdict == "good" && command.name == "stamp" {
		assert.Equal(t, "the image", state, "%s: called good", f.name)
	}
	if spec.Real == 0 && spec.Claimed == faultClaimed {
		assert.NotContains(t, verdict, "counterfeit", "%s: %s: an honest card", f.name, command.name)
	}
	return fmt.Sprintf("%s · %d · %s", verdict, r.status, state), r.out + r.err
}

func specText(t *testing.T, s practice.Spec) []byte {
	dir := t.TempDir()
	s.Backing = "a.card.data"
	require.NoError(t, practice.Create(filepath.Join(dir, "a.card"), s))
	text, err := os.ReadFile(filepath.Join(dir, "a.card"))
	require.NoError(t, err)
	return text
}

// faultFiles are the images and the sums file, made once, which all cells share.
var faultFiles = sync.OnceValue(func() map[string]string {
	files := map[string]string{}
	for name, text := range map[string][]byte{
		"os.img": faultOS(), "old.img": oldOS(), "files.tar": looseTar(),
		"SHA256SUMS": fmt.Appendf(nil, "%x  os.img\n%x  files.tar\n", sha256.Sum256(faultOS()),
			sha256.Sum256(looseTar())),
	} {
		files[name] = filepath.Join(filepath.Dir(program), name)
		if err := os.WriteFile(files[name], text, 0o644); err != nil {
			panic(err)
		}
	}
	return files
})

// The table stands between these lines of the document.
const (
	tableFrom = "<!-- the matrix: written by TestFaults with ZIPSTAMP_WRITE=1 -->\n"
	tableTo   = "<!-- the end of the matrix -->\n"
)

// TestFaults does every command with every fault, and compares the result with docs/faults.md.
func TestFaults(t *testing.T) {
	rows := faults()
	all := testbed.Long() || os.Getenv("ZIPSTAMP_WRITE") != ""
	const part = 24 // of which one is done where not all are
	cells, printed := make([][]string, len(rows)), make([][]string, len(rows))
	t.Run("cells", func(t *testing.T) {
		for i, f := range rows {
			if !all && i%part != 0 {
				continue
			}
			cells[i], printed[i] = make([]string, len(faultCommands)), make([]string, len(faultCommands))
			t.Run(f.name, func(t *testing.T) {
				t.Parallel()
				for j := range faultCommands {
					cells[i][j], printed[i][j] = cell(t, f, j)
				}
			})
		}
	})
	var table bytes.Buffer
	fmt.Fprint(&table, "| fault |")
	for _, c := range faultCommands {
		fmt.Fprintf(&table, " %s |", c.name)
	}
	fmt.Fprint(&table, "\n| --- |"+strings.Repeat(" --- |", len(faultCommands))+"\n")
	for i, f := range rows {
		fmt.Fprintf(&table, "| %s | %s |\n", f.name, strings.Join(cells[i], " | "))
	}
	const document = "../docs/faults.md"
	text, err := os.ReadFile(document)
	require.NoError(t, err)
	head, rest, ok := strings.Cut(string(text), tableFrom)
	require.True(t, ok)
	was, tail, ok := strings.Cut(rest, tableTo)
	require.True(t, ok)
	if os.Getenv("ZIPSTAMP_WRITE") != "" {
		require.NoError(t, os.WriteFile(document, []byte(head+tableFrom+table.String()+tableTo+tail), 0o644))
		return
	}
	old, now := strings.Split(was, "\n"), strings.Split(table.String(), "\n")
	for i := range max(len(old), len(now)) {
		if row := i - 2; row >= 0 && row < len(rows) && cells[row] == nil {
			continue
		}
		if i >= len(old) || i >= len(now) || old[i] != now[i] {
			assert.Equal(t, at(old, i), at(now, i),
				"docs/faults.md: run it with ZIPSTAMP_WRITE=1, and look at what changed")
			was := strings.Split(at(old, i), " | ")
			for j := range faultCommands {
				row, said := i-2, strings.TrimSuffix(at(was, j+1), " |")
				if row >= 0 && row < len(rows) && said != cells[row][j] {
					t.Logf("%s, %s: %s\n%s", rows[row].name, faultCommands[j].name, cells[row][j], printed[row][j])
				}
			}
		}
	}
}

func at(lines []string, i int) string {
	if i < len(lines) {
		return lines[i]
	}
	return ""
}
