package e2e

import (
	"bytes"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/charmbracelet/x/ansi"
	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
	"zipstamp/internal/testbed"
)

const osXZ, osGzip = demo.XZ, demo.Gzip

func TestDemoRunsFromEndToEnd(t *testing.T) {
	t.Parallel()
	d := newDesk(t)
	r := d.zipstamp("demo", "--whole", "sea")
	require.Zero(t, r.status, "%s%s", r.out, r.err)
	for _, says := range []string{
		"$ zipstamp check --key watchers.pub saltmarsh-os.img.xz",
		"is what was published, and signed by the key that you named (Saltmarsh Watchers)",
		"$ zipstamp peek saltmarsh-os.img.xz", "is an image with 2 partitions, for 64-bit ARM",
		"$ zipstamp check damaged/saltmarsh-os.img.xz", "is not what was published", "(exit status 3)",
		"Stamped and read back: every block of saltmarsh-os.img.xz is on good.card.",
		"but 1 block had to be written again",
		"Not stamped: liar.card is counterfeit: it holds 32.0 MB of the 64.0 MB that it claims", "(exit status 6)",
		"$ zipstamp stamp --yes --receipt . saltmarsh-os.img.xz good.card tired.card liar.card",
		"2 of 3 cards are stamped and read back; liar.card is not.",
		"good.card has 7 files from saltmarsh-boot.zip on one FAT32 file system named SALTBOOT, and every file was " +
			"read back",
		"To try next: cd sea",
	} {
		assert.Contains(t, plain(r.out), says)
	}
	for _, card := range []string{"good", "tired"} {
		assert.True(t, bytes.Equal(unpack, d.read("sea/" + card + ".card.data")[:len(unpack)]), card)
	}
	assert.Contains(t, string(d.read("sea/liar.html")), "it holds 32.0 MB of the 64.0 MB that it claims")
	short := d.want(0, "To try next: zipstamp demo tides cd tides", "demo")
	for _, says := range []string{
		"signed by the key that you named", "Stamped and read back", "it holds 32.0 MB of the 64.0 MB", "to liar.html",
	} {
		assert.Contains(t, plain(short.out), says)
	}
	assert.NotContains(t, short.out, "tired.card.receipt")
	d.want(2, "is not empty", "demo", "sea")
	d.dir = d.path("sea")
	d.want(0, "as in saltmarsh-os.img.gz.sha256, line 1, for the unpacked image", "check", osGzip)
	d.want(0, "Stamped and read back", "stamp", "--yes", osGzip, "good.card")
}

// TestSampleImageIsSound has the reference tools look at what the demo made.
func TestSampleImageIsSound(t *testing.T) {
	t.Parallel()
	testbed.NeedTool(t, "fsck.vfat", "mcopy", "sfdisk", "xz", "gzip", "sha256sum")
	d := newDesk(t, osXZ, osGzip, demo.Files, demo.Sums)
	d.write("disk.img", unpack)
	sh := func(command string) string {
		t.Helper()
		cmd := exec.Command("sh", "-ec", command)
		cmd.Dir = d.dir
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", command, out)
		return string(out)
	}
	sh("xz -t " + osXZ + " && gzip -t " + osGzip + " && sha256sum -c SHA256SUMS && xz -dc " + osXZ +
		" | cmp - disk.img")
	table := sh("sfdisk -d disk.img")
	assert.Contains(t, table, "start=        2048, size=       40960, type=e, bootable")
	assert.Contains(t, table, "start=       43008, size=       53248, type=e")
	for _, at := range []string{"2048", "43008"} {
		sh("dd if=disk.img of=part bs=512 skip=" + at + " count=53248 2>/dev/null; truncate -s $((" + map[string]string{
			"2048": "40960", "43008": "53248",
		}[at] + "*512)) part; fsck.vfat -n part")
	}
	assert.Contains(t, sh("mdir -b -i disk.img@@1M ::/overlays"), "tide.dtb")
	assert.Contains(t, sh("mcopy -n -i disk.img@@21M ::/tides/2026-02.csv - "), "2026-02-28T23:50,")
}

// state is what the card's file holds, to see that a refusal changed nothing.
func (d *desk) state(name string) string {
	text, err := os.ReadFile(d.path(name))
	if err != nil {
		return err.Error()
	}
	return string(text)
}

func TestBadInputIsRefusedBeforeTheCardIsTouched(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, osGzip, demo.Sums)
	d.card("a.card", "--claimed", "64MB")
	d.card("small.card", "--claimed", "16MB")
	d.card("locked.card", "--claimed", "64MB", "--read-only")
	whole := d.read(osXZ)
	flipped := bytes.Clone(whole)
	flipped[len(flipped)/2] ^= 1
	d.write("alone/os.img.xz", whole)
	d.write("empty.img", nil)
	d.write("page.img.xz", []byte("<!doctype html><html><body>Your download will start soon"))
	d.write("cut.img.xz", whole[:len(whole)*3/4])
	d.write("flipped.img.xz", flipped)
	d.write("other/SHA256SUMS", []byte(strings.Repeat("0", 64)+"  something-else.img\n"))
	d.write("other/"+osXZ, whole)
	d.write("folder/file", nil)
	d.write("config/zipstamp/config.toml", nil)
	require.NoError(t, os.Symlink(os.DevNull, d.path("link-to-null")))
	require.NoError(t, os.Symlink("small.card", d.path("link-to-small")))
	for _, name := range []string{"flipped.img.xz", "cut.img.xz"} {
		d.write(name+".sha256", []byte(strings.Repeat("1", 64)+"\n"))
	}
	before := d.state("a.card.data")
	stamp := func(args ...string) []string { return append([]string{"stamp", "--yes", "--unchecked"}, args...) }
	for _, c := range []struct {
		status int
		says   string
		args   []string
	}{
		{2, "there is no file none.img", stamp("none.img", "a.card")},
		{2, "folder is a folder", stamp("folder", "a.card")},
		{3, "empty.img is empty", stamp("empty.img", "a.card")},
		{3, "page.img.xz is a web page, not an image", stamp("page.img.xz", "a.card")},
		{3, "cut.img.xz is cut short", stamp("cut.img.xz", "a.card")},
		{
			3, "SHA256SUMS does not name saltmarsh-os.img.xz (line 1: \"something-else.img\")",
			stamp("other/"+osXZ, "a.card"),
		},
		{3, "damaged near byte", stamp("flipped.img.xz", "a.card")},
		{
			3, "SHA256SUMS does not name flipped.img.xz (line 1: \"saltmarsh-os.img.xz\"",
			stamp("--sums", "SHA256SUMS", "flipped.img.xz", "a.card"),
		},
		{2, "no known digest has 63 hex digits", stamp("--digest", strings.Repeat("1", 63), osXZ, "a.card")},
		{2, "there is no file no.sums", stamp("--sums", "no.sums", osXZ, "a.card")},
		{3, "is not what was published: its SHA-1 differs", stamp("--digest", strings.Repeat("1", 40), osXZ, "a.card")},
		{3, "leave --member out", stamp("--member", "x", osXZ, "a.card")},
		{4, "there is no such card", stamp(osXZ, "none.card")},
		{4, "it is a folder", stamp(osXZ, "folder")},
		{4, "it is a character device", stamp(osXZ, os.DevNull)},
		{4, "link-to-null is refused: it is a character device", stamp(osXZ, "link-to-null")},
		{
			4,
			"the image does not fit on the card: it has 49.3 MB (49,300,480 bytes), and the card 16.0 MB (16,000,000 " +
				"bytes)", stamp(osXZ, "small.card"),
		},
		{
			4,
			"the image does not fit on the card: it has 49.3 MB (49,300,480 bytes), and the card 16.0 MB (16,000,000 " +
				"bytes)", stamp(osXZ, "link-to-small"),
		},
		{4, "it is write-protected", stamp(osXZ, "locked.card")},
		{4, "it is packed as gzip, so it is not a file that stands for a card", stamp(osXZ, osGzip)},
		{4, "it is text, not a file that stands for a card", stamp(osXZ, "SHA256SUMS")},
		{4, "image and card are the same file", stamp(osXZ, osXZ)},
		{4, "there is no terminal to ask whether", []string{"stamp", osXZ, "a.card"}},
		{
			3, "no published digest of os.img.xz was found",
			[]string{"stamp", "--yes", "alone/os.img.xz", "a.card"},
		},
		{1, "the receipt can't be written, so nothing was started", stamp("--receipt", "none/r.json", osXZ, "a.card")},
		{4, "the place for the receipt (a.card) is the card itself", stamp("--receipt", "a.card", osXZ, "a.card")},
		{1, "is the image", stamp("--receipt", osXZ, osXZ, "a.card")},
		{1, "only a receipt is replaced", stamp("--receipt", "SHA256SUMS", osXZ, "a.card")},
		{2, "--repairs is 101; it must be from 0 to 100", stamp("--repairs", "101", osXZ, "a.card")},
		{2, "has no flag --fast", stamp("--fast", osXZ, "a.card")},
		{2, "--repairs takes a whole number", stamp("--repairs=x", osXZ, "a.card")},
		{2, "--write-all takes no value", stamp("--write-all=perhaps", osXZ, "a.card")},
		{2, "zipstamp stamp needs an image; none was given", stamp()},
		{2, "with --yes nothing is asked, so the card must be named", stamp(osXZ)},
		{2, "no card was named, and there is no terminal", []string{"stamp", osXZ}},
		{2, "a.card is named twice", stamp(osXZ, "a.card", "./a.card")},
		{
			2, "--receipt gives one file, but there are several cards",
			stamp("--receipt", "r.json", osXZ, "a.card", "b.card"),
		},
		{2, "--arrive is 99; it must be from 1 to 16", stamp(osXZ, "--arrive", "99")},
		{4, "there is no card with the label NOWHERE", stamp(osXZ, "label:NOWHERE")},
		{4, "there is no card with the serial number 0000-none", stamp(osXZ, "serial:0000-none")},
		{2, `has no command "write"`, []string{"write"}},
		{2, "--claimed is missing", []string{"practice", "new", "x.card"}},
		{2, "already exists", []string{"practice", "new", "a.card", "--claimed", "1MB"}},
		{2, "less than a sector of 512 bytes", []string{"practice", "new", "x.card", "--claimed", "500"}},
		{2, `"soft" is not a size`, []string{"practice", "new", "x.card", "--claimed", "soft"}},
		{2, `kind "bent"`, []string{"practice", "new", "x.card", "--claimed", "1MB", "--fault", "kind=bent,sector=1"}},
		{2, "sector= is missing", []string{"practice", "new", "x.card", "--claimed", "1MB", "--fault", "kind=flip"}},
	} {
		r := d.want(c.status, c.says, c.args...)
		assert.Empty(t, strings.Contains(r.err, "panic"), r.err)
		require.Equal(t, before, d.state("a.card.data"), "%v changed the card", c.args)
		r = d.zipstamp(append(c.args, "--json")...)
		require.Equal(t, c.status, r.status)
		require.EqualValues(t, c.status, document(t, r)["exit"], "%v", c.args)
	}
	_, err := os.Stat(d.path("x.card"))
	assert.ErrorIs(t, err, os.ErrNotExist, "a practice card that was refused is not there")
	left, err := filepath.Glob(d.path("state/zipstamp/receipts/*"))
	require.NoError(t, err)
	assert.Empty(t, left, "no receipt of what was not begun")
}

// TestReceiptsFollowTheSchema has every way in which a stamp can end.
func TestReceiptsFollowTheSchema(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, osGzip, demo.Sums)
	flipped := d.read(osGzip)
	flipped[len(flipped)/2] ^= 1
	d.write("alone/flipped.img.gz", flipped)
	d.write("alone/unchecked.img.gz", d.read(osGzip))
	alike := map[string]bool{ // each is like another one
		"not read": true, "liar, later": true, "pulled, 2": true, "unchecked": true,
		"write error": true,
	}
	for name, c := range map[string]struct {
		status  int
		verdict string
		state   string
		card    []string
		stamp   []string
		says    string
	}{
		"good": {0, "good", "read back right", nil, []string{osXZ}, "Stamped and read back: every block"},
		"not read": {
			0, "not read back", "written", nil, []string{"--no-read-back", osXZ}, "Stamped but not read back",
		},
		// with --no-spots where a fault counts its writes: a place that is tried may be the faulty one
		"repaired": {
			0, "good", "read back right",
			[]string{"--fault", "kind=flip,sector=9000,times=1"},
			[]string{"--no-spots", osXZ},
			"1 block had to be written again",
		},
		"bad block": {
			5, "failed", "no table",
			[]string{"--fault", "kind=flip,sector=9000"},
			[]string{"--repairs", "1", "--no-spots", osXZ},
			"a block of x.card does not read back",
		},
		"liar": {
			6, "failed", "untouched",
			[]string{"--real", "10MB", "--beyond", "drop", "--reads", "ff"},
			[]string{osXZ},
			"and the image needs 49.3 MB",
		},
		"liar, later": {
			5, "failed", "no table",
			[]string{"--real", "10MB", "--beyond", "drop", "--reads", "ff"},
			[]string{"--no-spots", osXZ},
			"all beyond about",
		},
		"liar, large": {
			6, "counterfeit", "read back right",
			[]string{"--real", "55MB", "--beyond", "wrap"},
			[]string{osXZ},
			"The image fits",
		},
		"pulled out": {
			4, "failed", "no table", []string{"--gone-after", "40MB"}, []string{osXZ}, "x.card was pulled out",
		},
		"pulled, 2": {
			4, "failed", "no table", []string{"--gone-after", "100MB"}, []string{osXZ}, "x.card was pulled out",
		},
		"locks up": {
			5, "failed", "no table", []string{"--read-only-after", "20MB"}, []string{osXZ}, "became write-protected",
		},
		"damaged": {
			3, "failed", "no table", nil, []string{"--unchecked", "alone/flipped.img.gz"}, "is damaged near byte",
		},
		"unchecked": {
			0, "good", "read back right", nil,
			[]string{"--unchecked", "alone/unchecked.img.gz"},
			"no published digest was found",
		},
		"write error": {
			0, "good", "read back right",
			[]string{"--fault", "kind=write,sector=9000,times=4"},
			[]string{"--no-spots", osXZ},
			"1 block had to be written again",
		},
		"forgiven": {
			0, "good", "read back right",
			[]string{"--fault", "kind=write,sector=9000,times=3"},
			[]string{"--no-spots", osXZ},
			"failed 3 times to write at byte 4,194,304",
		},
		"reset": {
			0, "good", "read back right",
			[]string{"--resets-after", "40MB"},
			[]string{osXZ},
			"it was gone for a moment, then came back as x.card",
		},
	} {
		if alike[name] && !testbed.Long() {
			continue
		}
		card := append([]string{"--claimed", "64MB", "--model", "Brindle Club", "--serial", "SW-7"}, c.card...)
		for _, f := range []string{"x.card", "x.card.data", "r.json"} {
			os.Remove(d.path(f))
		}
		d.card("x.card", card...)
		args := append([]string{"stamp", "--yes", "--write-all", "--receipt", "r.json"}, c.stamp...)
		d.want(c.status, c.says, append(args, "x.card")...)
		doc := document(t, run{out: string(d.read("r.json")), status: c.status})
		assert.Equal(t, c.verdict, doc["verdict"], name)
		assert.Equal(t, c.state, doc["card"].(map[string]any)["state"], name)
		assert.EqualValues(t, c.status, doc["exit"], name)
		assert.Equal(t, "9.8.7-test", doc["tool"].(map[string]any)["version"], name)
		if c.verdict == "good" {
			var phases []any
			for _, p := range doc["phases"].([]any) {
				phases = append(phases, p.(map[string]any)["phase"])
			}
			assert.Equal(t, "check", phases[0], "%s, be it for its size alone", name)
			assert.Contains(t, phases, "read back", name)
		}
		if c.status == 0 {
			data := d.read("x.card.data")
			assert.True(t, bytes.Equal(unpack, data[:len(unpack)]), name)
		}
		if name == "repaired" || testbed.Long() {
			r := d.zipstamp(append(append(args, "--json"), "x.card")...)
			document(t, r)
			require.Equal(t, d.read("r.json"), []byte(r.out), "the same document is printed: %s", name)
		}
	}
}

func TestReceiptsAndSettingsHaveTheirPlaces(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, demo.Sums)
	d.card("x.card", "--claimed", "64MB", "--fault", "kind=flip,sector=9000,times=2")
	receipts := func(folder string) int {
		found, err := filepath.Glob(filepath.Join(folder, "*-stamp-x.card*.json"))
		require.NoError(t, err)
		return len(found)
	}
	stamp := func(flags ...string) []string {
		return append(append([]string{"stamp", "--yes"}, flags...), osXZ, "x.card")
	}
	d.want(0, "Stamped and read back", stamp()...)
	d.want(0, "Stamped and read back", stamp()...)
	assert.Equal(t, 2, receipts(d.path("state/zipstamp/receipts")))

	d.write("config/zipstamp/config.toml",
		[]byte("read_back = false\nrepairs = 1\nreceipts = '"+d.path("elsewhere")+"'\n"))
	d.want(0, "Stamped but not read back", stamp()...)
	assert.Equal(t, 1, receipts(d.path("elsewhere")))
	d.want(5, "a block of x.card does not read back", stamp("--no-read-back=false")...)
	d.env = append(d.env, "ZIPSTAMP_READ_BACK=true", "ZIPSTAMP_REPAIRS=2", "ZIPSTAMP_RECEIPTS="+d.path("third"))
	d.want(0, "1 block had to be written again", stamp()...)
	assert.Equal(t, 1, receipts(d.path("third")))
	d.want(5, "a block of x.card does not read back", stamp("--repairs", "0")...)
	d.want(0, "Stamped but not read back", stamp("--no-read-back")...)

	d.write("config/zipstamp/config.toml", []byte("repairs = 1\nspeed = 11\n"))
	d.want(2, "speed", stamp()...)
	d.write("config/zipstamp/config.toml", []byte("repairs = 'many'\n"))
	d.want(2, "config.toml, line 1: repairs must be a whole number", stamp()...)
	d.write("config/zipstamp/config.toml", nil)
	d.env = append(d.env, "ZIPSTAMP_REPAIRS=many")
	d.want(2, `ZIPSTAMP_REPAIRS is "many"`, stamp()...)
}

// typed runs the program on a terminal of the given width, answers its question, and nothing when it is asked again,
// and returns what was shown.
func (d *desk) typed(columns uint16, answer string, args ...string) run {
	d.t.Helper()
	cmd := d.command(args...)
	terminal, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 40, Cols: columns})
	require.NoError(d.t, err)
	defer terminal.Close()
	var seen bytes.Buffer
	asked, again := false, false
	buf := make([]byte, 4096)
	for {
		n, err := terminal.Read(buf)
		seen.Write(buf[:n])
		if !asked && strings.Contains(plain(ansi.Strip(seen.String())), "anything else to leave") {
			asked = true
			_, err := terminal.Write([]byte(answer))
			require.NoError(d.t, err)
		}
		if !again && strings.Contains(plain(ansi.Strip(seen.String())), "That is not") {
			again = true
			_, err := terminal.WriteString("\n")
			require.NoError(d.t, err)
		}
		if err != nil {
			break
		}
	}
	_ = cmd.Wait() // the status tells
	return run{cmd.ProcessState.ExitCode(), ansi.Strip(seen.String()), ""}
}

func TestTheCardsNameMustBeTyped(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ)
	d.card("x.card", "--claimed", "64MB", "--write-rate", "60MB/s")
	before := d.state("x.card.data")
	for _, answer := range []string{"yes\n", "\n", "\x04"} {
		r := d.typed(80, answer, "stamp", osXZ, "x.card")
		require.Equal(t, 4, r.status, r.out)
		assert.Contains(t, plain(r.out), "its name was not typed, so nothing was written")
	}
	r := d.typed(80, "\x03", "stamp", osXZ, "x.card")
	require.Equal(t, 130, r.status, r.out)
	assert.Equal(t, before, d.state("x.card.data"))
	for _, columns := range []uint16{80, 40, 132} {
		r = d.typed(columns, "x.card\n", "stamp", osXZ, "x.card")
		require.Zero(t, r.status, r.out)
		for _, says := range []string{
			"All that is on x.card will be overwritten", "64.0 MB (64,000,000 bytes)", "practice card",
			"nothing shows that it is the one that was published", "Stamped and read back",
		} {
			assert.Contains(t, plain(r.out), says, "%d columns", columns)
		}
	}
}

// TestProgressOnATerminal sees bars where they can be drawn, and lines where they can't.
func TestProgressOnATerminal(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, demo.Sums)
	d.card("x.card", "--claimed", "64MB", "--write-rate", "60MB/s", "--read-rate", "120MB/s")
	env := d.env
	for _, c := range []struct {
		what      string
		env       []string
		has, lack []string
	}{
		{"colours", nil, []string{"━", "─", "\x1b[36m", "write", "read back", " left"}, []string{"write:"}},
		{"NO_COLOR", []string{"NO_COLOR=1"}, []string{"━", "─", "of 49.3 MB"}, []string{"\x1b[36m", "\x1b[1;32m"}},
		{"no UTF-8", []string{"LANG=C", "LC_ALL=C"}, []string{"###", "..."}, []string{"━"}},
		{
			"a dumb terminal",
			[]string{"TERM=dumb"},
			[]string{"write: 0 B of 49.3 MB", "read back: "},
			[]string{"━", "\x1b["},
		},
	} {
		d.env = append(env, c.env...)
		cmd := d.command("stamp", "--yes", "--write-all", osXZ, "x.card")
		terminal, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 40, Cols: 100})
		require.NoError(t, err)
		shown, _ := io.ReadAll(terminal) // ends with an error when the program does
		terminal.Close()
		require.NoError(t, cmd.Wait(), "%s: %s", c.what, shown)
		for _, has := range c.has {
			assert.Contains(t, string(shown), has, c.what)
		}
		for _, lack := range c.lack {
			assert.NotContains(t, string(shown), lack, c.what)
		}
	}
}

func TestSignalsEndAStampInGoodOrder(t *testing.T) {
	t.Parallel()
	for _, signal := range []syscall.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP} {
		d := newDesk(t, osXZ, demo.Sums)
		d.card("x.card", "--claimed", "64MB", "--write-rate", "8MB/s")
		d.write("x.card.data", bytes.Repeat([]byte{0x55, 0xAA}, 32e6))
		cmd := d.command("stamp", "--yes", "--receipt", "r.json", osXZ, "x.card")
		var out bytes.Buffer
		cmd.Stdout = &out
		progress, err := cmd.StderrPipe()
		require.NoError(t, err)
		require.NoError(t, cmd.Start())
		seen := ""
		buf := make([]byte, 256)
		for !strings.Contains(seen, "write:") {
			n, err := progress.Read(buf)
			require.NoError(t, err, seen)
			seen += string(buf[:n])
		}
		time.Sleep(time.Second) // some blocks later
		require.NoError(t, cmd.Process.Signal(signal))
		_ = cmd.Wait() // the status tells
		assert.Equal(t, 130, cmd.ProcessState.ExitCode(), out.String())
		assert.Contains(t, plain(out.String()),
			"Not stamped: it was interrupted; the card has no partition table, and can be stamped again.")
		assert.Equal(t, make([]byte, 512), d.read("x.card.data")[:512])
		assert.Contains(t, string(d.read("r.json")), `"verdict": "interrupted"`)
	}
}

func TestTwoRunsOnOneCard(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, demo.Sums)
	d.card("x.card", "--claimed", "64MB", "--write-rate", "15MB/s")
	first := d.command("stamp", "--yes", osXZ, "x.card")
	progress, err := first.StderrPipe()
	require.NoError(t, err)
	require.NoError(t, first.Start())
	_, err = progress.Read(make([]byte, 1)) // it has the card
	require.NoError(t, err)
	d.want(4, "another program is working on it", "stamp", "--yes", osXZ, "x.card")
	go func() { _, _ = progress.Read(make([]byte, 1<<16)) }()
	require.NoError(t, first.Wait(), "and the first goes on undisturbed")
}

// TestNobodyListening has the reader of progress and result go away, and the disk for the result full.
func TestNobodyListening(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, demo.Sums)
	d.card("x.card", "--claimed", "64MB", "--write-rate", "30MB/s")
	cmd := d.command("stamp", "--yes", osXZ, "x.card")
	r, w, err := os.Pipe()
	require.NoError(t, err)
	cmd.Stdout, cmd.Stderr = w, w
	require.NoError(t, cmd.Start())
	require.NoError(t, w.Close())
	_, err = r.Read(make([]byte, 1))
	require.NoError(t, err)
	require.NoError(t, r.Close())
	_ = cmd.Wait() // the status tells
	assert.Equal(t, 0, cmd.ProcessState.ExitCode(), "who reads only the first lines has what they want")
	assert.True(t, bytes.Equal(unpack, d.read("x.card.data")[:len(unpack)]), "the card was stamped all the same")

	full, err := os.OpenFile("/dev/full", os.O_WRONLY, 0)
	if err != nil {
		t.Skip("there is no /dev/full here")
	}
	defer full.Close()
	cmd = d.command("check", osXZ)
	cmd.Stdout = full
	var says bytes.Buffer
	cmd.Stderr = &says
	_ = cmd.Run() // the status tells
	assert.Equal(t, 1, cmd.ProcessState.ExitCode())
	assert.Contains(t, says.String(), "the result could not be written")
}
