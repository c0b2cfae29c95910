//go:build linux

package lab_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
	"zipstamp/lab"
)

// limit bounds each test, and is there for those that hang: a busy computer takes twice as long as an idle one. Without
// hardware support a guest's processor is 10 to 20 times slower than this computer's.
const limit = 25 * time.Minute

// shelf is what the tests of this package share: the kit, the built program, and an image in a folder that guests see.
type shelf struct {
	kit     *lab.Kit
	program string
	share   string
	img     []byte
	err     error
}

var shared shelf

func TestMain(m *testing.M) {
	if os.Getenv("ZIPSTAMP_LAB") == "" {
		m.Run() // every test skips
		return
	}
	dir, err := os.MkdirTemp("", "zipstamp-lab-")
	if err != nil {
		panic(err)
	}
	shared.err = shared.fill(dir)
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

func (s *shelf) fill(dir string) error {
	cache := os.Getenv("LAB_CACHE")
	if cache == "" {
		base, err := os.UserCacheDir()
		if err != nil {
			return err
		}
		cache = filepath.Join(base, "zipstamp-lab")
	}
	var err error
	if s.kit, err = lab.NewKit(cache); err != nil {
		return err
	}
	s.program, s.share, s.img = filepath.Join(dir, "zipstamp"), filepath.Join(dir, "share"), demo.Image()[:24<<20]
	for to, from := range map[string]string{s.program: "zipstamp", s.program + "-typist": "zipstamp/lab/typist"} {
		build := exec.Command("go", "build", "-ldflags", "-s -w", "-o", to, from)
		build.Env = append(os.Environ(), "CGO_ENABLED=0")
		if err := build.Run(); err != nil {
			return err
		}
	}
	if err := os.Mkdir(s.share, 0o755); err != nil {
		return err
	}
	var b bytes.Buffer
	z := gzip.NewWriter(&b)
	if _, err := z.Write(s.img); err != nil {
		return err
	}
	if err := z.Close(); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(s.share, "os.img.gz"), b.Bytes(), 0o644)
}

// room is a guest, and the test that uses it.
type room struct {
	t   *testing.T
	g   *lab.Guest
	ctx context.Context
}

// enter starts a machine with the program in it.
func enter(t *testing.T, m lab.Machine) *room {
	t.Helper()
	if os.Getenv("ZIPSTAMP_LAB") == "" {
		t.Skip("ZIPSTAMP_LAB is not set: this test starts a machine in QEMU, which lab/README.md describes")
	}
	t.Parallel() // a guest waits for its media most of the time
	require.NoError(t, shared.err)
	m.Kit, m.Share = shared.kit, shared.share
	m.Put = map[string]string{"/bin/zipstamp": shared.program, "/bin/typist": shared.program + "-typist"}
	ctx, cancel := context.WithTimeout(context.Background(), limit)
	t.Cleanup(cancel)
	g, err := m.Start(ctx)
	require.NoError(t, err)
	t.Cleanup(g.Stop)
	return &room{t, g, ctx}
}

// disk makes a file of zeros for a medium.
func disk(t *testing.T, size int64) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "medium")
	require.NoError(t, os.WriteFile(path, nil, 0o644))
	require.NoError(t, os.Truncate(path, size))
	return path
}

// want runs a script, and checks its exit status and parts of what it says, with line breaks undone.
func (r *room) want(status int, script string, says ...string) string {
	r.t.Helper()
	got, said, err := r.g.Run(r.ctx, script)
	require.NoError(r.t, err)
	r.ended(status, got, said, says)
	return said
}

func (r *room) ended(status, got int, said string, says []string) {
	r.t.Helper()
	require.Equal(r.t, status, got, "%s", said)
	plain := strings.Join(strings.Fields(said), " ")
	for _, part := range says {
		require.Contains(r.t, plain, part, "%s", said)
	}
}

// begin runs a script and waits until it has said a text.
func (r *room) begin(script, text string) *lab.Work {
	r.t.Helper()
	w, err := r.g.Begin(script)
	require.NoError(r.t, err)
	require.NoError(r.t, w.Saw(r.ctx, text))
	return w
}

// end waits for the end of a script that was begun, and tells how long that took.
func (r *room) end(w *lab.Work, status int, says ...string) time.Duration {
	r.t.Helper()
	start := time.Now()
	got, said, err := w.End(r.ctx)
	took := time.Since(start)
	require.NoError(r.t, err)
	r.ended(status, got, said, says)
	return took
}

// stampIt leaves the card in, for the next test on it.
const stampIt = "zipstamp stamp --yes --unchecked --no-eject /share/os.img.gz "

// holds checks that a medium holds the image.
func holds(t *testing.T, m *lab.Medium) {
	t.Helper()
	f, err := os.Open(m.File)
	require.NoError(t, err)
	defer f.Close()
	got := make([]byte, len(shared.img))
	_, err = f.ReadAt(got, 0)
	require.NoError(t, err)
	assert.True(t, bytes.Equal(shared.img, got), "the image is on the medium")
}

// hasNoTable checks that nothing starts from a medium.
func hasNoTable(t *testing.T, m *lab.Medium) {
	t.Helper()
	text, err := os.ReadFile(m.File)
	require.NoError(t, err)
	assert.NotEqual(t, []byte{0x55, 0xaa}, text[510:512])
}

// TestGaugeLeavesRealCardsAsTheyWere tests a card in the slot and a stick, pulls the stick out in the middle, and has
// put back what was there. It takes longest, so it comes first.
func TestGaugeLeavesRealCardsAsTheyWere(t *testing.T) {
	slot := &lab.Medium{File: disk(t, 64<<20)}
	stick := &lab.Medium{File: disk(t, 48<<20), Serial: "TS16-77", Reads: 6e6}
	before := map[*lab.Medium][]byte{}
	for i, m := range []*lab.Medium{slot, stick} {
		info, err := os.Stat(m.File)
		require.NoError(t, err)
		before[m] = bytes.Repeat([]byte{byte(i), 'e', 'b', 'b', byte(i + 1), 'f', 'l', 'o'}, int(info.Size()/8))
		require.NoError(t, os.WriteFile(m.File, before[m], 0o644))
	}
	same := func(m *lab.Medium) {
		t.Helper()
		now, err := os.ReadFile(m.File)
		require.NoError(t, err)
		assert.True(t, bytes.Equal(before[m], now), "all is as it was")
	}
	r := enter(t, lab.Machine{SD: slot, USB: []*lab.Medium{stick}})
	r.want(0, "zipstamp gauge spots --places 100 /dev/mmcblk0 && zipstamp gauge spots --places 100 serial:TS16-77",
		"mmcblk0 seems to hold what it claims", "sda seems to hold what it claims")
	same(slot)
	same(stick)
	w := r.begin("zipstamp gauge spots --places 400 /dev/sda", "look: ")
	require.NoError(t, r.g.Pull(r.ctx, stick))
	r.end(w, 4, "came to no result: it was pulled out", "has not been put back", "zipstamp gauge restore")
	require.NoError(t, r.g.Insert(stick))
	r.want(
		0,
		"n=0; until test -b /dev/sda || test $n = 50; do usleep 100000; n=$((n+1)); done; zipstamp gauge restore "+
			"--list && zipstamp gauge restore", "has not been put back yet", "put back",
	)
	same(stick)
	r.want(0,
		"zipstamp blank --yes --no-eject --label EBB /dev/sda && sleep 1 && mkdir -p /media/EBB && mount -t vfat "+
			"/dev/sda1 /media/EBB && zipstamp gauge space --first 8MB /media/EBB && ls /media/EBB | wc -l",
		"sda is empty: one FAT32 file system named EBB", "The free space of /media/EBB holds what is written")
	w = r.begin("zipstamp gauge space /media/EBB", "read back: ")
	require.NoError(t, r.g.Pull(r.ctx, stick))
	r.end(w, 4, "came to no result: it was pulled out")
	require.NoError(t, r.g.Insert(stick))
	r.want(
		0,
		"umount /media/EBB; n=0; until ls /sys/block | grep -q sd || test $n = 50; do usleep 100000; n=$((n+1)); "+
			"done; zipstamp cards", "Found 2 writable cards", "TS16-77",
	)
	// The clock jumps while a test is at work: the times in its receipt are those that passed.
	said := r.want(
		0,
		"(sleep 2; date -s 2020-01-01 >/dev/null) & zipstamp gauge whole --yes --first 16MB --receipt "+
			"/tmp/whole.json serial:TS16-77 && date +%Y && cat /tmp/whole.json", " hold what is written", "2020",
	)
	var doc struct {
		Phases []struct{ Seconds float64 }
		Speed  map[string][]struct{ Rate float64 }
	}
	require.NoError(t, json.Unmarshal([]byte(said[strings.Index(said, "{"):]), &doc))
	took := 0.0
	for _, p := range doc.Phases {
		assert.GreaterOrEqual(t, p.Seconds, 0.0)
		took += p.Seconds
	}
	assert.Greater(t, took, 16e6/6e6*0.9, "as slow as it reads")
	assert.Less(t, took, limit.Seconds())
	require.NotEmpty(t, doc.Speed["read_back"])
	for _, p := range doc.Speed["read_back"] {
		assert.Greater(t, p.Rate, 0.0)
	}
	r.want(0, "zipstamp blank --yes --no-eject --label TIDES /dev/mmcblk0 && zipstamp peek /dev/mmcblk0",
		"mmcblk0 is empty: one FAT32 file system named TIDES", "FAT32, label \"TIDES\"")
}

func TestCardsOnBothBuses(t *testing.T) {
	slot := &lab.Medium{File: disk(t, 64<<20)}
	stick := &lab.Medium{File: disk(t, 48<<20), Serial: "TS16-77", Maker: "Tidal", Model: "Stick 16"}
	locked := &lab.Medium{File: disk(t, 48<<20), Locked: true}
	fixed := &lab.Medium{File: disk(t, 48<<20), Fixed: true, Model: "Backup"}
	r := enter(t, lab.Machine{SD: slot, USB: []*lab.Medium{stick, locked, fixed}})

	r.want(0, "zipstamp cards --all",
		"Found 2 writable cards; another one is write-protected.",
		"/dev/mmcblk0 67.1 MB (67,108,864 bytes), SD slot, QEMU!, serial 0xdeadbeef made in February 2006, maker "+
			"0xaa XY, revision 0.1, SDSC, SD 2.0",
		"/dev/sda 50.3 MB (50,331,648 bytes), USB, Tidal Stick 16, serial TS16-77 holds nothing",
		"write-protected, by the lock on its side or by itself",
		"The other disks", "Backup, serial LAB-USB2 it is a USB disk: neither a removable card nor one in an SD slot")
	r.want(4, stampIt+"/dev/sdb", "it is write-protected", "slide the lock")
	r.want(4, stampIt+"/dev/sdc", "it is a USB disk", "--fixed-disk")
	r.want(4, stampIt+"--fixed-disk /dev/sdc", "there is no terminal to type its name on")

	// Stamped by its serial number; then known by its label, and by what was stamped on it.
	r.want(0, "zipstamp stamp --yes --unchecked /share/os.img.gz serial:ts16",
		"Stamped and read back: every block of os.img.gz is on sda.", "let go ejected; it can be taken out")
	holds(t, stick)
	r.want(4, "! zipstamp cards | grep /dev/sda && "+stampIt+"/dev/sda", "there is no card in the reader")
	require.NoError(t, r.g.Load(stick))
	r.want(0, "zipstamp cards", "/dev/sda 50.3 MB")
	r.want(4, stampIt+"/dev/sda1", "it is partition 1 of the card /dev/sda", "name the whole card: /dev/sda")
	r.want(0, "zipstamp cards", "holds, by its MBR, 1: FAT16 SALTBOOT (21.0 MB)", "last stamped with os.img.gz, on ")

	// Mounted and busy.
	r.want(0, "mkdir -p /media/SALT && mount -t vfat /dev/sda1 /media/SALT")
	busy := "exec 5</media/SALT/kernel.bin; sleep 1000 & exec 5<&-; "
	r.want(4, busy+stampIt+"label:saltboot; s=$?; kill %1; exit $s", "/media/SALT is in use", "sleep (process",
		"has /media/SALT/kernel.bin open")
	r.want(0, stampIt+"label:saltboot && ! grep SALT /proc/mounts", "is on sda")

	// A card whose lock is slid, and the same card without.
	r.want(4, "echo 1 >/sys/block/mmcblk0/force_ro; "+stampIt+
		"/dev/mmcblk0; s=$?; zipstamp cards; echo 0 >/sys/block/mmcblk0/force_ro; exit $s",
		"/dev/mmcblk0 is refused: it is write-protected", "slide the lock")
	r.want(0, stampIt+"/dev/mmcblk0", "every block of os.img.gz is on mmcblk0",
		"it can be taken out, once nothing of it is mounted")
	holds(t, slot)
	r.want(0, "zipstamp peek label:SALTBOOT; test $? = 4 && zipstamp peek /dev/mmcblk0",
		"2 disks have the label SALTBOOT: /dev/mmcblk0, /dev/sda", "for 64-bit ARM")
	r.want(0,
		"chmod a+r /dev/sd? /dev/mmcblk0; su wren -c '"+strings.Replace(stampIt, "zipstamp", "/bin/zipstamp", 1)+
			"/dev/sda'; test $? = 4",
		"you have no permission to write it",
		"run it with more rights: sudo /bin/zipstamp stamp --yes --unchecked --no-eject /share/os.img.gz /dev/sda")
}

func TestArrival(t *testing.T) {
	slot := &lab.Medium{File: disk(t, 64<<20)}
	stick := &lab.Medium{File: disk(t, 48<<20), Serial: "TS16-77"}
	late := &lab.Medium{File: disk(t, 48<<20), Serial: "TS16-78", Away: true}
	r := enter(t, lab.Machine{SD: slot, USB: []*lab.Medium{stick, late}})
	r.want(0, "zipstamp cards", "Found 2 writable cards")

	w := r.begin("zipstamp cards --arrive", "Put the card in now")
	require.NoError(t, r.g.Pull(r.ctx, stick))
	require.NoError(t, w.Saw(r.ctx, "sda was taken out."))
	require.NoError(t, r.g.Insert(late))
	r.end(w, 0, "was put in: 50.3 MB", "serial TS16-78", "Found 1 writable card.")

	w = r.begin(stampIt+"next", "Put the card in now")
	require.NoError(t, r.g.Pull(r.ctx, slot))
	require.NoError(t, w.Saw(r.ctx, "mmcblk0 was taken out."))
	require.NoError(t, r.g.Insert(slot)) // as after a reset
	require.NoError(t, w.Saw(r.ctx, "mmcblk0 is the card that was here a moment ago"))
	require.NoError(t, r.g.Pull(r.ctx, slot))
	time.Sleep(16 * time.Second)
	require.NoError(t, r.g.Insert(slot))
	r.end(w, 0, "mmcblk0 was put in", "every block of os.img.gz is on mmcblk0")
	holds(t, slot)
}

// TestAPersonAtATerminal chooses a card from the list, types its name, and frees a fixed disk from its protection.
func TestAPersonAtATerminal(t *testing.T) {
	one := &lab.Medium{File: disk(t, 48<<20), Serial: "TS16-77"}
	two := &lab.Medium{File: disk(t, 48<<20), Serial: "TS16-78"}
	fixed := &lab.Medium{File: disk(t, 48<<20), Fixed: true}
	r := enter(t, lab.Machine{USB: []*lab.Medium{one, two, fixed}})
	r.want(4, "typist '' -- zipstamp stamp /share/os.img.gz", "Found 2 writable cards.", "1 sda", "2 sdb", "Which one?",
		"none was chosen, so nothing was done")
	r.want(0, "typist 7 2 sdb -- zipstamp stamp --no-eject /share/os.img.gz", "7 is none of them.",
		"All that is on sdb will be overwritten:", "serial TS16-78", "nothing of it", "Type sdb to go on",
		"Stamped and read back")
	holds(t, two)
	r.want(0, "typist sdb -- zipstamp peek", "has 2 partitions, for 64-bit ARM")
	r.want(4, "typist sda '' -- zipstamp stamp --no-eject --fixed-disk --yes --unchecked /share/os.img.gz /dev/sdc",
		"sdc is no card: it is a fixed disk.", "its name was not typed")
	hasNoTable(t, fixed)
	r.want(0, "typist sdc -- zipstamp stamp --no-eject --fixed-disk --yes --unchecked /share/os.img.gz /dev/sdc",
		"Stamped and read back")
	holds(t, fixed)

	// Swap on a card is turned off when a person has agreed, and not before.
	r.want(
		0,
		"dd if=/dev/zero of=/dev/sda bs=1M count=1 2>/dev/null; printf 'n\np\n1\n\n\nw\n' | fdisk /dev/sda "+
			">/dev/null 2>&1; sleep 1; mkswap /dev/sda1 >/dev/null && swapon /dev/sda1",
	)
	r.want(4, stampIt+"/dev/sda", "this computer uses /dev/sda1 as swap", "sudo swapoff /dev/sda1")
	r.want(0, "typist sda -- zipstamp stamp --no-eject /share/os.img.gz /dev/sda && ! grep sda /proc/swaps",
		"/dev/sda1 is in use as swap", "Swap will be turned off first", "Stamped and read back")
	r.want(0, "zipstamp stamp --yes --unchecked --power-off /share/os.img.gz /dev/sdb; test ! -b /dev/sdb",
		"powered off; it can be taken out")
}

// TestPulledOut pulls a stick and a card while they are written and while they are read back.
func TestPulledOut(t *testing.T) {
	slot := &lab.Medium{File: disk(t, 64<<20), Writes: 6e6, Reads: 6e6}
	stick := &lab.Medium{File: disk(t, 48<<20), Serial: "TS16-77", Writes: 6e6, Reads: 6e6}
	r := enter(t, lab.Machine{SD: slot, USB: []*lab.Medium{stick}})
	for _, c := range []struct {
		m      *lab.Medium
		device string
		phase  string
	}{
		{stick, "sda", "write: "},
		{slot, "mmcblk0", "write: "},
		{stick, "sda", "read back: "},
		{slot, "mmcblk0", "read back: "},
	} {
		w := r.begin(stampIt+"/dev/"+c.device, c.phase)
		time.Sleep(1500 * time.Millisecond)
		require.NoError(t, r.g.Pull(r.ctx, c.m))
		pulled := time.Now()
		require.NoError(t, w.Saw(r.ctx, "is gone"))
		first := time.Since(pulled)
		took := first + r.end(w, 4, "waiting a moment for it to come back", "was pulled out, or its reader was",
			"the card has no partition table", "Put the card in again")
		t.Logf("%s pulled out, %s it was said after %v, and the end came after %v", c.device, c.phase,
			first.Round(10*time.Millisecond), took.Round(100*time.Millisecond))
		hasNoTable(t, c.m)
		require.NoError(t, r.g.Insert(c.m))
		r.want(0, "n=0; until test -b /dev/"+c.device+
			" || test $n = 50; do usleep 100000; n=$((n+1)); done; test -b /dev/"+c.device)
	}
}

// TestReaderReset has a stick vanish for a moment, and come back; and a write that fails once.
func TestReaderReset(t *testing.T) {
	stick := &lab.Medium{File: disk(t, 48<<20), Serial: "TS16-77", Writes: 6e6, Reads: 6e6}
	other := &lab.Medium{File: disk(t, 48<<20), Serial: "TS16-99", Away: true}
	twin := &lab.Medium{File: disk(t, 48<<20), Serial: "TS16-77", Away: true}
	tired := &lab.Medium{File: disk(t, 48<<20), Serial: "TS16-80", FailAt: 20000, FailTimes: 8}
	const moment = 2500 * time.Millisecond // more than it takes to mark the card, and less than the phase takes
	r := enter(t, lab.Machine{USB: []*lab.Medium{stick, other, twin, tired}})
	for _, phase := range []string{"write: ", "read back: "} {
		w := r.begin(stampIt+"--write-all serial:TS16-77", phase)
		time.Sleep(moment)
		require.NoError(t, r.g.Pull(r.ctx, stick))
		require.NoError(t, w.Saw(r.ctx, "waiting a moment"))
		if phase == "write: " {
			require.NoError(t, r.g.Insert(other)) // takes the name
		}
		require.NoError(t, r.g.Insert(stick))
		r.end(w, 0, " is back", "Stamped and read back", "it was gone for a moment, then came back as sd")
		holds(t, stick)
	}
	// Another card with the same serial number, as a reader gives to all cards, is not the same card.
	w := r.begin(stampIt+"--write-all serial:TS16-77", "write: ")
	time.Sleep(moment)
	require.NoError(t, r.g.Pull(r.ctx, stick))
	require.NoError(t, r.g.Insert(twin))
	r.end(w, 4, "was pulled out, or its reader was")
	text, err := os.ReadFile(twin.File)
	require.NoError(t, err)
	assert.Zero(t, len(bytes.Trim(text, "\x00")), "nothing was written to it")

	r.want(0, stampIt+"--write-all serial:TS16-80", "Stamped and read back", "forgiven failed once to write at byte")
	holds(t, tired)
}

func TestTwoCardsAtOnce(t *testing.T) {
	fast := &lab.Medium{File: disk(t, 48<<20), Writes: 12e6}
	slow := &lab.Medium{File: disk(t, 48<<20), Writes: 6e6}
	gone := &lab.Medium{File: disk(t, 48<<20), Writes: 6e6}
	r := enter(t, lab.Machine{USB: []*lab.Medium{fast, slow, gone}})
	r.want(0, stampIt+"/dev/sda /dev/sdb", "All 2 cards are stamped and read back.", "sda stamped: ",
		"sdb stamped: ")
	holds(t, fast)
	holds(t, slow)
	w := r.begin(stampIt+"/dev/sda /dev/sdb /dev/sdc", "sdc write: ")
	time.Sleep(time.Second)
	require.NoError(t, r.g.Pull(r.ctx, gone))
	r.end(w, 4, "2 of 3 cards are stamped and read back; sdc is not.", "sdc not stamped: sdc was pulled out")
	holds(t, fast)
	hasNoTable(t, gone)
}

// TestStampedCardStarts stamps a bootable image in one machine, and starts another from the card.
func TestStampedCardStarts(t *testing.T) {
	slot := &lab.Medium{File: disk(t, 128<<20)}
	r := enter(t, lab.Machine{SD: slot})
	const line = "Saltmarsh OS runs from the card"
	img := filepath.Join(shared.share, "bootable.img")
	require.NoError(t, shared.kit.MakeImage(img, line))
	require.NoError(t, exec.Command("gzip", "-1", img).Run())
	said := r.want(0, "zipstamp stamp --yes --unchecked /share/bootable.img.gz /dev/mmcblk0", "Stamped and read back",
		"of the card lie beyond the image; most systems grow into it")
	assert.NotContains(t, said, "offers to format", "it has a FAT partition")
	r.g.Stop() // the power is cut: what was said to be on the card is there
	console, err := shared.kit.Boot(r.ctx, &lab.Medium{File: slot.File}, true, line)
	require.NoError(t, err, "%s", console)
	assert.Regexp(t, regexp.MustCompile(`/dev/mmcblk0p2 / ext4|/dev/root / ext4`), console)
}

// TestCardOfLooseFilesStarts makes a card of the loose files of a system in one machine, and starts another from it,
// which reads a file with a long name of it.
func TestCardOfLooseFilesStarts(t *testing.T) {
	stick := &lab.Medium{File: disk(t, 128<<20), Serial: "SW-77"}
	r := enter(t, lab.Machine{USB: []*lab.Medium{stick}})
	const line = "High water at six: Saltmarsh OS runs from loose files"
	r.want(0,
		"zipstamp blank --yes --no-eject --file-system exfat --label 'High tide' /dev/sda && sleep 1 && mkdir -p "+
			"/media/tide && mount -t exfat /dev/sda1 /media/tide && dd if=/dev/urandom of=/tmp/noise bs=1M count=9 "+
			"&& cp "+
			"/tmp/noise '/media/tide/Märzflut.bin' && umount /media/tide && mount -t exfat /dev/sda1 /media/tide && "+
			"cmp "+
			"/tmp/noise "+
			"'/media/tide/Märzflut.bin' && umount /media/tide", "one exFAT file system named High tide")
	require.NoError(t, shared.kit.MakeFiles(filepath.Join(shared.share, "saltmarsh-boot.zip"), line))
	r.want(0, "zipstamp blank --yes --no-eject --unchecked --with /share/saltmarsh-boot.zip --label SALTBOOT /dev/sda",
		"has 6 files from saltmarsh-boot.zip on one FAT32 file system named SALTBOOT, and every file was read back "+
			"right",
		"folder saltmarsh-1.2")
	r.want(0, "zipstamp recheck /dev/sda", "is as it was made")
	r.g.Stop()
	console, err := shared.kit.BootUEFI(r.ctx, &lab.Medium{File: stick.File}, false, "/mnt vfat")
	require.NoError(t, err, "%s", console)
	assert.Contains(t, console, line)
}
