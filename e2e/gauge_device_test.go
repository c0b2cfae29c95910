//go:build linux

package e2e

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/testbed"
)

// TestGaugeRealDevices tests loop devices with direct access, and the free space of a file system on one.
func TestGaugeRealDevices(t *testing.T) {
	t.Parallel()
	testbed.NeedRoot(t)
	testbed.NeedTool(t, "losetup", "mkfs.ext4", "mount", "umount", "e2fsck")
	d := newDesk(t)
	d.write("card.img", nil)
	require.NoError(t, os.Truncate(d.path("card.img"), 96<<20))
	device := testbed.Loop(t, d.path("card.img"), "--direct-io=on")
	mount := func() string {
		t.Helper()
		require.NoError(t, os.MkdirAll(d.path("mnt"), 0o755))
		out, err := exec.Command("mount", device, d.path("mnt")).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return d.path("mnt")
	}
	unmount := func() {
		_ = exec.Command("umount", d.path("mnt")).Run() // it may not be mounted
	}
	t.Cleanup(unmount)
	out, err := exec.Command("mkfs.ext4", "-q", device).CombinedOutput()
	require.NoError(t, err, "%s", out)

	// Mounted: refused without a word, since it must be unmounted; with --yes it is, and all is as before.
	mount()
	require.NoError(t, os.WriteFile(d.path("mnt/tides.txt"), []byte("low water at noon"), 0o644))
	d.want(4, "no terminal to ask whether", "gauge", "spots", device)
	r := d.want(0, "seems to hold what it claims", "gauge", "spots", "--yes", "--json", device)
	assert.Equal(t, "direct", document(t, r)["card"].(map[string]any)["access"])
	out, err = exec.Command("e2fsck", "-fn", device).CombinedOutput()
	assert.NoError(t, err, "%s", out)

	// The free space of the mounted card.
	mount()
	text, err := os.ReadFile(d.path("mnt/tides.txt"))
	require.NoError(t, err)
	assert.Equal(t, "low water at noon", string(text))
	d.want(0, "hold", "gauge", "space", "mnt")
	d.want(0, "came back right", "gauge", "space", "mnt", "--keep", "--first", "16MB")
	d.want(2, "which were kept to be read again", "gauge", "space", "mnt")
	d.want(0, "came back right", "gauge", "space", "mnt", "--again")
	f, err := os.OpenFile(d.path("mnt/zipstamp-space/space-00001.bin"), os.O_WRONLY, 0)
	require.NoError(t, err)
	_, err = f.WriteAt(make([]byte, 512), 512000)
	require.NoError(t, err)
	require.NoError(t, f.Close())
	d.want(6, "1 sector does not keep what is written", "gauge", "space", "mnt", "--again")
	d.write("mnt/zipstamp-space/mine.txt", []byte("mine"))
	d.want(0, "Removed 1 file", "gauge", "space", "mnt", "--remove")
	assert.Equal(t, "mine", string(d.read("mnt/zipstamp-space/mine.txt")), "only its own files are touched")
	require.NoError(t, os.RemoveAll(d.path("mnt/zipstamp-space")))

	// Interrupted, its files are gone.
	cmd := d.command("gauge", "space", "mnt")
	require.NoError(t, cmd.Start())
	time.Sleep(30 * time.Millisecond)
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	_ = cmd.Wait()
	left, err := os.ReadDir(d.path("mnt"))
	require.NoError(t, err)
	assert.NotContains(t, fmt.Sprint(left), "zipstamp-space")

	// Full but for the reserve, and read-only.
	d.write("mnt/full", nil)
	var st syscall.Statfs_t
	require.NoError(t, syscall.Statfs(d.path("mnt"), &st))
	fill := exec.Command("fallocate", "-l", fmt.Sprint(int64(st.Bavail)*int64(st.Bsize)-(1<<20)), d.path("mnt/full"))
	out, err = fill.CombinedOutput()
	require.NoError(t, err, "%s", out)
	d.want(4, "no free space to test", "gauge", "space", "mnt")
	require.NoError(t, os.Remove(d.path("mnt/full")))
	out, err = exec.Command("mount", "-o", "remount,ro", d.path("mnt")).CombinedOutput()
	require.NoError(t, err, "%s", out)
	d.want(4, "read-only", "gauge", "space", "mnt")
	unmount()

	d.want(0, "holds what it claims", "gauge", "whole", "--yes", device)
}

// TestInterruptedWholeOfOneOfTwins: of two cards that say the same of themselves, the test of one goes on, also under
// another name, after the other was tested; and when it has ended, it is not carried on again.
func TestInterruptedWholeOfOneOfTwins(t *testing.T) {
	t.Parallel()
	testbed.NeedRoot(t)
	testbed.NeedTool(t, "losetup")
	d := newDesk(t)
	const size = 512 << 20
	for _, name := range []string{"ebb.img", "flood.img"} {
		d.write(name, nil)
		require.NoError(t, os.Truncate(d.path(name), size))
	}
	ebb, flood := testbed.Loop(t, d.path("ebb.img"), "--direct-io=on"), testbed.Loop(t, d.path("flood.img"),
		"--direct-io=on")
	renamed := testbed.Loop(t, d.path("ebb.img"), "--direct-io=on")
	var r run
	for range 5 { // on a busy computer, it may have ended before it is interrupted
		f, err := os.OpenFile(d.path("ebb.img"), os.O_WRONLY, 0)
		require.NoError(t, err)
		_, err = f.WriteAt(make([]byte, 4096), 40<<20)
		require.NoError(t, errors.Join(err, f.Close()))
		if r = d.interrupt(d.stamped("ebb.img", 40<<20), "gauge", "whole", "--yes", ebb); r.status == 130 {
			break
		}
	}
	require.Equal(t, 130, r.status, r.out)
	r = d.want(0, "hold what is written", "gauge", "whole", "--yes", "--first", "16MB", flood)
	assert.NotContains(t, plain(r.err), "was interrupted")
	d.want(0, "it is carried on from", "gauge", "whole", "--yes", renamed)
	r = d.want(0, "hold what is written", "gauge", "whole", "--yes", "--first", "16MB", renamed)
	assert.NotContains(t, plain(r.err), "was interrupted", "that test has ended")
}

// TestSpaceThatChanges fills the free space of a card while another program takes some of it, or writes over what was
// written.
func TestSpaceThatChanges(t *testing.T) {
	t.Parallel()
	testbed.NeedRoot(t)
	testbed.NeedTool(t, "losetup", "mkfs.ext4", "mount", "umount", "fallocate")
	d := newDesk(t)
	d.write("card.img", nil)
	require.NoError(t, os.Truncate(d.path("card.img"), 768<<20))
	device := testbed.Loop(t, d.path("card.img"), "--direct-io=on")
	sh := func(name string, args ...string) {
		t.Helper()
		out, err := exec.Command(name, args...).CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	sh("mkfs.ext4", "-q", device)
	require.NoError(t, os.MkdirAll(d.path("mnt"), 0o755))
	sh("mount", device, d.path("mnt"))
	t.Cleanup(func() { _ = exec.Command("umount", d.path("mnt")).Run() }) // it may not be mounted
	free := func() int64 {
		var st syscall.Statfs_t
		require.NoError(t, syscall.Statfs(d.path("mnt"), &st))
		return int64(st.Bavail) * int64(st.Bsize)
	}
	all := free()
	filled := func(n int64, then func()) run {
		t.Helper()
		cmd := d.command("gauge", "space", "--json", "mnt")
		var out, problem bytes.Buffer
		cmd.Stdout, cmd.Stderr = &out, &problem
		require.NoError(t, cmd.Start())
		require.Eventually(t, func() bool { return free() < all-n }, time.Minute, time.Millisecond)
		require.NoError(t, cmd.Process.Signal(syscall.SIGSTOP))
		then()
		require.NoError(t, cmd.Process.Signal(syscall.SIGCONT))
		_ = cmd.Wait() // its status is in the result
		return run{cmd.ProcessState.ExitCode(), out.String(), problem.String()}
	}
	r := filled(40<<20, func() { sh("fallocate", "-l", fmt.Sprint(free()-(100<<20)), d.path("mnt/tides.txt")) })
	require.Zero(t, r.status, r.err)
	tested := document(t, r)["gauge"].(map[string]any)["tested"].(float64)
	assert.Less(t, tested, float64(all-(100<<20)), "what another program took is not tested")
	assert.Greater(t, tested, float64(90<<20))
	require.NoError(t, os.Remove(d.path("mnt/tides.txt")))
	assert.NoDirExists(t, d.path("mnt/zipstamp-space"))

	r = filled(80<<20, func() {
		f, err := os.OpenFile(d.path("mnt/zipstamp-space/space-00001.bin"), os.O_WRONLY|syscall.O_SYNC, 0)
		require.NoError(t, err)
		_, err = f.Write(make([]byte, 2<<20))
		require.NoError(t, errors.Join(err, f.Close()))
	})
	require.Equal(t, 6, r.status, r.err)
	g := document(t, r)["gauge"].(map[string]any)
	assert.Equal(t, "counterfeit", g["verdict"])
	assert.Less(t, g["tested"].(float64), g["claimed"].(float64), "what was lost is seen on the way")
	assert.Equal(t, g["tested"].(float64)-(2<<20), g["loss"].(map[string]any)["real"])
	assert.Equal(t, "zeros", g["loss"].(map[string]any)["reads_as"])
	assert.NoDirExists(t, d.path("mnt/zipstamp-space"))
}
