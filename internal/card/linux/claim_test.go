//go:build linux

package linux_test

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/card/here"
	"zipstamp/internal/testbed"
)

// bench is a loop device with two partitions that the kernel knows.
type bench struct {
	t         *testing.T
	dir, loop string
}

func newBench(t *testing.T) *bench {
	testbed.NeedRoot(t)
	testbed.NeedTool(t, "sfdisk", "partx", "mkfs.ext4", "mkswap", "losetup")
	b := &bench{t: t, dir: t.TempDir()}
	file := testbed.Sparse(t, filepath.Join(b.dir, "card"), 64<<20)
	b.sh("printf '2048,65536\\n69632,16384\\n' | sfdisk -q " + file)
	b.loop = testbed.Loop(t, file)
	b.sh("partx -a " + b.loop + "; mkfs.ext4 -q -L saltmarsh " + b.loop + "p1")
	t.Cleanup(func() { _ = exec.Command("partx", "-d", b.loop).Run() }) // claiming the card has dropped them already
	return b
}

func (b *bench) sh(command string) {
	b.t.Helper()
	cmd := exec.Command("sh", "-ec", command)
	cmd.Dir = b.dir
	out, err := cmd.CombinedOutput()
	require.NoError(b.t, err, "%s: %s", command, out)
}

// assertRefused tells whether an error refuses a card for a cause, and names what it is about.
func assertRefused(t *testing.T, err error, cause guard.Cause, name string) {
	t.Helper()
	var refused *card.RefusedError
	if assert.ErrorAs(t, err, &refused) {
		assert.True(t, refused.For(cause), "%v", refused)
		assert.ErrorContains(t, refused, name)
	}
}

func (b *bench) find() *card.Card {
	b.t.Helper()
	c, err := here.Cards().Find(b.loop)
	require.NoError(b.t, err)
	return c
}

func TestWholeDeviceIsFoundByAnyNameButAPartitions(t *testing.T) {
	b := newBench(t)
	_, err := here.Cards().Find(b.loop + "p2")
	assertRefused(t, err, guard.IsPart, b.loop)
	link := filepath.Join(b.dir, "by-id")
	require.NoError(t, os.Symlink(b.loop, link))
	// A program that has the device open holds on to what was there before; it was changed by its partition since.
	other, err := os.Open(b.loop)
	require.NoError(t, err)
	defer other.Close()
	_, err = other.ReadAt(make([]byte, 1<<20), 1<<20)
	require.NoError(t, err)
	b.sh("mkfs.ext4 -q -F -L saltmarsh-2 " + b.loop + "p1")
	c, err := here.Cards().Find(link)
	require.NoError(t, err)
	assert.Equal(t, b.loop, c.Path)
	assert.EqualValues(t, 64<<20, c.Size)
	require.NoError(t, c.Refusal(card.Consent{}))
	d, err := c.Contents()
	require.NoError(t, err)
	assert.Equal(t, "saltmarsh-2", d.Parts[0].Label)

	// A loop device, and the file below it, are never found by what is on them.
	_, err = here.Cards().Find("label:saltmarsh-2")
	assertRefused(t, err, guard.NoneNamed, "saltmarsh")
	_, err = here.Cards().Find("serial:")
	assertRefused(t, err, guard.NamesNone, "serial number")
	file, err := here.Cards().Find(filepath.Join(b.dir, "card"))
	require.NoError(t, err)
	assertRefused(t, file.Refusal(card.Consent{}), guard.HolderOn, "")

	locked := testbed.Loop(t, testbed.Sparse(t, filepath.Join(b.dir, "locked"), 1<<20), "--read-only")
	c, err = here.Cards().Find(locked)
	require.NoError(t, err)
	assertRefused(t, c.Refusal(card.Consent{}), guard.LockedFile, "")
}

func TestClaimUnmountsAndHolds(t *testing.T) {
	b := newBench(t)
	b.sh("mkdir -p one; mount " + b.loop + "p1 one; mkdir one/two; mount --bind one/two one/two; mkswap -q " + b.loop +
		"p2; swapon " + b.loop + "p2")
	t.Cleanup(func() { _ = exec.Command("swapoff", b.loop+"p2").Run() })
	c := b.find()
	mounts, swaps := c.InUse()
	assert.Len(t, mounts, 2)
	assert.Len(t, swaps, 1)
	assertRefused(t, c.Refusal(card.Consent{}), guard.SwapInUse, b.loop+"p2")
	_, err := c.Claim(context.Background(), card.Freeing{})
	assertRefused(t, err, guard.SwapInUse, "") // nobody was asked

	asked := card.Freeing{Consent: card.Consent{Asked: true}}
	h, err := c.Claim(context.Background(), asked)
	require.NoError(t, err)
	text, err := os.ReadFile("/proc/self/mountinfo")
	require.NoError(t, err)
	assert.NotContains(t, string(text), b.dir+"/one")
	text, err = os.ReadFile("/proc/swaps")
	require.NoError(t, err)
	assert.NotContains(t, string(text), b.loop)
	assert.NoFileExists(t, "/sys/block/"+c.Name+"/"+c.Name+"p1", "the kernel has forgotten the partitions")

	// Held, it can't be mounted, not even after the kernel is told of its partitions again.
	_ = exec.Command("partx", "-a", b.loop).Run()
	assert.Error(t, exec.Command("mount", b.loop+"p1", filepath.Join(b.dir, "one")).Run())
	_, err = b.find().Claim(context.Background(), asked)
	assertRefused(t, err, guard.Held, "")
	left := h.LetGo(context.Background(), card.Leaving{Eject: true})
	assert.NoError(t, left.Problem)
	assert.False(t, left.Ejected, "a loop device has nothing to eject")
	b.sh("partx -a " + b.loop + " 2>/dev/null || true; mount " + b.loop + "p1 one; umount one")
}

func TestBusyFileSystemsNameTheirPrograms(t *testing.T) {
	b := newBench(t)
	b.sh("mkdir one; mount " + b.loop + "p1 one; echo ebb > one/tide; cp /bin/sleep one/snooze")
	point := filepath.Join(b.dir, "one")
	t.Cleanup(func() { _ = exec.Command("umount", point).Run() })
	start := func(dir, name string, args ...string) *exec.Cmd {
		cmd := exec.Command(name, args...)
		cmd.Dir = dir
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
		return cmd
	}
	works := start(point, "sleep", "60")
	reads := start("/", "sh", "-c", "exec 5<"+point+"/tide; exec sleep 60")
	runs := start("/", point+"/snooze", "60")
	var refused *card.RefusedError
	require.Eventually(t, func() bool {
		_, err := b.find().Claim(context.Background(), card.Freeing{})
		return errors.As(err, &refused) && len(refused.Why[0].Programs) == 3
	}, time.Minute, 50*time.Millisecond, "three programs are named")
	assertRefused(t, refused, guard.InUse, point)
	for cmd, want := range map[*exec.Cmd]guard.Program{
		works: {Command: "sleep", How: guard.WorksIn, File: point},
		reads: {Command: "sleep", How: guard.HasOpen, File: point + "/tide"},
		runs:  {Command: "snooze", How: guard.RunFrom, File: point + "/snooze"},
	} {
		want.ID = cmd.Process.Pid
		assert.Contains(t, refused.Why[0].Programs, want)
	}

	// With Wait it goes on as soon as they have ended, and says what it waits for.
	told := make(chan *card.RefusedError, 8)
	done := make(chan error, 1)
	go func() {
		h, err := b.find().Claim(context.Background(), card.Freeing{
			Wait: true, Waiting: func(e *card.RefusedError) { told <- e },
		})
		if err == nil {
			err = h.Close()
		}
		done <- err
	}()
	assert.Equal(t, "sleep", (<-told).Why[0].Programs[0].Command)
	for _, cmd := range []*exec.Cmd{works, reads, runs} {
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
	}
	require.NoError(t, <-done)
	ctx, cancel := context.WithCancelCause(context.Background())
	b.sh("partx -a " + b.loop + " 2>/dev/null || true; mount " + b.loop + "p1 one")
	start(point, "sleep", "60")
	stop := errors.New("stopped")
	time.AfterFunc(100*time.Millisecond, func() { cancel(stop) })
	require.Eventually(t, func() bool {
		_, err := b.find().Claim(ctx, card.Freeing{Wait: true})
		return errors.Is(err, stop)
	}, time.Minute, 10*time.Millisecond, "waiting can be ended")
}

// TestMountedAgainInBetween has a desktop that mounts whatever it sees.
func TestMountedAgainInBetween(t *testing.T) {
	b := newBench(t)
	b.sh("mkdir one; mount " + b.loop + "p1 one")
	desktop := exec.Command("sh", "-c", "until [ -e enough ]; do mount "+b.loop+"p1 one 2>/dev/null; sleep 0.05; done")
	desktop.Dir = b.dir
	require.NoError(t, desktop.Start())
	t.Cleanup(func() {
		b.sh("touch enough")
		_ = desktop.Wait()
		_ = exec.Command("umount", filepath.Join(b.dir, "one")).Run()
	})
	for range 10 {
		h, err := b.find().Claim(context.Background(), card.Freeing{})
		require.NoError(t, err)
		time.Sleep(150 * time.Millisecond)
		assert.Error(t, exec.Command("mountpoint", "-q", filepath.Join(b.dir, "one")).Run())
		require.NoError(t, h.Close())
		_ = exec.Command("partx", "-a", b.loop).Run() // as the kernel does when a card is let go
		time.Sleep(100 * time.Millisecond)
	}
}

func TestAnotherCardUnderTheSameName(t *testing.T) {
	b := newBench(t)
	c := b.find()
	defer testbed.LoopsAlone(t)()
	b.sh("partx -d " + b.loop + "; losetup -d " + b.loop + "; truncate -s 32M other; losetup " + b.loop + " other")
	_, err := c.Claim(context.Background(), card.Freeing{})
	assertRefused(t, err, guard.Changed, "")
	c = b.find()
	b.sh("losetup -d " + b.loop + "; losetup " + b.loop + " other")
	_, err = c.Claim(context.Background(), card.Freeing{})
	assertRefused(t, err, guard.PutInAgain, "") // the kernel's sequence number tells
	b.sh("losetup -d " + b.loop)
	_, err = b.find().Claim(context.Background(), card.Freeing{})
	assertRefused(t, err, guard.Empty, "")
	b.sh("losetup --direct-io=on " + b.loop + " card")
}

func TestThisComputersOwnDisks(t *testing.T) {
	all, err := here.Cards().All()
	require.NoError(t, err)
	for _, c := range all {
		if len(c.Disk.System) == 0 {
			continue
		}
		err := c.Refusal(card.Consent{FixedDisk: true, Asked: true})
		assertRefused(t, err, guard.System, "")
		_, err = c.Claim(context.Background(), card.Freeing{Consent: card.Consent{FixedDisk: true, Asked: true}})
		assert.Error(t, err, c.Path)
	}
}

// TestWhatIsMountedOverIsLeftAlone has the file system of another disk mounted over that of the card.
func TestWhatIsMountedOverIsLeftAlone(t *testing.T) {
	b := newBench(t)
	other := testbed.Loop(t, testbed.Sparse(t, filepath.Join(b.dir, "other"), 8<<20))
	b.sh("mkfs.ext2 -q " + other + "; mkdir one; mount " + b.loop + "p1 one; mount " + other +
		" one; echo tide > one/a")
	point := filepath.Join(b.dir, "one")
	t.Cleanup(func() { _ = exec.Command("umount", point).Run(); _ = exec.Command("umount", point).Run() })
	_, err := b.find().Claim(context.Background(), card.Freeing{Consent: card.Consent{Asked: true}})
	assertRefused(t, err, guard.NotUnmounted, point)
	assert.FileExists(t, filepath.Join(point, "a"), "it is still mounted")
}

// TestBusyPartitionLeavesTheOthersMounted has a program in one of two file systems: neither is unmounted, and that is
// known beforehand.
func TestBusyPartitionLeavesTheOthersMounted(t *testing.T) {
	b := newBench(t)
	b.sh("mkfs.ext2 -q " + b.loop + "p2; mkdir one two; mount " + b.loop + "p1 one; mount " + b.loop + "p2 two")
	one, two := filepath.Join(b.dir, "one"), filepath.Join(b.dir, "two")
	t.Cleanup(func() { _ = exec.Command("umount", one, two).Run() })
	cmd := exec.Command("sleep", "60")
	cmd.Dir = one
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	c := b.find()
	assertRefused(t, c.MayFree(), guard.InUse, one)
	_, err := c.Claim(context.Background(), card.Freeing{Consent: card.Consent{Asked: true}})
	assertRefused(t, err, guard.InUse, one)
	text, err := os.ReadFile("/proc/self/mountinfo")
	require.NoError(t, err)
	assert.Contains(t, string(text), two)
}
