package e2e

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"zipstamp/internal/testbed"

	"github.com/charmbracelet/x/ansi"
	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// fill gives a practice card something to hold.
func (d *desk) fill(name string, size int) [32]byte {
	text := make([]byte, size)
	random := rand.New(rand.NewPCG(1, uint64(size)))
	for i := range text {
		text[i] = byte(random.Uint32())
	}
	d.write(name+".data", text)
	return d.sum(name)
}

// sum is the digest of all that a practice card holds.
func (d *desk) sum(name string) [32]byte { return sha256.Sum256(d.read(name + ".data")) }

// holds tells whether a file has something at an offset.
func (d *desk) holds(name string, off int64, want []byte) bool {
	f, err := os.Open(d.path(name))
	require.NoError(d.t, err)
	defer f.Close()
	at := make([]byte, len(want))
	_, err = f.ReadAt(at, off)
	return err == nil && bytes.Equal(at, want)
}

func TestGaugeTellsGoodCardsFromBad(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.card("good.card", "--claimed", "64MB")
	d.card("wraps.card", "--claimed", "512MB", "--real", "77MB", "--beyond", "wrap")
	d.card("drops.card", "--claimed", "512MB", "--real", "48MB", "--beyond", "drop", "--reads", "ff")
	d.card("ends.card", "--claimed", "512MB", "--real", "48MB", "--beyond", "ends")
	d.card("lazy.card", "--claimed", "512MB", "--real", "48MB", "--beyond", "lazy")
	d.card("fresh.card", "--claimed", "512MB", "--real", "48MB", "--beyond", "lazy")
	d.card("worn.card", "--claimed", "64MB", "--fault", "kind=flip,sector=0,count=3")
	d.card("shaky.card", "--claimed", "64MB", "--fault", "kind=misread,sector=0,times=1")
	d.card("reader.card", "--claimed", "512MB", "--reader-limit", "48MB")
	for _, c := range []struct {
		args   []string
		status int
		says   []string
	}{
		{
			[]string{"spots", "good.card"},
			0,
			[]string{
				"good.card seems to hold what it claims",
				"a card that lacks more than 0.5 % of its size would have been found in 98 of 100 tests",
				"Only gauge whole can find that out",
			},
		},
		{
			[]string{"spots", "wraps.card"},
			6,
			[]string{
				"counterfeit: it holds 77.0 MB of the 512 MB", "overwrites what is there", "76,999,680", "repeats",
				"receipts export",
			},
		},
		{
			[]string{"spots", "drops.card"},
			6,
			[]string{"counterfeit: it holds 48.0 MB of the 512 MB", "is lost", "bytes of 0xFF", "48,000,000"},
		},
		{[]string{"spots", "ends.card"}, 6, []string{"holds 48.0 MB, 24.0 MB at its start and 24.0 MB at its end"}},
		{[]string{"spots", "lazy.card"}, 0, []string{"would pass this test too"}},
		{[]string{"spots", "worn.card"}, 6, []string{"faulty", "3 sectors have wrong bits (3 bits in all)"}},
		{[]string{"spots", "shaky.card", "--places", "50"}, 0, nil}, // the one time was when it was saved
		{
			[]string{"whole", "--yes", "good.card"},
			0,
			[]string{"holds what it claims: all 64.0 MB were written and read back right", "marks met"},
		},
		{[]string{"whole", "--yes", "wraps.card"}, 6, []string{"76,999,680"}},
		{[]string{"whole", "--yes", "fresh.card"}, 6, []string{"counterfeit: it holds 48.0 MB of the 512 MB"}},
		{
			[]string{"whole", "--yes", "--to-the-end", "drops.card"},
			6,
			[]string{"counterfeit: it holds 48.0 MB of the 512 MB"},
		},
		{
			[]string{"whole", "--yes", "--first", "32MB", "drops.card"},
			0,
			[]string{"The first 32.0 MB of drops.card hold what is written", "The other 480 MB were not tested"},
		},
		{[]string{"whole", "--yes", "worn.card"}, 6, []string{"3 sectors have wrong bits"}},
		{[]string{"whole", "--yes", "reader.card"}, 5, []string{"no result beyond 48.0 MB", "another reader"}},
	} {
		r := d.zipstamp(append([]string{"gauge"}, c.args...)...)
		require.Equal(t, c.status, r.status, "%v\n%s", c.args, r.out+r.err)
		for _, s := range c.says {
			assert.Contains(t, plain(r.out), s, "%v", c.args)
		}
	}
	left, err := os.ReadDir(d.path("state/zipstamp"))
	require.NoError(t, err)
	for _, e := range left {
		if e.Name() != "receipts" {
			inside, err := os.ReadDir(d.path("state/zipstamp/" + e.Name()))
			require.NoError(t, err)
			assert.Empty(t, inside, "nothing is left of tests that have ended: %s", e.Name())
		}
	}
}

func TestGaugeKeepsAReceipt(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.card("liar.card", "--claimed", "512MB", "--real", "77MB", "--beyond", "wrap", "--serial", "SW-0003")
	r := d.want(6, "", "gauge", "spots", "--json", "--seed", "42", "liar.card")
	doc := document(t, r)
	assert.Equal(t, "gauge spots", doc["job"])
	assert.Equal(t, "counterfeit", doc["verdict"])
	assert.EqualValues(t, 6, doc["exit"])
	assert.NotContains(t, doc, "image")
	g := doc["gauge"].(map[string]any)
	assert.EqualValues(t, 42, g["seed"])
	assert.EqualValues(t, 76_999_680, g["holds"])
	assert.Equal(t, map[string]any{"repeats": true, "real": 76999680.0, "exact": true}, g["loss"])
	assert.Len(t, g["nonce"], 32)
	assert.NotEmpty(t, g["reads"].(map[string]any)["histogram"])
	tried := g["tried"].(float64)
	assert.Greater(t, tried, 800.0)
	assert.Less(t, tried, g["writes"].(map[string]any)["count"].(float64),
		"they are written twice: to try them, and to put back what was there")
	files, err := filepath.Glob(d.path("state/zipstamp/receipts/*gauge-spots-liar.card.json"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	text, err := os.ReadFile(files[0])
	require.NoError(t, err)
	assert.JSONEq(t, r.out, string(text))
	d.want(0, "Exported", "receipts", "export", "liar.html", files[0])
	assert.Contains(t, string(d.read("liar.html")),
		fmt.Sprintf("%.0f places all over the card were chosen", tried))
	d.want(0, "", "gauge", "whole", "--yes", "--first", "16MB", "--receipt", "mine.json", "liar.card")
	var mine map[string]any
	require.NoError(t, json.Unmarshal(d.read("mine.json"), &mine))
	assert.NotEmpty(t, mine["speed"].(map[string]any)["write"])
}

// TestKilledSpotsAreRestored kills a test at a hundred moments, and has what it saved put back.
func TestKilledSpotsAreRestored(t *testing.T) {
	kills := testbed.Trials(6, 102)
	for name, flags := range map[string][]string{
		"honest": {"--claimed", "32MB"},
		"wrap":   {"--claimed", "320MB", "--real", "23MB", "--beyond", "wrap"},
		"drop":   {"--claimed", "320MB", "--real", "23MB", "--beyond", "drop", "--reads", "noise"},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			d := newDesk(t)
			d.card("a.card", append(flags, "--latency", "50us")...)
			size := 32_000_000
			if name != "honest" {
				size = 23_000_000 / 512 * 512
			}
			before := d.fill("a.card", size)
			random := rand.New(rand.NewPCG(7, uint64(size)))
			restored := 0
			for i := 0; i < kills/3 || restored == 0 && i < 10*kills; i++ { // later and later where all came too early
				cmd := d.command("gauge", "spots", "--places", "200", "a.card")
				require.NoError(t, cmd.Start())
				time.Sleep(time.Duration(random.Int64N(int64(350*time.Millisecond) * int64(1+i/(kills/3)))))
				require.NoError(t, cmd.Process.Kill())
				_ = cmd.Wait() // it was killed, or had ended
				r := d.want(0, "", "gauge", "restore")
				if strings.Contains(r.out, "put back") {
					restored++
				}
				require.Equal(t, before, d.sum("a.card"), "%s", r.out)
			}
			assert.Positive(t, restored)
			d.want(0, "There is nothing to put back", "gauge", "restore", "--list")
		})
	}
}

// TestNextCommandSeesToWhatIsPending runs other commands on a card of which a test was killed.
func TestNextCommandSeesToWhatIsPending(t *testing.T) {
	t.Parallel()
	d := newDesk(t, "saltmarsh-os.img.xz", "SHA256SUMS")
	d.card("a.card", "--claimed", "64MB")
	before := d.fill("a.card", 64_000_000)
	good := d.read("a.card")
	kill := func() {
		t.Helper()
		d.write("a.card", append(bytes.Clone(good), "\nlatency = '200us'\n"...)) // so that it is killed before its end
		defer d.write("a.card", good)
		cmd := d.command("gauge", "spots", "a.card")
		require.NoError(t, cmd.Start())
		require.Eventually(t, d.stamped("a.card.data", 0), time.Minute, 10*time.Millisecond)
		require.NoError(t, cmd.Process.Kill())
		_ = cmd.Wait()
	}
	kill()
	r := d.want(0, "A test was interrupted, and what it had saved has not been put back yet", "gauge", "restore",
		"--list")
	assert.Contains(t, r.out, "a.card")
	// Another card of the same size is not taken for it.
	d.card("b.card", "--claimed", "64MB")
	d.want(0, "There is nothing to put back", "gauge", "restore", "b.card")
	d.want(0, "An earlier test of a.card was interrupted: put back", "gauge", "spots", "a.card")
	assert.Equal(t, before, d.sum("a.card"))

	kill()
	asKilled := d.sum("a.card")
	for says, args := range map[string][]string{
		"would be put back": {"gauge", "restore", "--dry-run"},
		"would be deleted":  {"gauge", "restore", "--forget", "--dry-run", "a.card"},
	} {
		d.want(0, says, args...).mentions(t, "Nothing was written: this was a dry run.")
		assert.Equal(t, asKilled, d.sum("a.card"))
		assert.NotEmpty(t, d.left("state/zipstamp/journals"))
	}
	r = d.want(0, "put back", "gauge", "restore", "a.card")
	assert.Contains(t, r.out, "begun on")
	assert.Equal(t, before, d.sum("a.card"))

	// What the card doesn't take stays saved, for another reader.
	kill()
	broken := func(kind string) {
		d.write("a.card", append(bytes.Clone(good), "\n[[fault]]\nkind = '"+kind+"'\n"...))
	}
	broken("write")
	doc := document(t, d.want(5, "", "gauge", "restore", "--json", "a.card"))
	kept := doc["kept"].([]any)[0].(map[string]any)
	assert.Contains(t, kept["error"], "1 did not take it, and what belongs there stays saved")
	assert.Equal(t, float64(5), doc["exit"])
	broken("read")
	r = d.want(5, "8 sectors to be put back can't be read; what belongs there stays saved", "gauge", "restore",
		"a.card")
	r.mentions(t, "try it in another reader")
	broken("write")
	d.want(0, "has not been put back yet", "gauge", "restore", "--list")
	d.want(6, "1 did not take it", "gauge", "spots", "a.card")
	d.write("a.card", good)
	doc = document(t, d.want(0, "", "gauge", "restore", "--json"))
	assert.Contains(t, doc["kept"].([]any)[0].(map[string]any)["fate"], "put back")
	assert.Equal(t, before, d.sum("a.card"))

	kill()
	d.want(0, "The saved data is deleted when the card is overwritten", "stamp", "--yes", "saltmarsh-os.img.xz",
		"a.card")
	d.want(0, "There is nothing to put back", "gauge", "restore")

	kill()
	d.write("a.card.data", bytes.Repeat([]byte("tide"), 16_000_000)) // something else was written since
	d.want(4, "nothing on it shows that it is the card that was tested", "gauge", "restore")
	assert.Equal(t, sha256.Sum256(bytes.Repeat([]byte("tide"), 16_000_000)), d.sum("a.card"))
	d.want(0, "deleted", "gauge", "restore", "--forget", "a.card")
	d.want(0, "There is nothing to put back", "gauge", "restore")
}

// TestShakyCardIsPutRightInAnotherReader has a card, or a reader, of which every third write fails: what could not be
// put back stays saved.
func TestShakyCardIsPutRightInAnotherReader(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.card("a.card", "--claimed", "64MB")
	before := d.fill("a.card", 64_000_000)
	good := d.read("a.card")
	d.write("a.card", append(bytes.Clone(good), "\n[[fault]]\nkind = 'write'\ncount = 125000\nchance = 0.3\n"...))
	r := d.want(6, "Some of what was on the card could not be put back", "gauge", "spots", "a.card")
	r.mentions(t, "a.card is faulty", "after what was there had been written back", "zipstamp gauge restore")
	assert.NotEqual(t, before, d.sum("a.card"))
	d.write("a.card", good)
	d.want(0, "put back", "gauge", "restore")
	assert.Equal(t, before, d.sum("a.card"))
}

// TestGaugeAsksBeforeWhatIsLost has the card's name typed before its contents are lost, and offers what an interrupted
// test had saved.
func TestGaugeAsksBeforeWhatIsLost(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.card("a.card", "--claimed", "64MB", "--latency", "200us")
	before := d.fill("a.card", 64_000_000)
	for _, args := range [][]string{{"gauge", "whole", "a.card"}, {"blank", "--label", "tides", "a.card"}} {
		r := d.typed(60, "no\n", args...)
		assert.Equal(t, 4, r.status, r.out)
		assert.Contains(t, plain(r.out), "All that is on a.card will be overwritten")
		assert.Contains(t, plain(r.out), "its name was not typed")
		assert.Equal(t, before, d.sum("a.card"))
	}
	r := d.typed(60, "a.card\n", "blank", "--label", "tides", "a.card")
	assert.Zero(t, r.status, r.out)
	assert.Contains(t, plain(r.out), "it becomes a FAT32 card with nothing on it, named TIDES")
	r = d.typed(40, "a.card\n", "gauge", "whole", "--first", "8MB", "a.card")
	assert.Zero(t, r.status, r.out)
	assert.Contains(t, plain(r.out), "every block is written and read back")

	before = d.fill("a.card", 64_000_000)
	cmd := d.command("gauge", "spots", "a.card")
	require.NoError(t, cmd.Start())
	require.Eventually(t, d.stamped("a.card.data", 0), time.Minute, 10*time.Millisecond)
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait() // it was killed
	out := d.answers(t, []string{"Put it back first?", "yes\n", "anything else to leave", "no\n"}, "gauge", "whole",
		"a.card")
	assert.Contains(t, out, "what it had saved of the card has not been put back")
	assert.Contains(t, out, "put back")
	assert.Equal(t, before, d.sum("a.card"))
	d.want(0, "There is nothing to put back", "gauge", "restore", "--list")
}

// answers runs the program on a terminal, and types each answer when its question has been seen.
func (d *desk) answers(t *testing.T, dialogue []string, args ...string) string {
	t.Helper()
	cmd := d.command(args...)
	terminal, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 40, Cols: 100})
	require.NoError(t, err)
	defer terminal.Close()
	var seen bytes.Buffer
	buf := make([]byte, 4096)
	for {
		n, err := terminal.Read(buf)
		seen.Write(buf[:n])
		if len(dialogue) > 0 && strings.Contains(plain(ansi.Strip(seen.String())), dialogue[0]) {
			_, err := terminal.WriteString(dialogue[1])
			require.NoError(t, err)
			dialogue = dialogue[2:]
		}
		if err != nil {
			break
		}
	}
	_ = cmd.Wait() // what it says tells
	require.Empty(t, dialogue, seen.String())
	return plain(ansi.Strip(seen.String()))
}

// TestClosedTerminalPutsBack ends a test, and a measurement, as a terminal does that is closed, and as a person does:
// all is put back.
func TestClosedTerminalPutsBack(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.card("a.card", "--claimed", "64MB", "--latency", "200us")
	before := d.fill("a.card", 64_000_000)
	for _, signal := range []os.Signal{syscall.SIGHUP, syscall.SIGINT, syscall.SIGTERM} {
		cmd := d.command("gauge", "spots", "a.card")
		require.NoError(t, cmd.Start())
		require.Eventually(t, d.stamped("a.card.data", 0), time.Minute, 10*time.Millisecond)
		require.NoError(t, cmd.Process.Signal(signal))
		_ = cmd.Wait() // the status tells
		assert.Equal(t, 130, cmd.ProcessState.ExitCode(), signal)
		assert.Equal(t, before, d.sum("a.card"), signal)
	}
	cmd := d.command("pace", "a.card")
	require.NoError(t, cmd.Start())
	time.Sleep(time.Second)
	require.NoError(t, cmd.Process.Kill())
	_ = cmd.Wait() // it was killed
	assert.Equal(t, before, d.sum("a.card"), "pace writes what is there")
	d.want(0, "There is nothing to put back", "gauge", "restore", "--list")
}

// interrupt starts the program, and sends SIGINT as soon as something is so.
func (d *desk) interrupt(when func() bool, args ...string) run {
	d.t.Helper()
	cmd := d.command(args...)
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(d.t, cmd.Start())
	require.Eventually(d.t, when, time.Minute, 10*time.Millisecond)
	require.NoError(d.t, cmd.Process.Signal(syscall.SIGINT))
	_ = cmd.Wait() // its status is in the result
	return run{cmd.ProcessState.ExitCode(), out.String(), ""}
}

// stamped tells whether a file has a sector stamp at an offset.
func (d *desk) stamped(name string, off int64) func() bool {
	return func() bool { return d.holds(name, off, []byte("SaltMark")) }
}

// TestInterruptedWholeIsCarriedOn sends SIGINT while it writes, and while it reads.
func TestInterruptedWholeIsCarriedOn(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.card("a.card", "--claimed", "128MB", "--write-rate", "60MB/s", "--read-rate", "60MB/s")
	interrupt := func(when func() bool, args ...string) run {
		return d.interrupt(when, append([]string{"gauge", "whole", "--yes"}, args...)...)
	}
	written := d.stamped("a.card.data", 40<<20) // beyond what is written before the first look back
	empty := func() { d.write("a.card.data", make([]byte, 128_000_000)) }
	r := interrupt(written, "a.card")
	assert.Equal(t, 130, r.status, r.out)
	assert.Contains(t, plain(r.out), "was interrupted, and came to no result")
	assert.Contains(t, plain(r.out), "can be carried on")
	start := time.Now()
	// while it reads, unless this computer is slow
	r = interrupt(func() bool { return time.Since(start) > 2600*time.Millisecond }, "a.card")
	assert.Equal(t, 130, r.status, r.out)
	assert.Contains(t, plain(r.out), "it is carried on from")
	again := d.want(0, "it is carried on from", "gauge", "whole", "--yes", "a.card")
	assert.Contains(t, plain(again.out), "holds what it claims")
	assert.NotContains(t, d.want(0, "", "gauge", "whole", "--yes", "--first", "20MB", "a.card").err, "carried on")

	empty()
	interrupt(written, "a.card")
	d.want(0, "this one starts over", "gauge", "whole", "--yes", "--afresh", "--first", "20MB", "a.card")
	empty()
	interrupt(written, "a.card")
	empty()
	d.want(0, "no longer holds what that test wrote", "gauge", "whole", "--yes", "--first", "20MB", "a.card")
	// What is kept can be of another version, or damaged.
	d.write("state/zipstamp/tests/a.card-00.progress.json", []byte(`{"gauge_progress": 9}`))
	d.write("state/zipstamp/tests/b.card-00.progress.json", []byte(`{"gauge_pro`))
	r = d.want(0, "of another version of zipstamp", "gauge", "whole", "--yes", "--first", "20MB", "a.card")
	assert.Contains(t, plain(r.err), "damaged")
}

func TestGaugeRefusesWhatMakesNoSense(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	d.card("a.card", "--claimed", "64MB")
	d.card("locked.card", "--claimed", "64MB", "--read-only")
	d.card("dies.card", "--claimed", "64MB", "--gone-after", "20MB")
	d.card("ends.card", "--claimed", "64MB", "--read-only-after", "20MB")
	d.write("notes.txt", []byte("#!/bin/sh\nlow water at noon\n"))
	d.write("a-file", nil)
	for _, c := range []struct {
		status int
		says   string
		args   []string
	}{
		{2, "claims only 64.0 MB", []string{"whole", "--yes", "--first", "65MB", "a.card"}},
		{2, "it must be at least one block", []string{"whole", "--yes", "--first", "1MB", "a.card"}},
		{2, "is not a size such as 64MB", []string{"whole", "--yes", "--first", "much", "a.card"}},
		{2, "it must be from 1 to", []string{"spots", "--places", "-3", "a.card"}},
		{2, "it must be from 1 to", []string{"spots", "--places", "0", "a.card"}},
		{2, "no card was named", []string{"spots"}},
		{2, "must be named", []string{"whole", "--yes"}},
		{4, "no terminal to ask whether", []string{"whole", "a.card"}},
		{4, "write-protected", []string{"spots", "locked.card"}},
		{4, "write-protected", []string{"whole", "--yes", "locked.card"}},
		{4, "there is no such card", []string{"spots", "none.card"}},
		{4, "it is a folder", []string{"spots", "."}},
		{4, "it was pulled out", []string{"whole", "--yes", "dies.card"}},
		{5, "came to no result", []string{"whole", "--yes", "ends.card"}},
		{1, "the receipt can't be written", []string{"spots", "--receipt", "a-file/x.json", "a.card"}},
		{4, "is the card", []string{"spots", "--receipt", "a.card", "a.card"}},
		{4, "there is no such folder", []string{"space", "nowhere"}},
		{4, "it is not a folder", []string{"space", "a-file"}},
		{2, "can't be combined", []string{"space", "--keep", "--again", "."}},
		{2, "it must be at least one block", []string{"space", "--fixed-disk", "--first", "1kB", "."}},
		{2, "has no files of an earlier test", []string{"space", "--fixed-disk", "--again", "."}},
		{4, "not on a card", []string{"space", "/proc"}},
	} {
		d.want(c.status, c.says, append([]string{"gauge"}, c.args...)...)
	}
	d.write("zipstamp-space/about.json", []byte("{"))
	d.want(1, "about.json is damaged", "gauge", "space", "--fixed-disk", ".").mentions(t, "--remove")
	d.want(0, "Removed 0 files", "gauge", "space", "--fixed-disk", "--remove", ".")
	assert.NoDirExists(t, d.path("zipstamp-space"))
	if os.Geteuid() == 0 { // the tests' folder is on the computer's own disk
		d.want(4, "--fixed-disk", "gauge", "space", ".")
	}
	// No room for the journal: nothing is started.
	before := d.sum("a.card")
	d.write("state/zipstamp/journals", nil)
	d.want(1, "the data saved by earlier tests can't be read", "gauge", "spots", "a.card")
	assert.Equal(t, before, d.sum("a.card"))
	require.NoError(t, os.Remove(d.path("state/zipstamp/journals")))
	d.write("state/zipstamp/journals/1.journal", []byte("zipstamp journal 9\n"))
	d.want(1, "another version of zipstamp", "gauge", "restore")
	d.want(0, "", "gauge", "spots", "--places", "20", "a.card")
	d.want(0, "deleted", "gauge", "restore", "--forget")
}
