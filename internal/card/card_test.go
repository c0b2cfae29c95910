package card_test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card"
	"zipstamp/internal/card/cardtest"
	"zipstamp/internal/card/practice"
)

func TestEveryDeviceConforms(t *testing.T) {
	dir := t.TempDir()
	conform := func(path string) func(t *testing.T) {
		return func(t *testing.T) {
			c, err := card.Find(path)
			require.NoError(t, err)
			require.NoError(t, c.Refusal())
			cardtest.Conform(t, c.Open)
		}
	}
	t.Run("plain file", conform(cardtest.Sparse(t, filepath.Join(dir, "plain"), 3<<20)))
	t.Run("plain file in memory", func(t *testing.T) {
		const memory = "/dev/shm"
		if _, err := os.Stat(memory); err != nil {
			t.Skip("no file system in memory here")
		}
		f, err := os.CreateTemp(memory, "zipstamp")
		require.NoError(t, err)
		defer os.Remove(f.Name())
		require.NoError(t, f.Truncate(2<<20+512))
		require.NoError(t, f.Close())
		conform(f.Name())(t)
	})
	for name, s := range map[string]practice.Spec{
		"practice":       {Claimed: 2 << 20},
		"practice, 4096": {Claimed: 2 << 20, Sector: 4096},
		"practice, slow": {Claimed: 2 << 20, ReadRate: 200e6, WriteRate: 100e6},
	} {
		path := filepath.Join(dir, name)
		s.Backing = name + ".data"
		require.NoError(t, practice.Create(path, s))
		t.Run(name, conform(path))
	}
	t.Run("loop device", func(t *testing.T) {
		conform(cardtest.Loop(t, cardtest.Sparse(t, filepath.Join(dir, "loop"), 3<<20)))(t)
	})
	t.Run("loop device, 4096", func(t *testing.T) {
		conform(cardtest.Loop(t, cardtest.Sparse(t, filepath.Join(dir, "loop4k"), 3<<20), "--sector-size", "4096"))(t)
	})
}

func TestJudge(t *testing.T) {
	stick := card.Card{Given: "/dev/sdb", Name: "sdb", Kind: card.Block, Size: 8e9}
	mount := func(points ...string) []card.Mount {
		var m []card.Mount
		for i, p := range points {
			m = append(m, card.Mount{Source: "/dev/sdb" + string(rune('1'+i)), Point: p})
		}
		return m
	}
	for _, c := range []struct {
		what    string
		change  func(*card.Card)
		reasons []string // parts of them; none: it may be written
		next    string
	}{
		{"a stick", func(*card.Card) {}, nil, ""},
		{"root", func(c *card.Card) { c.Mounts = mount("/") }, []string{"this computer runs from it", "mounted at / (from /dev/sdb1)"}, "no option overrides this"},
		{"boot", func(c *card.Card) { c.Mounts = mount("/boot/efi") }, []string{"this computer runs from it"}, "no option"},
		{"usr", func(c *card.Card) { c.Mounts = mount("/usr") }, []string{"this computer runs from it"}, "no option"},
		{"home", func(c *card.Card) { c.Mounts = mount("/home") }, []string{"this computer runs from it"}, "no option"},
		{"mounted in a home", func(c *card.Card) { c.Mounts = mount("/home/nell/card") }, []string{"it is mounted at /home/nell/card"}, "umount /home/nell/card"},
		{"desktop mounts", func(c *card.Card) { c.Mounts = mount("/media/nell/SALT BOOT", "/media/nell/root") }, []string{"/media/nell/SALT BOOT (from /dev/sdb1), /media/nell/root (from /dev/sdb2)"}, "umount /media/nell/root '/media/nell/SALT BOOT'"},
		{"swap", func(c *card.Card) { c.Swaps = []string{"/dev/sdb3"} }, []string{"uses /dev/sdb3 as swap"}, ""},
		{"RAID member", func(c *card.Card) { c.Holders = []string{"md0, which is built on /dev/sdb1"} }, []string{"it is part of md0"}, ""},
		{"LVM volume", func(c *card.Card) { c.Virtual = "a volume of the device mapper" }, []string{"it is a volume"}, "name the card's own device"},
		{"write-protected", func(c *card.Card) { c.ReadOnly = true }, []string{"write-protected"}, "slide the lock"},
		{"empty reader", func(c *card.Card) { c.Size = 0 }, []string{"no card in the reader"}, "put the card in"},
		{"empty file", func(c *card.Card) { c.Size, c.Kind = 0, card.Plain }, []string{"it is empty"}, "zipstamp practice new"},
	} {
		one := stick
		c.change(&one)
		reasons, next := card.Judge(&one)
		assert.Equal(t, len(c.reasons) > 0, len(reasons) > 0, c.what)
		for _, r := range c.reasons {
			assert.Contains(t, strings.Join(reasons, "; "), r, c.what)
		}
		assert.Contains(t, next, c.next, c.what)
	}
}

func TestWhatIsNoCard(t *testing.T) {
	dir := t.TempDir()
	broken := filepath.Join(dir, "broken.card")
	require.NoError(t, os.WriteFile(broken, []byte("practice_card = 1\nclaimed = \"1 MB\"\nbacking = \"x\"\ncolour = \"red\"\n"), 0o600))
	link := filepath.Join(dir, "link")
	require.NoError(t, os.Symlink("/dev/null", link))
	for path, why := range map[string]string{
		filepath.Join(dir, "none"): "there is no such card",
		dir:                        "it is a folder",
		"/dev/null":                "it is a character device",
		link:                       "it is a character device",
		broken:                     "line 4: colour is not a key of a practice card",
	} {
		_, err := card.Find(path)
		var refused *card.RefusedError
		require.ErrorAs(t, err, &refused, path)
		assert.Contains(t, refused.Error(), why)
		assert.Equal(t, path, refused.Card)
	}
	empty := cardtest.Sparse(t, filepath.Join(dir, "empty"), 0)
	c, err := card.Find(empty)
	require.NoError(t, err)
	assert.ErrorContains(t, c.Refusal(), "it is empty")
}

// TestRealDevicesThatAreRefused has what the kernel says of partitions, mounts, swap, and write protection.
func TestRealDevicesThatAreRefused(t *testing.T) {
	cardtest.NeedRoot(t)
	cardtest.NeedTool(t, "sfdisk", "partx", "mkfs.ext4", "mkswap", "losetup")
	dir := t.TempDir()
	sh := func(command string) {
		t.Helper()
		out, err := exec.Command("sh", "-ec", command).CombinedOutput()
		require.NoError(t, err, "%s: %s", command, out)
	}
	file := cardtest.Sparse(t, filepath.Join(dir, "card"), 32<<20)
	sh("printf '2048,16384\\n20480,16384\\n' | sfdisk -q " + file)
	loop := cardtest.Loop(t, file)
	sh("partx -a " + loop)
	t.Cleanup(func() { sh("partx -d " + loop) })

	_, err := card.Find(loop + "p2")
	assert.ErrorContains(t, err, "it is partition 2 of the card "+loop)
	c, err := card.Find(loop)
	require.NoError(t, err)
	require.NoError(t, c.Refusal())
	assert.EqualValues(t, 32<<20, c.Size)
	assert.Contains(t, c.Model, file)

	point := filepath.Join(dir, "in use")
	sh("mkfs.ext4 -q " + loop + "p1; mkdir '" + point + "'; mount " + loop + "p1 '" + point + "'")
	c, err = card.Find(loop)
	require.NoError(t, err)
	assert.ErrorContains(t, c.Refusal(), "it is mounted at "+point+" (from "+loop+"p1)")
	_, err = c.Open()
	assert.ErrorContains(t, err, "another program is working on it", "the kernel has the last word")
	sh("umount '" + point + "'")

	sh("mkswap -q " + loop + "p2 && swapon " + loop + "p2")
	c, err = card.Find(loop)
	require.NoError(t, err)
	assert.ErrorContains(t, c.Refusal(), "uses "+loop+"p2 as swap")
	sh("swapoff " + loop + "p2")

	locked := cardtest.Loop(t, cardtest.Sparse(t, filepath.Join(dir, "locked"), 1<<20), "--read-only")
	c, err = card.Find(locked)
	require.NoError(t, err)
	assert.ErrorContains(t, c.Refusal(), "it is write-protected")

	for _, system := range systemDisks(t) {
		c, err := card.Find(system)
		if err == nil {
			err = c.Refusal()
		}
		assert.ErrorAs(t, err, new(*card.RefusedError), system)
	}
}

// systemDisks are the disks that hold the root of this machine, where it has one that can be seen.
func systemDisks(t *testing.T) []string {
	out, err := exec.Command("findmnt", "-no", "SOURCE", "/").Output()
	require.NoError(t, err)
	source := strings.TrimSpace(string(out))
	if !strings.HasPrefix(source, "/dev/") {
		t.Logf("the root is on %s, which is no disk", source)
		return nil
	}
	return []string{source}
}
