//go:build linux

package wine_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
	"zipstamp/internal/layout"
	"zipstamp/internal/testbed"
	"zipstamp/lab/wine"
)

const (
	mib      = 1 << 20
	cardSize = 64 * mib
)

// room is a desk with the built program.
type room struct {
	*wine.Desk
	t   *testing.T
	ctx context.Context
}

func enter(t *testing.T) *room {
	t.Helper()
	if os.Getenv("ZIPSTAMP_LAB") == "" {
		t.Skip("set ZIPSTAMP_LAB=1 to run programs under Wine")
	}
	testbed.NeedRoot(t)
	testbed.NeedTool(t, "debootstrap", "x86_64-w64-mingw32-gcc", "unshare", "chroot")
	cache := os.Getenv("LAB_CACHE")
	if cache == "" {
		folder, err := os.UserCacheDir()
		require.NoError(t, err)
		cache = filepath.Join(folder, "zipstamp-lab")
	}
	driver, err := filepath.Abs("driver/fakedisk.c")
	require.NoError(t, err)
	dir := t.TempDir()
	d, err := wine.NewDesk(cache+"-wine", dir, driver)
	require.NoError(t, err)
	t.Cleanup(d.Close)
	build := exec.Command("go", "build", "-o", filepath.Join(dir, "zipstamp.exe"), "zipstamp")
	build.Env = append(os.Environ(), "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0")
	out, err := build.CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, demo.Make(dir))
	ctx, stop := context.WithTimeout(context.Background(), 40*time.Minute)
	t.Cleanup(stop)
	return &room{d, t, ctx}
}

// want runs zipstamp, and checks its exit status and what it says.
func (r *room) want(status int, words string, says ...string) string {
	r.t.Helper()
	got, said, err := r.Run(r.ctx, append([]string{"ZIPSTAMP_TRUST_SYSTEM=true", "wine", "zipstamp.exe"},
		strings.Fields(words)...)...)
	require.NoError(r.t, err, "%s", said)
	require.Equal(r.t, status, got, "%s\n%s", words, said)
	plain := strings.Join(strings.Fields(said), " ")
	for _, s := range says {
		assert.Contains(r.t, plain, s, "%s", words)
	}
	return plain
}

func (r *room) insert(c wine.Card) {
	r.t.Helper()
	size := int64(cardSize)
	if c.Real > 0 {
		size = int64(c.Real) * 512
	}
	require.NoError(r.t, r.Insert(r.ctx, make([]byte, size), c))
}

func (r *room) contents() []byte {
	r.t.Helper()
	b, err := r.Contents()
	require.NoError(r.t, err)
	return b
}

// TestWindows has the program that is built for Windows work on a card in a reader.
func TestWindows(t *testing.T) {
	r := enter(t)
	img := make([]byte, 24*mib)
	_, _ = rand.NewChaCha8([32]byte{7}).Read(img)
	table := layout.MBR(0x5A17A1B5, layout.Partition{Type: 0x83, Start: 2048, Sectors: (23 * mib) / 512})
	copy(img, table[:])
	require.NoError(t, os.WriteFile(filepath.Join(r.Dir, "os.img"), img, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(r.Dir, "os.img.sha256"), fmt.Appendf(nil, "%x  os.img\n",
		sha256.Sum256(img)),
		0o644))

	// A computer with a card in its reader.
	r.insert(wine.Card{})
	r.want(0, "cards --all", `Found 1 writable card. \\.\PhysicalDrive7 67.1 MB`,
		"USB, Brindle Card Reader, serial TS16-77",
		`\\.\PhysicalDrive0`, `this computer runs from it (C:\windows is on it`)
	listed := r.want(0, "cards --all --json")
	var doc struct{ Answers map[string]any }
	require.NoError(t, json.Unmarshal([]byte(listed), &doc))
	assert.Contains(t, doc.Answers, "disks")
	_, said, err := r.Run(r.ctx, "wine", "zipstamp.exe", "stamp", "--yes", "os.img", "disk7")
	require.NoError(t, err)
	assert.Contains(t, strings.Join(strings.Fields(said), " "), "has been tried with stand-ins")
	r.want(4, "stamp --yes os.img C:", "C: is refused")
	r.want(4, "stamp --yes os.img Q:", "Q: is refused: there is no such card")
	r.want(4, "gauge spots disk0 --dry-run", "disk0 is refused")
	r.want(2, "stamp --yes --fixed-disk os.img disk7", "has no flag --fixed-disk")
	r.want(4, "stamp --yes os.img disk9", "disk9 is refused")

	// The letter stands for the whole card.
	r.want(0, "stamp --yes --no-eject os.img X:", "Stamped and read back: every block of os.img is on disk7.")
	assert.True(t, bytes.Equal(img, r.contents()[:len(img)]), "the card holds the image")
	r.want(0, "recheck disk7 os.img", "is as it was stamped")
	r.want(0, "peek disk7", "has 1 partition", "Linux")
	r.want(0, "gauge spots --yes disk7", "disk7 seems to hold what it claims")
	assert.True(t, bytes.Equal(img, r.contents()[:len(img)]), "what was there is put back")
	r.want(0, "pace --yes disk7", "sequential")
	r.want(0, "save --yes disk7 copy.img.gz", "copy.img.gz")
	r.want(0, "blank --yes --no-eject --label SALTBOOT --with saltmarsh-boot.zip disk7",
		"has 7 files from saltmarsh-boot.zip on one FAT32 file system named SALTBOOT, and every file was read back "+
			"right")
	r.want(0, "blank --yes --no-eject disk7", "disk7 is empty: one FAT32 file system")
	r.want(0, "gauge whole --yes disk7", "disk7 holds what it claims")
	r.want(0, "stamp --yes os.img disk7", "Stamped and read back", "let go ejected")
	r.want(4, "stamp --yes os.img disk7", "there is no card in the reader")
	r.want(0, "cards", "No writable card found.")

	// Cards that fail.
	r.insert(wine.Card{Busy: true})
	r.want(4, "stamp --yes os.img disk7", "X: is in use")
	assert.Equal(t, make([]byte, cardSize), r.contents(), "nothing is written")
	r.insert(wine.Card{Locked: true})
	r.want(4, "stamp --yes os.img disk7", "it is write-protected")
	r.insert(wine.Card{Bad: 30000})
	r.want(5, "stamp --yes --no-spots os.img disk7", "the card has no partition table")
	assert.Equal(t, make([]byte, 512), r.contents()[:512])
	r.insert(wine.Card{Real: 40 * mib / 512, Claimed: cardSize / 512})
	r.want(6, "gauge spots --yes disk7", "disk7 is counterfeit: it holds 41.9 MB of the 67.1 MB that it claims")
	r.want(6, "stamp --yes --no-eject os.img disk7", "disk7 is counterfeit: os.img is on it and read back")

	// A card that is taken out in the midst of it.
	r.insert(wine.Card{After: 30 * mib / 512})
	r.want(4, "gauge whole --yes disk7", "was pulled out")
	r.want(4, "stamp --yes os.img disk7", "there is no card in the reader")
}

// TestFolders has it work on files whose names are special on Windows, and on the free space of a card with a letter.
func TestFolders(t *testing.T) {
	r := enter(t)
	r.insert(wine.Card{})
	require.NoError(t, r.Mount())
	r.want(0, "gauge space X: --first 48MB", "The free space of X:\\ holds what is written: 48.0 MB came back right.",
		"card disk7, USB")
	left, err := os.ReadDir(filepath.Join(r.Dir, "files"))
	require.NoError(t, err)
	assert.Empty(t, left)
	assert.NotContains(t, r.want(4, `gauge space C:\ --first 48MB`, "which is not a card"), "--fixed-disk")
	r.want(4, `gauge space Q:\`, "there is no such folder")
	r.want(2, `gauge space --fixed-disk C:\`, "has no flag --fixed-disk")

	long := strings.Repeat(`a-folder-with-a-long-name-of-the-saltmarsh-watchers\`, 6)
	require.NoError(t, os.MkdirAll(filepath.Join(r.Dir, strings.ReplaceAll(long, `\`, "/")), 0o755))
	for _, name := range []string{"saltmarsh-os.img.xz", "SHA256SUMS"} {
		require.NoError(t, os.Link(filepath.Join(r.Dir, name), filepath.Join(r.Dir, strings.ReplaceAll(long, `\`, "/"),
			name)))
	}
	for _, path := range []string{
		long + "saltmarsh-os.img.xz", `Z:\work\` + long + "saltmarsh-os.img.xz", "Z:saltmarsh-os.img.xz",
		`\\?\Z:\work\saltmarsh-os.img.xz`, "Z:/work/saltmarsh-os.img.xz",
	} {
		r.want(0, "check "+path, "is what was published")
	}
	r.want(0, "practice new --claimed 64MB "+long+"a.card")
	r.want(0, "stamp --yes "+long+"saltmarsh-os.img.xz "+long+"a.card --receipt "+long+"r.json",
		"Stamped and read back")
	r.want(2, `check \\nowhere\share\os.img`, "there is no file")
	for _, words := range []string{
		"check CON", `check x\nul.img`, "check --sums aux.txt saltmarsh-os.img.xz", "practice new COM1 --claimed 64MB",
		"save --yes disk7 lpt1.img.gz", "stamp --yes saltmarsh-os.img.xz disk7 --receipt NUL",
	} {
		r.want(2, words, "can't be the name of a file: Windows keeps it for a device")
	}
}

// TestInterrupted has a person press Ctrl-C in a console while a card is written.
func TestInterrupted(t *testing.T) {
	r := enter(t)
	r.want(0, "practice new slow.card --claimed 64MB --write-rate 4MB/s")
	cmd := r.Command(r.ctx, "wine", "zipstamp.exe", "stamp", "--yes", "saltmarsh-os.img.xz", "slow.card")
	console, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 40, Cols: 100})
	require.NoError(t, err)
	defer console.Close()
	var said strings.Builder
	part := make([]byte, 4096)
	for pressed := false; ; {
		n, err := console.Read(part)
		said.Write(part[:n])
		if err != nil {
			break
		}
		if !pressed && strings.Contains(ansi.Strip(said.String()), "write ") {
			pressed = true
			_, err = console.Write([]byte{3})
			require.NoError(t, err)
		}
	}
	_ = cmd.Wait()
	assert.Equal(t, 130, cmd.ProcessState.ExitCode())
	assert.Contains(t, ansi.Strip(said.String()), "Not stamped: it was interrupted; the card has no partition table")
	assert.Contains(t, said.String(), "\x1b[36m", "bars have colours")
}

// core are the packages that work without a screen, and touch files or the system: their tests run under Wine too.
var core = []string{
	"blank", "card", "card/file", "card/practice", "card/windows", "check", "digest", "fetch", "gauge/gaugetest",
	"gauge/journal", "gauge/spots", "gauge/whole", "image", "image/lanes", "image/xz", "layout", "loose", "meter",
	"receipt", "recheck", "save", "stamp", "state", "systems", "trust",
}

// TestCore runs the tests of the core, built for Windows.
func TestCore(t *testing.T) {
	r := enter(t)
	for _, name := range core {
		t.Run(name, func(t *testing.T) {
			from, to := filepath.Join("../../internal", name), filepath.Join(r.Dir, "internal", name)
			require.NoError(t, os.MkdirAll(to, 0o755))
			build := exec.Command("go", "test", "-c", "-o", filepath.Join(to, "core.exe"), "zipstamp/internal/"+name)
			build.Env = append(os.Environ(), "GOOS=windows", "GOARCH=amd64", "CGO_ENABLED=0")
			out, err := build.CombinedOutput()
			require.NoError(t, err, "%s", out)
			if data := filepath.Join(from, "testdata"); exists(data) {
				require.NoError(t, os.CopyFS(filepath.Join(to, "testdata"), os.DirFS(data)))
			}
			start := time.Now()
			status, said, err := r.Run(r.ctx, "env", "-C", "/work/internal/"+name, "wine", "core.exe")
			require.NoError(t, err, "%s", said)
			assert.Zero(t, status, "%s", said)
			t.Log(time.Since(start))
		})
	}
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

// TestDemo runs the demo, which needs no card.
func TestDemo(t *testing.T) {
	r := enter(t)
	r.want(0, "demo", "is what was published, and signed by the key that you named", "Stamped and read back",
		"it holds 32.0 MB of the 64.0 MB that it claims")
}
