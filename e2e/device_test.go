//go:build linux

package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
	"zipstamp/internal/testbed"
)

// TestStampOntoABlockDevice drives the program on a loop device with direct access.
func TestStampOntoABlockDevice(t *testing.T) {
	t.Parallel()
	testbed.NeedRoot(t)
	testbed.NeedTool(t, "losetup", "sgdisk", "partx", "sfdisk", "mkfs.ext4")
	d := newDesk(t, osXZ, osGzip, demo.Sums)
	file := testbed.Sparse(t, d.path("card"), 80<<20)
	out, err := exec.Command("sgdisk", "-o", "-n", "1:0:0", file).CombinedOutput()
	require.NoError(t, err, "%s", out)
	loop := testbed.Loop(t, file)
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
	assert.Positive(t, doc["bytes"].(map[string]any)["total"])

	sh := func(command string) {
		t.Helper()
		cmd := exec.Command("sh", "-ec", command)
		cmd.Dir = d.dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", command, out)
	}
	sh("partx -a " + loop)
	require.NoError(t, os.Symlink(loop+"p2", d.path("part")))
	for _, part := range []string{loop + "p2", "part"} {
		d.want(4, "it is partition 2 of the card "+loop, "stamp", "--yes", osXZ, part).mentions(t,
			"Next: name the whole card: "+loop)
	}

	// What is mounted is shown, and unmounted; what keeps it busy is named; nothing is unmounted before the answer.
	sh("mkfs.ext4 -qF " + loop + "p1; mkdir point; mount " + loop + "p1 point; echo ebb > point/tide")
	reader := exec.Command("sh", "-c", "exec 5<"+d.path("point/tide")+"; exec sleep 60")
	require.NoError(t, reader.Start())
	t.Cleanup(func() { _ = reader.Process.Kill(); _ = reader.Wait() })
	require.Eventually(t, func() bool {
		_, err := os.Readlink(fmt.Sprintf("/proc/%d/fd/5", reader.Process.Pid))
		return err == nil
	}, time.Minute, 10*time.Millisecond, "it has the file open")
	r = d.typed(80, name+"\n", "stamp", osXZ, loop)
	require.Equal(t, 4, r.status)
	r.mentions(t, name+"p1 is mounted at "+d.path("point"), "What is mounted will be unmounted first.",
		"point is in use", "sleep (process", "has "+d.path("point/tide")+" open", "with --wait")
	d.typed(80, "no\n", "stamp", osXZ, loop)
	sh("mountpoint -q point && test -e point/tide && test -e " + loop + "p2")
	waiting := d.command("stamp", "--yes", "--wait", osGzip, loop)
	said, err := waiting.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, waiting.Start())
	seen, buf := "", make([]byte, 4096)
	for ended := false; ; {
		n, err := said.Read(buf)
		seen += string(buf[:n])
		if !ended && strings.Contains(seen, "Waiting:") && strings.Contains(plain(seen), "is in use") { // and only now
			_ = reader.Process.Kill()
			_ = reader.Wait()
			ended = true
		}
		if err != nil {
			break
		}
	}
	require.NoError(t, waiting.Wait(), seen)
	assert.Contains(t, plain(seen), "Waiting: "+loop+" is refused: "+d.path("point")+" is in use")
	sh("! mountpoint -q point")

	// Where the image is refused, the card's partitions come back.
	sh("partx -a " + loop + " || true; mkfs.ext4 -qF " + loop + "p1; mount " + loop + "p1 point")
	d.want(3, "is not what was published", "stamp", "--yes", "--digest", strings.Repeat("0", 64), osXZ, loop)
	sh("partx -a " + loop + " || true; mount " + loop + "p1 point; umount point; partx -d " + loop)
}

// TestFailingBlockDevice has no room, or no disk, below a loop device: these are real I/O errors.
func TestFailingBlockDevice(t *testing.T) {
	t.Parallel()
	testbed.NeedRoot(t)
	d := newDesk(t, osXZ, demo.Sums)
	full := d.path("full")
	require.NoError(t, os.Mkdir(full, 0o755))
	out, err := exec.Command("mount", "-t", "tmpfs", "-o", "size=24m", "tmpfs", full).CombinedOutput()
	require.NoError(t, err, "%s", out)
	t.Cleanup(func() { _ = exec.Command("umount", full).Run() })
	narrow := testbed.Loop(t, testbed.Sparse(t, filepath.Join(full, "card"), 64<<20))
	r := d.want(5, "", "stamp", "--yes", "--write-all", osXZ, narrow)
	r.mentions(t, "Not stamped: the disk that holds the card's file is full; the card has no partition table")
	head := make([]byte, 512)
	f, err := os.Open(filepath.Join(full, "card"))
	require.NoError(t, err)
	defer f.Close()
	_, err = f.Read(head)
	require.NoError(t, err)
	assert.Equal(t, make([]byte, 512), head)

	plainFile := filepath.Join(full, "plain")
	testbed.Sparse(t, plainFile, 64<<20)
	d.want(5, "the disk that holds the card's file is full", "stamp", "--yes", osXZ, plainFile)

	// And a state folder without room is found before the card is touched.
	d.env = append(d.env, "ZIPSTAMP_RECEIPTS="+full)
	d.want(1, "the receipt can't be written, so nothing was started: "+full, "stamp", "--yes", osXZ, narrow)
	d.env = append(d.env, "ZIPSTAMP_RECEIPTS=")

	// A loop device whose file was cut short gives I/O errors beyond the cut, to reads as to writes.
	file := testbed.Sparse(t, d.path("card"), 64<<20)
	loop := testbed.Loop(t, file)
	require.NoError(t, os.Truncate(file, 30<<20))
	d.want(5, "", "stamp", "--yes", osXZ, loop).mentions(t, "Not stamped:", "the card has no partition table",
		"if it fails again, replace the card")
}

func TestWithoutRights(t *testing.T) {
	t.Parallel()
	testbed.NeedRoot(t)
	d := newDesk(t, osXZ, demo.Sums)
	loop := testbed.Loop(t, testbed.Sparse(t, d.path("card"), 64<<20))
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
	t.Parallel()
	d := newDesk(t, osGzip, demo.Sums)
	testbed.Sparse(t, d.path("card.img"), 50e6+123)
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
