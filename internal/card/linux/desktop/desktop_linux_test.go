package desktop_test

import (
	"context"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/godbus/dbus/v5"
	"github.com/godbus/dbus/v5/prop"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"zipstamp/internal/card/linux/desktop"
	"zipstamp/internal/testbed"
)

// The objects of the small service that stands for the real one, which has no drives that could be ejected without
// hardware. The real one is in e2e/desktop_test.go.
const (
	managerPath = "/org/freedesktop/UDisks2/Manager"
	stickPath   = "/org/freedesktop/UDisks2/block_devices/sdx"
	partPath    = "/org/freedesktop/UDisks2/block_devices/sdx1"
	barePath    = "/org/freedesktop/UDisks2/block_devices/bare"
	drivePath   = "/org/freedesktop/UDisks2/drives/stick"
)

type options = map[string]dbus.Variant

// service notes what it is asked.
type service struct {
	mu    sync.Mutex
	asked []string
	fails map[string]string // the error's name by method
	words string            // of errors
	file  string
}

func (s *service) do(what string) *dbus.Error {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.asked = append(s.asked, what)
	if name := s.fails[what]; name != "" {
		return dbus.NewError(name, []any{s.words})
	}
	return nil
}

// fail has it fail from now on.
func (s *service) fail(words string, by map[string]string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.words, s.fails = words, by
}

type manager struct{}

func (manager) ResolveDevice(spec, _ options) ([]dbus.ObjectPath, *dbus.Error) {
	paths := map[string]dbus.ObjectPath{"/dev/sdx": stickPath, "/dev/sdx1": partPath, "/dev/bare": barePath}
	if p, ok := paths[spec["path"].Value().(string)]; ok {
		return []dbus.ObjectPath{p}, nil
	}
	return nil, nil
}

type block struct{ s *service }

func (b block) OpenDevice(mode string, how options) (dbus.UnixFD, *dbus.Error) {
	if err := b.s.do("open " + mode); err != nil {
		return 0, err
	}
	if how["flags"].Value().(int32)&unix.O_EXCL == 0 {
		return 0, dbus.NewError("not.exclusive", nil)
	}
	fd, err := unix.Open(b.s.file, unix.O_RDWR, 0)
	if err != nil {
		return 0, dbus.MakeFailedError(err)
	}
	return dbus.UnixFD(fd), nil
}

func (b block) Rescan(options) *dbus.Error  { return b.s.do("rescan") }
func (b block) Unmount(options) *dbus.Error { return b.s.do("unmount") }

type drive struct{ s *service }

func (d drive) Eject(options) *dbus.Error    { return d.s.do("eject") }
func (d drive) PowerOff(options) *dbus.Error { return d.s.do("power off") }

// start puts the service on a bus of its own.
func start(t *testing.T) *service {
	testbed.NeedTool(t, "dbus-daemon")
	dir := t.TempDir()
	address := "unix:path=" + filepath.Join(dir, "bus")
	config := filepath.Join(dir, "bus.conf")
	require.NoError(t, os.WriteFile(config, []byte(`<busconfig><type>system</type><listen>`+address+`</listen>
<auth>EXTERNAL</auth>
<policy context="default">
<allow send_destination="*" eavesdrop="true"/><allow eavesdrop="true"/><allow own="*"/>
<allow user="*"/></policy></busconfig>`), 0o644))
	bus := exec.Command("dbus-daemon", "--config-file="+config, "--nofork")
	require.NoError(t, bus.Start())
	t.Cleanup(func() { _ = bus.Process.Kill(); _ = bus.Wait() })
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", address)
	testbed.Answers(t, filepath.Join(dir, "bus"))
	_, err := desktop.Connect()
	require.ErrorContains(t, err, "there is no org.freedesktop.UDisks2 on the system bus")

	s := &service{file: filepath.Join(dir, "disk"), fails: map[string]string{}, words: "no"}
	require.NoError(t, os.WriteFile(s.file, []byte("tide"), 0o600))
	conn, err := dbus.ConnectSystemBus()
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	const name = "org.freedesktop.UDisks2"
	for _, object := range []struct {
		is   any
		path dbus.ObjectPath
		as   string
	}{
		{manager{}, managerPath, ".Manager"},
		{block{s}, stickPath, ".Block"},
		{block{s}, partPath, ".Filesystem"},
		{drive{s}, drivePath, ".Drive"},
	} {
		require.NoError(t, conn.Export(object.is, object.path, name+object.as))
	}
	for path, of := range map[dbus.ObjectPath]dbus.ObjectPath{stickPath: drivePath, barePath: "/"} {
		_, err = prop.Export(conn, path, prop.Map{name + ".Block": {"Drive": {Value: of}}})
		require.NoError(t, err)
	}
	_, err = conn.RequestName(name, dbus.NameFlagDoNotQueue)
	require.NoError(t, err)
	return s
}

func TestService(t *testing.T) {
	s := start(t)
	d, err := desktop.Connect()
	require.NoError(t, err)
	defer d.Close()
	ctx := context.Background()
	f, err := d.Open(ctx, "/dev/sdx")
	require.NoError(t, err)
	text := make([]byte, 4)
	_, err = f.ReadAt(text, 0)
	require.NoError(t, err)
	assert.Equal(t, "tide", string(text))
	require.NoError(t, f.Close())
	require.NoError(t, d.Unmount(ctx, "/dev/sdx1"))
	require.NoError(t, d.Rescan(ctx, "/dev/sdx"))
	require.NoError(t, d.Eject(ctx, "/dev/sdx"))
	require.NoError(t, d.PowerOff(ctx, "/dev/sdx"))
	s.mu.Lock()
	assert.Equal(t, []string{"open rw", "unmount", "rescan", "eject", "power off"}, s.asked)
	s.mu.Unlock()

	assert.ErrorContains(t, d.Eject(ctx, "/dev/sdy"), "doesn't know /dev/sdy")
	assert.ErrorContains(t, d.Eject(ctx, "/dev/bare"), "knows no drive of /dev/bare")
	s.fail("no", map[string]string{
		"open rw": "org.freedesktop.UDisks2.Error.NotAuthorizedDismissed",
		"unmount": "org.freedesktop.UDisks2.Error.DeviceBusy", "eject": "org.freedesktop.UDisks2.Error.Failed",
	})
	_, err = d.Open(ctx, "/dev/sdx")
	assert.ErrorIs(t, err, fs.ErrPermission)
	err = d.Unmount(ctx, "/dev/sdx1")
	assert.ErrorIs(t, err, desktop.ErrBusy)
	assert.ErrorIs(t, err, unix.EBUSY)
	assert.ErrorContains(t, d.Eject(ctx, "/dev/sdx"), "eject /dev/sdx by the desktop's disk service: no")
	s.fail("Error opening /dev/sdx: Device or resource busy", map[string]string{
		"open rw": "org.freedesktop.UDisks2.Error.Failed",
	})
	_, err = d.Open(ctx, "/dev/sdx")
	assert.ErrorIs(t, err, unix.EBUSY)
}

// TestSilentBus has a bus that takes calls and never answers.
func TestSilentBus(t *testing.T) {
	path := filepath.Join(t.TempDir(), "bus")
	l, err := net.Listen("unix", path)
	require.NoError(t, err)
	defer l.Close()
	t.Setenv("DBUS_SYSTEM_BUS_ADDRESS", "unix:path="+path)
	started := time.Now()
	_, err = desktop.Connect()
	require.Error(t, err)
	assert.Less(t, time.Since(started), 20*time.Second)
}
