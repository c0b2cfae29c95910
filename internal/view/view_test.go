package view

import (
	"bufio"
	"bytes"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os/exec"
	"strings"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/card/guard"
	"zipstamp/internal/gauge"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/meter"
	"zipstamp/internal/shell"
	"zipstamp/internal/stamp"
	"zipstamp/internal/testbed"
)

// TestFoldedTextFitsAndLosesNothing holds for any text and width.
func TestFoldedTextFitsAndLosesNothing(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`([a-zäé漢🌊/-]{1,60}[ \n]?){0,12}`).Draw(t, "text")
		width := rapid.IntRange(20, 100).Draw(t, "width")
		folded := fold(text, width, "")
		for line := range strings.SplitSeq(folded, "\n") {
			if w := ansi.StringWidth(line); w > width && (strings.Contains(line, " ") || !strings.Contains(line, "/")) {
				t.Fatalf("%d cells in %d: %q", w, width, line)
			}
		}
		strip := strings.NewReplacer(" ", "", "\n", "")
		if strip.Replace(folded) != strip.Replace(text) {
			t.Fatalf("%q became %q", text, folded)
		}
	})
	assert.Equal(t, "kept in /media/wren/my card/x\n now", fold("kept in "+oneLine("/media/wren/my card/x")+" now", 30,
		" "),
		"a path stays whole")
	assert.Equal(t, "twelve letters or\n   more are here", fold("twelve letters or more are here", 20, "   "))
	assert.NotContains(t, fold("evil\x1b[2Jname\r\u009b", 80, ""), "\x1b", "a name can't command the terminal")
}

// TestQuotedWordsAreWhatAShellReads asks a real shell.
func TestQuotedWordsAreWhatAShellReads(t *testing.T) {
	testbed.NeedTool(t, "sh")
	for _, word := range []string{
		"", "plain.img", "two words", "it's", `back\slash`, "$HOME", "a;b", "*", "~", "\"q\"", "-x", "new\nline", "é",
	} {
		out, err := exec.Command("sh", "-c", "printf %s "+shell.Quote(word)).Output()
		require.NoError(t, err)
		assert.Equal(t, word, string(out))
	}
	assert.Equal(t, "zipstamp stamp 'my image.xz' /dev/sdb",
		shell.Command("zipstamp", "stamp", "my image.xz", "/dev/sdb"))
}

func TestNumbersForPeople(t *testing.T) {
	for n, want := range map[int64]string{
		0: "0 B", 999: "999 B", 1000: "1.00 kB", 49300480: "49.3 MB", 64e9: "64.0 GB", 2e12: "2.00 TB",
	} {
		assert.Equal(t, want, Bytes(n))
	}
	for d, want := range map[time.Duration]string{
		0: "less than 0.1 s", 400 * time.Millisecond: "0.4 s", 12 * time.Second: "12 s",
		200 * time.Second: "3 min 20 s", 3599*time.Second + 600*time.Millisecond: "1 h 0 min",
		65 * time.Minute: "1 h 5 min", 59*time.Second + 600*time.Millisecond: "1 min 0 s",
	} {
		assert.Equal(t, want, span(d), d)
	}
	assert.Equal(t, "25.5 MB/s", rate(51e6, 2*time.Second))
	assert.Equal(t, "1200 MB/s", rate(12e8, time.Second))
	assert.Equal(t, "- MB/s", rate(5, 0))
	assert.Equal(t, "1 block", Count(1, "block"))
	assert.Equal(t, "1,200 blocks", Count(1200, "block"))
}

func TestProgressFitsAndSaysWhatIsKnown(t *testing.T) {
	now := time.Now()
	r := meter.Reading{Phase: meter.Write, Started: now.Add(-10 * time.Second), Done: 100e6, Total: 400e6}
	assert.Equal(t, "100 MB of 400 MB, 10.0 MB/s, 30 s left", progressText(r, now, 80))
	assert.Equal(t, "25 %, 10.0 MB/s, 30 s left", progressText(r, now, 30))
	assert.Equal(t, "10.0 MB/s, 30 s left", progressText(r, now, 20))
	assert.Equal(t, "30 s left", progressText(r, now, 10))
	r.Total, r.SourceDone, r.SourceTotal = 0, 1, 5
	assert.Equal(t, "100 MB, 20 % of the file, 10.0 MB/s, 40 s left", progressText(r, now, 80))
	r.SourceTotal = 0
	assert.Equal(t, "100 MB, 10.0 MB/s", progressText(r, now, 80), "no guess without a ground")
	for width := range 90 {
		assert.LessOrEqual(t, ansi.StringWidth(progressText(r, now, width)), width)
	}
}

func TestLinesWhereThereIsNoTerminal(t *testing.T) {
	var out bytes.Buffer
	v := NewScreen(Streams{Out: &out, Err: &out})
	assert.False(t, v.Asks())
	var m meter.Meter
	m.Begin(meter.Check, 10)
	progress := v.Follow(Followed{Meter: &m})
	for !m.Read().Started.Before(time.Now().Add(-3 * lookEvery)) {
		time.Sleep(lookEvery)
	}
	m.Add(10)
	m.Begin(meter.Flush, 0)
	m.End()
	progress.Stop()
	assert.Regexp(t, `^check: 0 B of 10 B\ncheck: 10 B in \d+\.\d s, 0\.0 MB/s\n$`, out.String())
}

func TestSentencesOfAStamp(t *testing.T) {
	noTable := stamp.Result{State: stamp.NoTable}
	again := "; the card has no partition table, and can be stamped again."
	eio := &card.IOError{Op: "write", Card: "/dev/sdx", Offset: 8e6, Err: fault.BadPlace}
	for _, c := range []struct {
		result stamp.Result
		err    error
		want   string
	}{
		{
			stamp.Result{State: stamp.Verified, Written: 9},
			nil,
			"Stamped and read back: every block of os.img is on sdx.",
		},
		{
			stamp.Result{State: stamp.Verified, Size: 4e9, Kept: 4e9},
			nil,
			"Nothing had to be written: every block of os.img is on sdx already, and was read back.",
		},
		{
			stamp.Result{State: stamp.Verified, Size: 4.1e9, Written: 312e6, Kept: 4.1e9 - 312e6},
			nil,
			"Stamped and read back: every block of os.img is on sdx. 312 MB of 4.10 GB differed and were written; " +
				"all " +
				"was read back.",
		},
		{
			stamp.Result{State: stamp.Verified, Written: 9 << 20, Repaired: []layout.Extent{{Length: 9 << 20}}},
			nil,
			"Stamped and read back: every block of os.img is on sdx, but 3 blocks had to be written again.",
		},
		{
			stamp.Result{State: stamp.Complete},
			nil,
			"Stamped but not read back: os.img was written to sdx, and nothing shows that the card holds it.",
		},
		{noTable, ErrInterrupted, "Not stamped: it was interrupted" + again},
		{noTable, &card.GoneError{Card: "x", Err: eio}, "Not stamped: sdx was pulled out, or its reader was" + again},
		{noTable, eio, "Not stamped: sdx failed to write at 8.00 MB (input/output error)" + again},
		{
			noTable, &card.IOError{Op: "flush", Err: fault.BadPlace},
			"Not stamped: sdx failed to keep what was written (input/output error)" + again,
		},
		{
			noTable, &card.IOError{Op: "write", Offset: 8e6, Err: fault.Locked},
			"Not stamped: sdx became write-protected at 8.00 MB, as worn-out cards do; the card has no partition " +
				"table.",
		},
		{
			noTable, &card.StuckError{Offset: 64e6, Err: &card.IOError{Op: "write", Err: fault.BadPlace}},
			"Not stamped: from 64.0 MB on, sdx took no writes any more, as worn-out cards do; the card has no " +
				"partition table.",
		},
		{
			noTable, &stamp.ReadBackError{Blocks: 2},
			"Not stamped: 2 blocks of sdx do not read back as they were written" + again,
		},
		{
			noTable, &image.DamageError{Path: "a/os.img", At: 5000, Unpacked: 7e6, Err: errors.New("bad sum")},
			"Not stamped: os.img is damaged near byte 5,000, after 7.00 MB of the image (bad sum)" + again,
		},
		{
			stamp.Result{State: stamp.Uncertain},
			&card.GoneError{},
			"Not stamped: sdx was pulled out, or its reader was; the card may look as if it could start a board, and " +
				"must not be used before it has been stamped again.",
		},
		{
			stamp.Result{State: stamp.Untouched},
			&gauge.TooSmallError{Loss: gauge.Loss{Real: 1e9, Exact: true}, Claimed: 64e9, Need: 2e9},
			"Not stamped: sdx is counterfeit: it holds 1.00 GB of the 64.0 GB that it claims, and the image needs " +
				"2.00 GB; nothing of the image was written, and what is on the card is as it was.",
		},
		{
			stamp.Result{State: stamp.Untouched},
			&gauge.TooSmallError{Loss: gauge.Loss{Exact: true}, Claimed: 64e9, Need: 2e9},
			"Not stamped: sdx is counterfeit: it claims 64.0 GB, and keeps nothing of what is written to it; nothing " +
				"of the image was written, and what is on the card is as it was.",
		},
		{
			stamp.Result{State: stamp.Uncertain},
			&gauge.TooSmallError{Loss: gauge.Loss{Anywhere: true}, Claimed: 64e9, Need: 2e9},
			"Not stamped: sdx is counterfeit: it loses what is written here and there, so it holds less than the " +
				"64.0 GB that it claims; nothing of the image was written, but some of what was on the card could " +
				"not be put back; to try again: zipstamp gauge restore.",
		},
		{
			stamp.Result{State: stamp.Untouched},
			&stamp.TooSmallError{Image: 2e9, Card: 1e9},
			"Not stamped: the image does not fit on sdx: it has 2.00 GB (2,000,000,000 bytes), and the card 1.00 GB " +
				"(1,000,000,000 bytes); nothing was written to the card.",
		},
		{
			stamp.Result{State: stamp.NoTable, Loss: &stamp.Loss{Holds: 8e9}},
			&stamp.ReadBackError{Blocks: 9},
			"Not stamped: sdx does not hold what was written: all beyond about 8.00 GB is lost, so it seems to hold " +
				"less than it claims; the card has no partition table.",
		},
	} {
		assert.Equal(t, c.want, StampSentence("os.img", "sdx", c.result, c.err))
	}
}

func TestProblemsSayWhatAndWhatNext(t *testing.T) {
	again := []string{"./zipstamp", "stamp", "my os.img", "/dev/sdx"}
	for _, c := range []struct {
		err  error
		want string
	}{
		{
			fmt.Errorf("open: %w", &fs.PathError{Op: "open", Path: "os.img", Err: fs.ErrNotExist}),
			"zipstamp: open: there is no file os.img.",
		},
		{
			&card.RefusedError{Card: "/dev/sdx", Why: []guard.Reason{{Cause: guard.NoRights}}, Err: fs.ErrPermission},
			"zipstamp: /dev/sdx is refused: you have no permission to write it. Next: run it with more rights: doas " +
				shell.Quote(program("")) + " stamp 'my os.img' /dev/sdx",
		},
		{
			&image.ChoiceError{Path: "a.zip", Members: []string{"x y.img", "z.img"}},
			"zipstamp: a.zip holds 2 images: x y.img, z.img. Next: choose one: ./zipstamp stamp 'my os.img' /dev/sdx " +
				"--member 'x y.img'",
		},
		{&Hint{errors.New("odd"), "even"}, "zipstamp: odd. Next: even"},
		{ErrInterrupted, "zipstamp: interrupted."},
	} {
		var out bytes.Buffer
		NewScreen(Streams{Out: &out, Err: &out, Here: card.Local{Elevate: []string{"doas"}}}).Problem(c.err, again)
		assert.Equal(t, c.want, strings.Join(strings.Fields(out.String()), " "))
	}
}

func TestAQuestionEndsWithItsContext(t *testing.T) {
	var out bytes.Buffer
	waiting := strings.NewReader("sdx \n")
	v := NewScreen(Streams{Out: &out, Err: &out, In: waiting})
	yes, err := v.Confirm(context.Background(), &card.Card{Name: "sdx", Path: "/dev/sdx"})
	require.NoError(t, err)
	assert.True(t, yes)
	two := []*card.Card{{Name: "sdx", Path: "/dev/sdx"}, {Name: "sdy", Path: "/dev/sdy"}}
	for typed, want := range map[string]bool{
		"SDX\n": true, "/dev/SDX\n": true, "sdy\nsdx\n": true, "sdy\nsdz\nsdx\n": false, "\nsdx\n": false,
		"no\nsdx\n": false,
	} {
		v.typed = bufio.NewReader(strings.NewReader(typed))
		yes, err := v.Confirm(context.Background(), two[0])
		require.NoError(t, err)
		assert.Equal(t, want, yes, "%q", typed)
	}
	for typed, want := range map[string]bool{
		"2\n": true, "sdx sdy\n": true, "1\n2\n": true, "3\n\n": false, "sdx\n\n": false, "yes\ny\n": false,
	} {
		v.typed = bufio.NewReader(strings.NewReader(typed))
		yes, err := v.Confirm(context.Background(), two...)
		require.NoError(t, err)
		assert.Equal(t, want, yes, "%q", typed)
	}
	ctx, cancel := context.WithCancelCause(context.Background())
	cancel(ErrInterrupted)
	v.typed = bufio.NewReader(blocking{})
	_, err = v.Confirm(ctx, &card.Card{Name: "sdx"})
	assert.ErrorIs(t, err, ErrInterrupted)
}

// blocking is a terminal at which nobody types.
type blocking struct{}

func (blocking) Read([]byte) (int, error) { select {} }
