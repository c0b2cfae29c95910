package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/publisher"
	"zipstamp/internal/testbed"
)

// TestComputerLosesPower keeps all that the program writes on a file system of its own, which writes nothing down by
// itself for minutes, kills the program, and looks at what the disk has by then: what has its final name is whole, and
// the same command comes to its end.
func TestComputerLosesPower(t *testing.T) {
	testbed.NeedRoot(t)
	testbed.NeedTool(t, "losetup", "mkfs.ext4", "mount", "gzip")
	if !trustsFile() {
		t.Skip("this system takes no roots from a file")
	}
	seed := testbed.Seed(t)
	const size = 12 << 20
	for name, job := range map[string]struct {
		args  []string
		lasts time.Duration // to its end, or somewhat longer
		ends  string        // what there is just before its end; each second time, the power is lost then
		whole string        // what there is when it has ended
		good  func(t *testing.T, d *desk, whole []byte)
	}{
		"save": {
			[]string{"save", "a.card", "disk/a.img.gz"},
			1500 * time.Millisecond, "disk/*copy.json*", "disk/a.img.gz",
			func(t *testing.T, d *desk, _ []byte) {
				d.sh("gzip -dc disk/a.img.gz | cmp - a.card.data")
				d.want(0, "is unchanged since it was saved", "check", "disk/a.img.gz")
				d.read("disk/a.img.gz.copy.json")
			},
		},
		"stamp": {
			[]string{"stamp", "--yes", "--unchecked", "--receipt", "disk/r.json", "os.img", "a.card"},
			2500 * time.Millisecond, "disk/r.json", "disk/r.json",
			func(t *testing.T, d *desk, whole []byte) {
				document(t, run{out: string(whole)})
				d.want(0, "is as it was stamped", "recheck", "--against", "disk/r.json", "a.card")
			},
		},
		"fetch": {
			[]string{"fetch", "URL" + osXZ},
			1500 * time.Millisecond, "disk/cache/zipstamp/shelf/*/*/" + osXZ,
			"disk/cache/zipstamp/shelf/*/*/" + osXZ,
			func(t *testing.T, d *desk, whole []byte) {
				want, err := os.ReadFile(filepath.Join(sample, osXZ))
				require.NoError(t, err)
				assert.True(t, bytes.Equal(want, whole))
			},
		},
		"list": {
			[]string{"systems", "add", "--yes", "URLsystems.toml"},
			100 * time.Millisecond, "disk/*/zipstamp/*/*", "",
			func(t *testing.T, d *desk, _ []byte) { d.want(0, "1 system in 1 list", "systems") },
		},
		"edition": {
			[]string{"systems", "refresh"},
			100 * time.Millisecond, "disk/state/zipstamp/lists/.*", "",
			func(t *testing.T, d *desk, _ []byte) {
				list := document(t, d.want(0, "", "systems", "lists", "--json"))["lists"].([]any)[0].(map[string]any)
				assert.Equal(t, "2", fmt.Sprint(list["edition"]))
				assert.Len(t, d.found("disk/state/zipstamp/lists/*"), 1)
			},
		},
		"removed": {
			[]string{"systems", "remove", "Saltmarsh Watchers"},
			50 * time.Millisecond, "", "",
			func(t *testing.T, d *desk, _ []byte) { d.want(0, "", "systems", "lists") },
		},
		"whole": {
			[]string{"gauge", "whole", "--yes", "a.card"},
			2 * time.Second, "disk/state/zipstamp/*/*", "",
			func(*testing.T, *desk, []byte) {},
		},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			killed, whole := 0, 0
			for i := range testbed.Trials(1, 2) {
				r := rand.New(rand.NewPCG(seed, uint64(i)))
				d := newDesk(t)
				h := d.site(publisher.Faults{Rate: 3e6})
				d.sh("mkdir disk; truncate -s 64M disk.img; mkfs.ext4 -q disk.img")
				d.card("a.card", "--claimed", fmt.Sprint(2*size), "--write-rate", "20MB/s", "--read-rate", "60MB/s")
				d.fill("a.card", 2*size)
				d.write("os.img", noiseOS(8, size))
				d.want(0, "edition 1", "systems", "make", "site", "--name", "Saltmarsh Watchers")
				d.sh("touch -d '2 hours ago' site/systems.toml")
				for _, folder := range []string{
					"HOME=disk", "XDG_STATE_HOME=disk/state", "XDG_CONFIG_HOME=disk/config",
					"XDG_CACHE_HOME=disk/cache",
				} {
					is, at, _ := strings.Cut(folder, "=")
					d.env = append(d.env, is+"="+d.path(at))
				}
				var args []string
				for _, a := range job.args {
					args = append(args, strings.Replace(a, "URL", h.url, 1))
				}
				// renames are not written before the files by themselves either
				insert := func(image string) {
					loop := testbed.Loop(t, d.path(image))
					d.sh("mount -o commit=300,data=writeback,noauto_da_alloc " + loop + " disk")
				}
				t.Cleanup(func() { _ = exec.Command("umount", d.path("disk")).Run() })
				insert("disk.img")
				if name == "edition" || name == "removed" {
					d.want(0, "1 system", "systems", "add", "--yes", h.url+"systems.toml")
					d.sh("sync disk")
					d.want(0, "edition 2", "systems", "make", "site")
				}
				cmd, lost := d.command(args...), false
				if i%2 == 1 || job.ends == "" {
					lost = kill(t, cmd, time.Duration(r.Int64N(int64(job.lasts))))
				} else {
					lost = killWhen(t, cmd, func() bool { return len(d.found(job.ends)) > 0 })
				}
				if lost {
					killed++
				}
				d.sh("cp --sparse=always disk.img cut.img; umount disk")
				insert("cut.img")
				require.NoError(t, filepath.WalkDir(d.path("disk"), func(path string, e fs.DirEntry, err error) error {
					if err == nil && filepath.Ext(path) == ".json" {
						text, err := os.ReadFile(path)
						require.NoError(t, err)
						assert.True(t, json.Valid(text), "%s: %q", path, text[:min(len(text), 40)])
					}
					return err
				}))
				final := func() []byte {
					found := d.found(job.whole)
					if len(found) == 0 || job.whole == "" {
						return nil
					}
					text, err := os.ReadFile(found[0])
					require.NoError(t, err)
					return text
				}
				text := final()
				if text != nil {
					whole++
				}
				if text != nil && name == "save" { // which replaces nothing
					job.good(t, d, text)
				} else {
					again := d.zipstamp(args...)
					done := again.status == 0 || name == "removed"
					require.True(t, done, "trial %d, seed %d: %s%s", i, seed, again.out, again.err)
					job.good(t, d, final())
				}
				require.False(t, t.Failed(), "trial %d, seed %d", i, seed)
				d.sh("umount disk; rm disk.img cut.img a.card.data os.img")
			}
			t.Logf("%d killed before their end, %d whole by then", killed, whole)
		})
	}
}

// found lists what there is by a pattern.
func (d *desk) found(pattern string) []string {
	found, err := filepath.Glob(d.path(pattern))
	require.NoError(d.t, err)
	return found
}

// killWhen starts a command, and kills it when something is so; false if it had ended by then.
func killWhen(t *testing.T, cmd *exec.Cmd, is func() bool) bool {
	require.NoError(t, cmd.Start())
	ended := make(chan bool, 1)
	go func() { ended <- cmd.Wait() == nil }()
	for {
		select {
		case <-ended:
			return false
		case <-time.After(time.Millisecond):
			if is() {
				_ = cmd.Process.Kill()
				return !<-ended
			}
		}
	}
}
