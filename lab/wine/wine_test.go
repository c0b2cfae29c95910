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
	ctx, stop := context.WithTimeout(context.Background(), 8*time.Minute)
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
	r.insert(wine.Card{Locked: true})
	r.want(4, "stamp --yes os.img disk7", "it is write-protected")
	r.insert(wine.Card{Bad: 30000})
	r.want(5, "stamp --yes --no-spots os.img disk7", "the card has no partition table")
	assert.Equal(t, make([]byte, 512), r.contents()[:512])
	r.insert(wine.Card{Real: 40 * mib / 512, Claimed: cardSize / 512})
	r.want(6, "gauge spots --yes disk7", "disk7 is counterfeit: it holds 41.9 MB of the 67.1 MB that it claims")
	r.want(0, "stamp --yes --no-eject os.img disk7", "Stamped and read back", "disk7 is counterfeit")

	// A card that is taken out in the midst of it.
	r.insert(wine.Card{After: 30 * mib / 512})
	r.want(4, "gauge whole --yes disk7", "was pulled out")
	r.want(4, "stamp --yes os.img disk7", "there is no card in the reader")
}

// TestDemo runs the demo, which needs no card.
func TestDemo(t *testing.T) {
	r := enter(t)
	r.want(0, "demo", "is what was published, and signed by the key that you named", "Stamped and read back",
		"it holds 32.0 MB of the 64.0 MB that it claims")
}
