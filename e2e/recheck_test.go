package e2e

import (
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
)

// change writes into what a practice card holds.
func (d *desk) change(name string, off int64, text string) {
	d.t.Helper()
	f, err := os.OpenFile(d.path(name+".data"), os.O_WRONLY, 0)
	require.NoError(d.t, err)
	defer f.Close()
	_, err = f.WriteAt([]byte(text), off)
	require.NoError(d.t, err)
}

// Places in the sample image: its first partition starts at 1 MiB, and in it are the tables, the kernel, and free room.
const (
	sampleBoot   = 1 << 20
	sampleTables = 1<<20 + 4096
	sampleKernel = 1<<20 + 65536 + 1<<20
	sampleReadme = 1<<20 + 65536
	sampleFree   = 1<<20 + 10<<20
	sampleGap    = 600 << 10
)

func TestRecheckTellsWhatDiffers(t *testing.T) {
	t.Parallel()
	d := newDesk(t, osXZ, demo.Sums)
	d.card("a.card", "--claimed", "64MB")
	d.want(4, "no receipt of its stamp was found", "recheck", "a.card")
	d.want(0, "", "stamp", "--yes", osXZ, "a.card")
	d.want(0, "a.card is as it was stamped: all 49.3 MB", "recheck", "a.card")
	d.want(0, "a.card is as it was stamped: all 49.3 MB", "recheck", "a.card", osXZ)
	fresh := d.read("a.card.data")

	for what, c := range map[string]struct {
		status int
		change func()
		says   []string // with the image and without it
		exact  string   // with the image
	}{
		"a first start: number of the disk, tables, free room": {0, func() {
			d.change("a.card", 440, "abcd")
			d.change("a.card", sampleBoot+0x25, "\x01") // the volume is in use
			d.change("a.card", sampleFree, "a log")
		}, []string{
			"since it was stamped", "expected", "the partition table",
			"its tables and folders",
		}, "free room: 512 B from byte"},
		"a file allocation table that is damaged": {
			5, func() { d.change("a.card", sampleTables, "x") },
			[]string{"is not as it was stamped", "its two file allocation tables differ"},
			"its tables and folders: 512 B",
		},
		"a kernel that is damaged": {
			5, func() { d.change("a.card", sampleKernel, "x") },
			[]string{"is not as it was stamped", "not expected", "file kernel.bin"},
			"file kernel.bin: 512 B",
		},
		"free room, where nobody wrote": {
			5, func() { d.change("a.card", sampleFree, "x") },
			[]string{"is not as it was stamped", "nobody has written there"},
			"free room: 512 B",
		},
		"between table and partition": {
			5, func() { d.change("a.card", sampleGap, "x") },
			[]string{"outside of all partitions"},
			"512 B from byte 614,400",
		},
	} {
		t.Run(what, func(t *testing.T) {
			d.t = t
			d.write("a.card.data", fresh)
			c.change()
			for _, args := range [][]string{{"recheck", "a.card"}, {"recheck", "a.card", osXZ}} {
				r := d.zipstamp(args...)
				require.Equal(t, c.status, r.status, "%s", r.out)
				for _, s := range c.says {
					assert.Contains(t, plain(r.out), s)
				}
				if len(args) > 2 {
					assert.Contains(t, plain(r.out), c.exact)
				}
			}
		})
	}
	d.t = t
	d.write("a.card.data", fresh)
	doc := document(t, d.want(0, "", "recheck", "--json", "a.card"))
	assert.Equal(t, "recheck", doc["job"])
	assert.Equal(t, "good", doc["verdict"])

	// A file that was written since says so.
	entry := []byte(fresh[1<<20+2048+2*20*512 : 1<<20+64<<10])
	at := int64(-1)
	for i := 0; i+32 <= len(entry); i += 32 {
		if string(entry[i:i+11]) == "README  TXT" {
			at = 1<<20 + 2048 + 2*20*512 + int64(i)
		}
	}
	require.Positive(t, at)
	later := time.Now().AddDate(1, 0, 0)
	date := uint16((later.Year()-1980)<<9 | int(later.Month())<<5 | later.Day())
	d.change("a.card", at+24, string([]byte{byte(date), byte(date >> 8)}))
	d.change("a.card", sampleReadme, "High water at six.")
	r := d.want(0, "has been started, or written to", "recheck", "a.card", osXZ)
	assert.Contains(t, plain(r.out), "file readme.txt: 512 B")
	assert.Contains(t, plain(r.out), "its entry in its folder says that it was written")

	d.card("small.card", "--claimed", "16MB")
	d.want(4, "can't hold saltmarsh-os.img.xz", "recheck", "small.card", osXZ)
	d.card("dying.card", "--claimed", "64MB", "--gone-after", "120MB")
	d.want(0, "", "stamp", "--yes", "--no-read-back", "--receipt", "r.json", osXZ, "dying.card")
	again := func(name, more string) {
		d.write(name, []byte("practice_card = 1\nbacking = \"dying.card.data\"\nclaimed = \"64 MB\"\n"+more))
	}
	again("torn.card", "[[fault]]\nkind = \"read\"\nsector = 40000\n")
	d.want(5, "of it can't be read", "recheck", "torn.card", "--against", "r.json")
	again("gone.card", "gone_after = \"20 MB\"\n")
	d.want(4, "it was pulled out", "recheck", "gone.card", "--against", "r.json")
	d.want(2, "not both", "recheck", "gone.card", osXZ, "--against", "r.json")
	d.want(2, "is no receipt", "recheck", "gone.card", "--against", demo.Sums)
}
