//go:build linux

package e2e

import (
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"zipstamp/internal/demo"
	"zipstamp/internal/testbed"
)

// daemon and nobody are users without rights, who are on every system.
const daemon, nobody = 1, 65534

// Programs of the desktop, where Debian has them.
const (
	udisksd = "/usr/libexec/udisks2/udisksd"
	polkitd = "/usr/lib/polkit-1/polkitd"
	udevd   = "/lib/systemd/systemd-udevd"
)

// TestDesktopHelpsAUserWithoutRights has the real services on a bus of their own: UDisks2 and polkit, with a rule that
// lets the user nobody do what a person at a desktop may.
func TestDesktopHelpsAUserWithoutRights(t *testing.T) {
	testbed.NeedRoot(t)
	testbed.NeedTool(t, "dbus-daemon", udisksd, polkitd, udevd, "udevadm", "sfdisk", "partx", "mkfs.ext4", "setpriv")
	d := newDesk(t, osXZ, demo.Sums)
	for dir := d.dir; len(dir) > len(os.TempDir()); dir = filepath.Dir(dir) {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	require.NoError(t, os.Chmod(filepath.Dir(program), 0o755))
	d.startServices()

	loop := testbed.Loop(t, testbed.Sparse(t, d.path("card"), 80<<20))
	sh := func(command string) {
		t.Helper()
		cmd := exec.Command("sh", "-ec", command)
		cmd.Dir, cmd.Env = d.dir, d.env
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", command, out)
	}
	sh("printf '2048,65536,c\\n,,83\\n' | sfdisk -q " + loop + " 2>/dev/null || true; partx -d " + loop +
		" 2>/dev/null || true; partx -a " + loop + "; mkfs.ext4 -q " + loop +
		"p1; udevadm settle; mkdir point; mount " + loop + "p1 point")
	t.Cleanup(func() { _ = exec.Command("umount", d.path("point")).Run(); _ = exec.Command("partx", "-d", loop).Run() })
	require.Eventually(t, func() bool { // the service has seen it
		out, _ := exec.Command("dbus-send", "--bus="+d.bus(), "--print-reply", "--dest=org.freedesktop.UDisks2",
			"/org/freedesktop/UDisks2/block_devices/"+filepath.Base(loop)+
				"p1", "org.freedesktop.DBus.Introspectable.Introspect").CombinedOutput()
		return strings.Contains(string(out), "org.freedesktop.UDisks2.Filesystem")
	}, time.Minute, 100*time.Millisecond)
	as := func(user uint32, args ...string) run {
		state := d.path("state-" + strconv.Itoa(int(user)))
		require.NoError(t, os.Mkdir(state, 0o777))
		require.NoError(t, os.Chmod(state, 0o777))
		cmd := d.command(args...)
		cmd.Env = append(cmd.Env, "XDG_STATE_HOME="+state)
		cmd.SysProcAttr = &syscall.SysProcAttr{Credential: &syscall.Credential{Uid: user, Gid: nobody}}
		out, _ := cmd.CombinedOutput() // the status tells
		return run{cmd.ProcessState.ExitCode(), string(out), ""}
	}

	r := as(daemon, "stamp", "--yes", osXZ, loop)
	assert.Equal(t, 4, r.status, r.out)
	assert.Contains(t, plain(r.out), "you have no permission to do that", "no rule lets this user")
	sh("mountpoint -q point")
	r = as(nobody, "stamp", "--yes", osXZ, loop)
	require.Zero(t, r.status, r.out)
	assert.Contains(t, plain(r.out), "Stamped and read back")
	held := d.read("card")
	assert.Equal(t, unpack, held[:len(unpack)])
	receipts, err := filepath.Glob(d.path("state-65534/zipstamp/receipts/*.json"))
	require.NoError(t, err)
	require.Len(t, receipts, 1)
	text, err := os.ReadFile(receipts[0])
	require.NoError(t, err)
	assert.Contains(t, string(text), `"access": "direct"`)
	sh("! mountpoint -q point")
}

func (d *desk) bus() string { return "unix:path=" + d.path("bus") }

// startServices starts a bus and the services, for the length of the test.
func (d *desk) startServices() {
	t := d.t
	d.write("bus.conf", []byte(`<!DOCTYPE busconfig PUBLIC "-//freedesktop//DTD D-Bus Bus Configuration 1.0//EN"
"http://www.freedesktop.org/standards/dbus/1.0/busconfig.dtd">
<busconfig><type>system</type><listen>`+d.bus()+`</listen><auth>EXTERNAL</auth>
<policy context="default">
<allow send_destination="*" eavesdrop="true"/><allow eavesdrop="true"/><allow own="*"/>
<allow user="*"/></policy></busconfig>`))
	d.env = append(d.env, "DBUS_SYSTEM_BUS_ADDRESS="+d.bus())
	const rules = "/etc/polkit-1/rules.d/00-zipstamp-test.rules"
	require.NoError(t, os.WriteFile(rules, []byte(`polkit.addRule(function(action, subject) {
	if (action.id.indexOf("org.freedesktop.udisks2.") == 0 && subject.user == "nobody") return polkit.Result.YES;
});`), 0o644))
	t.Cleanup(func() { os.Remove(rules) })
	start := func(args ...string) {
		cmd := exec.Command(args[0], args[1:]...)
		cmd.Env = d.env
		cmd.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		require.NoError(t, cmd.Start())
		t.Cleanup(func() { _ = cmd.Process.Kill(); _ = cmd.Wait() })
	}
	if exec.Command("udevadm", "control", "--ping", "--timeout=2").Run() != nil {
		start(udevd)
	}
	start("dbus-daemon", "--config-file="+d.path("bus.conf"), "--nofork")
	testbed.Answers(t, d.path("bus"))
	require.NoError(t, exec.Command("udevadm", "trigger", "--subsystem-match=block").Run())
	_ = exec.Command("udevadm", "settle", "--timeout=10").Run()
	start(polkitd, "--no-debug")
	start(udisksd)
	for _, name := range []string{"org.freedesktop.PolicyKit1", "org.freedesktop.UDisks2"} {
		require.Eventually(t, func() bool {
			out, _ := exec.Command("dbus-send", "--bus="+d.bus(), "--print-reply", "--dest=org.freedesktop.DBus", "/",
				"org.freedesktop.DBus.ListNames").Output()
			return strings.Contains(string(out), name)
		}, time.Minute, 100*time.Millisecond, name)
	}
}
