package uevent_test

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/card/linux/uevent"
	"zipstamp/internal/testbed"
)

func message(lines ...string) []byte { return []byte(strings.Join(lines, "\x00") + "\x00") }

func TestParse(t *testing.T) {
	e, ok := uevent.Parse(message("add@/devices/x/block/sdb", "ACTION=add", "SUBSYSTEM=block", "DEVNAME=sdb",
		"DEVTYPE=disk", "NONSENSE", "A=b=c"))
	require.True(t, ok)
	assert.Equal(t, "add", e.Action)
	assert.Equal(t, "/devices/x/block/sdb", e.Device)
	assert.True(t, e.Disk())
	assert.Equal(t, "b=c", e.Values["A"])
	e, ok = uevent.Parse(message("add@/devices/x/block/sdb/sdb1", "SUBSYSTEM=block", "DEVTYPE=partition"))
	assert.True(t, ok)
	assert.False(t, e.Disk())
	for _, other := range []string{"", "libudev\x00\xfe\xed", "@/x", "add@x", "add"} {
		_, ok = uevent.Parse([]byte(other))
		assert.False(t, ok, "%q", other)
	}
}

// TestKernelIsHeard has the kernel send an event of a loop device.
func TestKernelIsHeard(t *testing.T) {
	testbed.NeedRoot(t)
	loop := testbed.Loop(t, testbed.Sparse(t, filepath.Join(t.TempDir(), "x"), 1<<20))
	l, err := uevent.Listen()
	require.NoError(t, err)
	defer l.Close()
	name := filepath.Base(loop)
	require.NoError(t, os.WriteFile("/sys/block/"+name+"/uevent", []byte("change"), 0))
	for { // others come too
		e, heard, err := l.Next(20 * time.Second)
		require.NoError(t, err)
		if !heard {
			testbed.Missing(t, "the kernel's messages don't reach this network namespace")
		}
		if e.Action == "change" && e.Values["DEVNAME"] == name {
			return
		}
	}
}

func FuzzParse(f *testing.F) {
	f.Add(message("add@/devices/x/block/sdb", "SUBSYSTEM=block", "DEVTYPE=disk"))
	f.Fuzz(func(t *testing.T, text []byte) {
		if e, ok := uevent.Parse(text); ok {
			assert.NotEmpty(t, e.Action)
			assert.True(t, strings.HasPrefix(e.Device, "/"))
			assert.LessOrEqual(t, len(e.Values), len(text))
		}
	})
}
