//go:build linux

package test

import (
	"bytes"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/demo"
)

// TestStampOntoABlockDevice drives the program on a loop device with direct access.
func TestStampOntoABlockDevice(t *testing.T) {
	cardtest.NeedRoot(t)
	cardtest.NeedTool(t, "losetup", "sgdisk", "partx", "sfdisk", "mkfs.ext4")
	d := newDesk(t, osXZ, osGzip, demo.Sums)
	file := cardtest.Sparse(t, d.path("card"), 80<<20)
	out, err := exec.Command("sgdisk", "-o", "-n", "1:0:0", file).CombinedOutput()
	require.NoError(t, err, "%s", out)
	loop := cardtest.Loop(t, file)
	name := filepath.Base(loop)

	r := d.typed(80, name+"\n", "stamp", "--receipt", "r.json", osXZ, loop)
	require.Zero(t, r.status, r.out)
	assert.Contains(t, plain(r.out), "cleared an old backup partition table at the card's end (16.9 kB (16,896 bytes))")
	held := d.read("card")
	assert.True(t, bytes.Equal(unpack, held[:len(unpack)]))
	assert.Equal(t, make([]byte, 40<<10), held[len(held)-40<<10:], "the old backup table is gone")
	var doc map[string]any
	require.NoError(t, json.Unmarshal(d.read("r.json"), &doc))
	assert.Equal(t, "direct", doc["card"].(map[string]any)["access"])
	assert.Equal(t, name, doc["card"].(map[string]any)["name"])

	sh := func(command string) {
		t.Helper()
		cmd := exec.Command("sh", "-ec", command)
		cmd.Dir = d.dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", command, out)
	}
	sh("partx -a " + loop)
	defer sh("partx -d " + loop)
	require.NoError(t, os.Symlink(loop+"p2", d.path("part")))
	for _, part := range []string{loop + "p2", "part"} {
		d.want(4, "it is partition 2 of the card "+loop, "stamp", "--yes", osXZ, part).mentions(t, "Next: name the whole card: "+loop)
	}
	sh("mkfs.ext4 -qF " + loop + "p1; mkdir point; mount " + loop + "p1 point")
	d.want(4, "it is mounted at "+d.path("point")+" (from "+loop+"p1)", "stamp", "--yes", osXZ, loop).mentions(t, "umount "+d.path("point"))
	sh("umount point")
	d.want(0, "Stamped and read back", "stamp", "--yes", osGzip, loop)
}

// TestFailingBlockDevice has no room, or no disk, below a loop device: these are real I/O errors.
func TestFailingBlockDevice(t *testing.T) {
	cardtest.NeedRoot(t)
	d := newDesk(t, osXZ, demo.Sums)
	full := d.path("full")
	require.NoError(t, os.Mkdir(full, 0o755))
	out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=24m", "tmpfs", full).CombinedOutput()
	require.NoError(t, err, "%s", out)
	t.Cleanup(func() { _ = exec.Command("umount", full).Run() })
	narrow := cardtest.Loop(t, cardtest.Sparse(t, filepath.Join(full, "card"), 64<<20))
	r := d.want(5, "", "stamp", "--yes", osXZ, narrow)
	r.mentions(t, "Not stamped: the disk that holds the card's file is full; the card has no partition table")
	head := make([]byte, 512)
	f, err := os.Open(filepath.Join(full, "card"))
	require.NoError(t, err)
	defer f.Close()
	_, err = f.Read(head)
	require.NoError(t, err)
	assert.Equal(t, make([]byte, 512), head)

	plainFile := filepath.Join(full, "plain")
	cardtest.Sparse(t, plainFile, 64<<20)
	d.want(5, "the disk that holds the card's file is full", "stamp", "--yes", osXZ, plainFile)

	// And a state folder without room is found before the card is touched.
	d.env = append(d.env, "ZIPSTAMP_RECEIPTS="+full)
	d.want(1, "the receipt can't be written, so nothing was started: "+full, "stamp", "--yes", osXZ, narrow)
	d.env = append(d.env, "ZIPSTAMP_RECEIPTS=")

	// A loop device whose file was cut short gives I/O errors beyond the cut, to reads as to writes.
	file := cardtest.Sparse(t, d.path("card"), 64<<20)
	loop := cardtest.Loop(t, file)
	require.NoError(t, os.Truncate(file, 30<<20))
	d.want(5, "", "stamp", "--yes", osXZ, loop).mentions(t, "Not stamped:", "the card has no partition table", "if it fails again, replace the card")
}

func TestWithoutRights(t *testing.T) {
	cardtest.NeedRoot(t)
	d := newDesk(t, osXZ, demo.Sums)
	loop := cardtest.Loop(t, cardtest.Sparse(t, d.path("card"), 64<<20))
	for dir := d.dir; len(dir) > len(os.TempDir()); dir = filepath.Dir(dir) {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	require.NoError(t, os.Chmod(filepath.Dir(program), 0o755))
	require.NoError(t, os.Mkdir(d.path("state"), 0o777))
	require.NoError(t, os.Chmod(d.path("state"), 0o777))
	cmd := d.command("stamp", "--yes", osXZ, loop)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: 65534, Gid: 65534}}
	out, _ := cmd.CombinedOutput() // the status tells
	assert.Equal(t, 4, cmd.ProcessState.ExitCode(), "%s", out)
	assert.Contains(t, plain(string(out)), "you have no permission to write it")
	assert.Contains(t, plain(string(out)), "sudo "+program+" stamp --yes "+osXZ+" "+loop)
	left, err := filepath.Glob(d.path("state/zipstamp/receipts/*"))
	require.NoError(t, err)
	assert.Empty(t, left)
}

// TestPlainFileStandsForACard has a length that is no multiple of anything.
func TestPlainFileStandsForACard(t *testing.T) {
	d := newDesk(t, osGzip, demo.Sums)
	cardtest.Sparse(t, d.path("card.img"), 50e6+123)
	d.want(0, "Stamped and read back", "stamp", "--yes", "--receipt", "r.json", osGzip, "card.img")
	held := d.read("card.img")
	assert.Len(t, held, 50e6+123)
	assert.True(t, bytes.Equal(unpack, held[:len(unpack)]))
	assert.Contains(t, string(d.read("r.json")), `"kind": "plain file"`)
	for _, access := range []string{`"access": "direct"`, `"access": "dropped"`, `"access": "cached"`} {
		if strings.Contains(string(d.read("r.json")), access) {
			return
		}
	}
	t.Error("the receipt says how the file was read back")
}
