//go:build linux

package e2e

import (
	"bufio"
	"bytes"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
	"zipstamp/internal/testbed"
)

// TestCardThatWasUsedMeanwhileIsNotAccused interrupts a test of an honest card, has something else write to it, and
// carries the test on.
func TestCardThatWasUsedMeanwhileIsNotAccused(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.card("h.card", "--claimed", "128MB", "--write-rate", "60MB/s")
	cmd := d.command("gauge", "whole", "--yes", "h.card")
	require.NoError(t, cmd.Start())
	require.Eventually(t, d.stamped("h.card.data", 100<<20), time.Minute, 20*time.Millisecond)
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	_ = cmd.Wait()
	require.Equal(t, 130, cmd.ProcessState.ExitCode())
	d.want(0, "is empty", "blank", "--yes", "h.card")
	d.change("h.card", 40<<20, "a photo that a camera wrote")
	r := d.want(0, "h.card holds what it claims", "gauge", "whole", "--yes", "h.card")
	assert.Contains(t, plain(r.err), "What it wrote is read first")
}

// TestUnusableDigestIsNothingToCompare is refused before anything is read, also of a pipe.
func TestUnusableDigestIsNothingToCompare(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osGzip)
	d.card("a.card", "--claimed", "64MB")
	before := d.read("a.card.data")
	short := strings.Repeat("a", 63)
	for _, command := range []string{
		"cat " + osGzip + " | %s stamp --yes --digest %s - a.card", "%s stamp --yes --digest %s " + osGzip + " a.card",
	} {
		cmd := exec.Command("sh", "-c", fmt.Sprintf(command, program, short))
		cmd.Dir, cmd.Env = d.dir, d.env
		out, _ := cmd.CombinedOutput()
		assert.Equal(t, 2, cmd.ProcessState.ExitCode(), "%s", out)
		assert.Contains(t, plain(string(out)), "no known digest has 63 hex digits")
	}
	assert.True(t, bytes.Equal(before, d.read("a.card.data")))
}

// TestPlainFilesThatAreNoCards are refused, whatever is said; those that stand for a card are taken.
func TestPlainFilesThatAreNoCards(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, demo.Sums)
	size := 64_000_000
	fill := func(name string, start string) {
		p := bytes.Repeat([]byte("\x07tide"), size/5)
		copy(p, start)
		d.write(name, p[:size/512*512])
	}
	fill("club.db", "SQLite format 3\x00")
	fill("machine.qcow", "QFI\xfb\x00\x00\x00\x03")
	fill("song.bin", "ID3\x04")
	fill("photo.raw", "II*\x00")
	fill("random.bin", "\x91\x82\x73")
	d.write("raw.img", append(unpack, make([]byte, size-len(unpack))...))
	d.write("raw.img.sha256", []byte(strings.Repeat("ab", 32)+"  raw.img\n"))
	for _, name := range []string{"club.db", "machine.qcow", "song.bin", "photo.raw", "random.bin", "raw.img"} {
		before := d.read(name)
		for _, args := range [][]string{
			{"stamp", "--yes", osXZ, name},
			{"blank", "--yes", name},
			{"gauge", "whole", "--yes", name},
			{"gauge", "spots", "--yes", name},
			{"pace", "--yes", name},
		} {
			r := d.zipstamp(args...)
			require.Equal(t, 4, r.status, "%v: %s", args, r.out+r.err)
		}
		require.True(t, bytes.Equal(before, d.read(name)), name)
	}
	d.write("zeros.img", make([]byte, size/512*512))
	d.want(0, "Stamped", "stamp", "--yes", osXZ, "zeros.img")
	d.want(0, "holds what it claims", "gauge", "whole", "--yes", "zeros.img") // it begins with a partition table
	d.want(0, "Stamped", "stamp", "--yes", osXZ, "zeros.img")                 // a receipt knows it as a card
}

// TestReadingACardMakesNothing has cards whose file is not theirs: commands that read neither make it nor make it
// longer, and those that write refuse it.
func TestReadingACardMakesNothing(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, demo.Sums)
	d.write("diary.txt", []byte("low water at noon"))
	for name, backing := range map[string]string{"missing.card": "nothing.data", "diary.card": "diary.txt"} {
		d.write(name, []byte("practice_card = 1\nbacking = \""+backing+"\"\nclaimed = \"64 MB\"\n"))
		for _, args := range [][]string{{"peek", name}, {"recheck", name, osXZ}} {
			r := d.zipstamp(args...)
			assert.NotEqual(t, 0, r.status, "%v: %s", args, r.out)
		}
	}
	d.want(4, "it is not this card's", "stamp", "--yes", osXZ, "diary.card")
	assert.Equal(t, "low water at noon", string(d.read("diary.txt")))
	_, err := os.Stat(d.path("nothing.data"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	d.write("far.card", []byte("practice_card = 1\nbacking = \"../far.data\"\nclaimed = \"64 MB\"\n"))
	d.want(4, "must lie beside that of the card", "stamp", "--yes", osXZ, "far.card")
}

// TestNothingOfTheRunIsTheCard has the image behind the card's loop device, by one and by two of them, and what the
// program keeps on the card.
func TestNothingOfTheRunIsTheCard(t *testing.T) {
	t.Parallel()
	testbed.NeedRoot(t)
	testbed.NeedTool(t, "losetup", "mkfs.ext4", "mount")
	d := newDesk(t)
	img := make([]byte, 64<<20)
	copy(img, unpack)
	d.write("os.img", img)
	loop := testbed.Loop(t, d.path("os.img"))
	d.want(4, "image and card are the same file", "stamp", "--yes", "--unchecked", "os.img", loop)
	require.True(t, bytes.Equal(img, d.read("os.img")))

	// The card's file lies on a file system whose own loop device is kept in the image.
	make := fmt.Sprintf("truncate -s 200M %[1]s/outer.img; mkfs.ext4 -q %[1]s/outer.img; mkdir -p %[1]s/in", d.dir)
	out, err := exec.Command("sh", "-ec", make).CombinedOutput()
	require.NoError(t, err, "%s", out)
	outer := testbed.Loop(t, d.path("outer.img"))
	mount := func(dev, point string) {
		out, err := exec.Command("mount", dev, point).CombinedOutput()
		require.NoError(t, err, "%s", out)
		t.Cleanup(func() { _ = exec.Command("umount", point).Run() })
	}
	mount(outer, d.path("in"))
	testbed.Sparse(t, d.path("in/inner.img"), 64<<20)
	inner := testbed.Loop(t, d.path("in/inner.img"))
	d.want(4, "is the file behind the card", "stamp", "--yes", "--unchecked", "outer.img", inner)

	// What the program keeps lies on the card.
	d.env = append(d.env, "XDG_STATE_HOME="+d.path("in/state"))
	r := d.want(4, "the folder where receipts are kept", "stamp", "--yes", "--unchecked", "os.img", outer)
	assert.Contains(t, plain(r.err), "lies on the card")
	_, err = os.Stat(d.path("in/inner.img"))
	require.NoError(t, err, "it is still mounted")
}

// TestJournalThatIsDamagedAtItsEnd has a wrong bit in its last batch: what is sound is put back, and that something was
// lost is said.
func TestJournalThatIsDamagedAtItsEnd(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.card("a.card", "--claimed", "64MB", "--gone-after", "9MB")
	noise := bytes.Repeat([]byte("water"), 64_000_000/5)
	d.write("a.card.data", noise[:64_000_000/512*512])
	d.want(4, "kept in", "gauge", "spots", "--yes", "a.card")
	d.write("a.card", bytes.Replace(d.read("a.card"), []byte("gone_after"), []byte("# gone_after"), 1))
	names, err := filepath.Glob(d.path("state/zipstamp/journals/*.journal"))
	require.NoError(t, err)
	require.Len(t, names, 1)
	info, err := os.Stat(names[0])
	require.NoError(t, err)
	assert.EqualValues(t, 0o600, info.Mode().Perm())
	text, err := os.ReadFile(names[0])
	require.NoError(t, err)
	text[len(text)-40] ^= 1 // of the last batch
	require.NoError(t, os.WriteFile(names[0], text, 0o600))
	r := d.zipstamp("gauge", "restore", "--yes")
	assert.Contains(t, []int{0, 5}, r.status, r.out+r.err)
	assert.NotContains(t, r.out, "everything was back already")
	after := d.read("a.card.data")
	marks := bytes.Count(after, []byte("SaltMark"))
	if r.status == 0 {
		assert.Zero(t, marks, "nothing of the test is left, where it says that all is back")
	}
}

// TestTestThatRunsKeepsItsJournal has --forget come while the test is at work.
func TestTestThatRunsKeepsItsJournal(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.card("a.card", "--claimed", "64MB", "--write-rate", "4MB/s")
	cmd := d.command("gauge", "spots", "--yes", "a.card")
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return len(d.left("state/zipstamp/journals")) > 0 }, time.Minute,
		10*time.Millisecond)
	require.Eventually(t, func() bool {
		r := d.zipstamp("gauge", "restore", "--list")
		return strings.Contains(r.out, "a.card")
	}, time.Minute, 50*time.Millisecond)
	d.want(4, "the test that saved it still runs", "gauge", "restore", "--forget", "a.card")
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	_ = cmd.Wait()
	assert.Empty(t, d.left("state/zipstamp/journals"), "all was put back")
}

// TestSudoGivesNoRights has a person's home with links and settings that lead to what only root may read or write.
func TestSudoGivesNoRights(t *testing.T) {
	t.Parallel()
	testbed.NeedRoot(t)
	testbed.NeedTool(t, "setpriv")
	d := newDesk(t, osXZ, demo.Sums)
	uid, gid := os.Getenv("ZIPSTAMP_TEST_UID"), "65534"
	if uid == "" {
		uid = "65534" // nobody, whose home is what the password file says
	}
	home := homeOf(t, uid)
	if home == "" || home == "/" {
		t.Skip("the user has no home that a test may use")
	}
	require.NoError(t, os.MkdirAll(filepath.Join(home, ".config/zipstamp"), 0o755))
	t.Cleanup(func() { os.RemoveAll(home) })
	require.NoError(t, os.WriteFile(d.path("secret"), []byte("root only = yes\n"), 0o600))
	require.NoError(t, os.Symlink(d.path("secret"), filepath.Join(home, ".config/zipstamp/config.toml")))
	out, err := exec.Command("chown", "-R", "-h", uid+":"+gid, home).CombinedOutput()
	require.NoError(t, err, "%s", out)
	d.card("a.card", "--claimed", "64MB")
	d.env = append(d.env, "SUDO_UID="+uid, "SUDO_GID="+gid)
	r := d.zipstamp("stamp", "--yes", osXZ, "a.card")
	assert.NotEqual(t, 0, r.status)
	assert.NotContains(t, r.out+r.err, "root only")
	require.NoError(t, os.Remove(filepath.Join(home, ".config/zipstamp/config.toml")))
	// a folder for receipts that belongs to root
	require.NoError(t, os.Mkdir(d.path("roots"), 0o755))
	d.env = append(d.env, "ZIPSTAMP_RECEIPTS="+d.path("roots/below"))
	d.want(1, "the receipt can't be written", "stamp", "--yes", osXZ, "a.card")
	_, err = os.Stat(d.path("roots/below"))
	assert.ErrorIs(t, err, os.ErrNotExist)
	d.want(1, "the receipt can't be written", "stamp", "--yes", "--receipt", d.path("roots/r.json"), osXZ, "a.card")
}

// homeOf is the home of a user, made for the test; empty where it already exists.
func homeOf(t *testing.T, uid string) string {
	out, err := exec.Command("getent", "passwd", uid).Output()
	if err != nil {
		return ""
	}
	fields := strings.Split(strings.TrimSpace(string(out)), ":")
	if len(fields) < 6 {
		return ""
	}
	if _, err := os.Stat(fields[5]); err == nil {
		return ""
	}
	require.NoError(t, os.MkdirAll(fields[5], 0o755))
	return fields[5]
}

// TestEndsThatAreAskedFor has a second signal, SIGQUIT, a pipe that nobody reads to its end, and a pipe in the place of
// a sums file.
func TestEndsThatAreAskedFor(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, demo.Sums)
	d.card("a.card", "--claimed", "64MB", "--write-rate", "5MB/s", "--latency", "20ms")
	cmd := d.command("stamp", "--yes", osXZ, "a.card")
	var errOut bytes.Buffer
	cmd.Stderr = &errOut
	before := d.read("a.card.data")[:512]
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool { return !d.holds("a.card.data", 0, before) }, time.Minute, 10*time.Millisecond)
	require.NoError(t, cmd.Process.Signal(syscall.SIGQUIT))
	_ = cmd.Process.Signal(os.Interrupt)
	_ = cmd.Wait()
	assert.Equal(t, 130, cmd.ProcessState.ExitCode(), errOut.String())
	assert.NotContains(t, errOut.String(), "goroutine")

	d.card("b.card", "--claimed", "64MB")
	d.want(0, "", "gauge", "whole", "--yes", "b.card")
	pipe := exec.Command("sh", "-c", program+" receipts show; echo status $? >&2")
	pipe.Dir, pipe.Env = d.dir, d.env
	read, write, err := os.Pipe()
	require.NoError(t, err)
	read.Close() // nobody reads
	pipe.Stdout = write
	var status bytes.Buffer
	pipe.Stderr = &status
	require.NoError(t, pipe.Run())
	write.Close()
	assert.Equal(t, "status 0\n", status.String())

	require.NoError(t, os.Remove(d.path(demo.Sums)))
	require.NoError(t, syscall.Mkfifo(d.path(demo.Sums), 0o600))
	d.want(0, "Nothing was compared", "check", osXZ)
	d.want(3, "is a pipe, not a file", "check", "--sums", demo.Sums, osXZ)
}

// TestCounterfeitWithRoomForTheImage stamps cards that hold less than they claim, and all of the image: one is found
// out before, also when it has the image already; one only by the marks of the stamp itself.
func TestCounterfeitWithRoomForTheImage(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, demo.Sums)
	d.card("repeats.card", "--claimed", "400MB", "--real", "127MiB", "--beyond", "wrap", "--cache", "4MiB")
	d.card("hides.card", "--claimed", "400MB", "--real", "127MiB", "--beyond", "drop", "--cache", "16MiB")
	for _, card := range []string{"repeats.card", "hides.card", "repeats.card"} {
		d.want(6, card+" is counterfeit: saltmarsh-os.img.xz is on it and read back, but it holds about 1",
			"stamp", "--yes", osXZ, card).mentions(t, "Give it back. Most systems grow into the rest of the card")
		d.want(0, card+" is as it was stamped", "recheck", card, osXZ)
	}
}

// TestMakesNoPromiseBeyondWhatWasTested has parts of a counterfeit tested, which are good.
func TestMakesNoPromiseBeyondWhatWasTested(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.card("liar.card", "--claimed", "256MB", "--real", "60MB", "--beyond", "drop")
	d.want(0, "The first 20.0 MB of liar.card hold what is written", "gauge", "whole", "--yes", "--first", "20MB",
		"liar.card")
	d.want(0, "seems to hold", "gauge", "spots", "--yes", "--first", "20MB", "liar.card")
	list := plain(d.want(0, "", "receipts", "list").out)
	assert.Contains(t, list, "gauge whole liar.card (256 MB): first 20.0 MB good")
	assert.Contains(t, list, "places of the first 20.0 MB")
	assert.NotContains(t, list, "holds what it claims")
	d.want(0, "", "receipts", "export", "a.html", "2")
	assert.Contains(t, string(d.read("a.html")), "The first 20.0 MB of liar.card hold what is written")
	d.want(0, "", "gauge", "whole", "--yes", "--json", "--first", "20MB", "liar.card")
}

// TestFiguresAreOfWhatWasDone interrupts a stamp while it reads back.
func TestFiguresAreOfWhatWasDone(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, demo.Sums)
	d.card("a.card", "--claimed", "256MB", "--read-rate", "6MB/s")
	cmd := d.command("stamp", "--yes", "--no-spots", "--receipt", "r.json", osXZ, "a.card")
	progress, err := cmd.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	begun := regexp.MustCompile(`read back: [1-9]`)
	for lines := bufio.NewScanner(progress); lines.Scan(); {
		if begun.MatchString(lines.Text()) {
			require.NoError(t, cmd.Process.Signal(os.Interrupt))
			break
		}
	}
	_, _ = io.Copy(io.Discard, progress)
	_ = cmd.Wait()
	status := cmd.ProcessState.ExitCode()
	doc := document(t, run{out: string(d.read("r.json")), status: status})
	require.Equal(t, 130, status)
	for _, p := range doc["phases"].([]any) {
		phase := p.(map[string]any)
		if phase["phase"] == "read back" {
			assert.Less(t, phase["bytes"].(float64), 49e6, "not all was read")
			assert.Less(t, phase["rate"].(float64), 9e6, "%v", phase)
		}
	}
}
