//go:build linux

// Package wine runs the program that is built for Windows under Wine, with a driver of ours that plays a card reader.
// That puts the program's real system calls, control codes and structures against a stand-in: what it answers is our
// reading of Microsoft's documentation, and no evidence of what Windows does.
package wine

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
)

// Desk is a folder that programs under Wine see as Z:\work, and the reader.
type Desk struct {
	kit string // where the system with Wine is
	Dir string
}

// kitVersion is changed when what is in the kit changes.
const kitVersion = "1"

// NewDesk gives a desk in a folder. The system with Wine is in another one, and is made if it isn't there: that takes
// root, debootstrap, Debian's packages and a minute.
func NewDesk(kit, dir, driver string) (*Desk, error) {
	d := &Desk{kit, dir}
	if err := os.MkdirAll(filepath.Dir(kit), 0o755); err != nil {
		return nil, err
	}
	lock, err := os.Create(kit + ".lock")
	if err != nil {
		return nil, err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return nil, err
	}
	if text, err := os.ReadFile(filepath.Join(kit, "version")); err != nil || string(text) != kitVersion {
		if err := d.makeKit(); err != nil {
			return nil, fmt.Errorf("make a system with Wine: %w", err)
		}
	}
	return d, d.makeReader(driver)
}

// run runs a command of this computer.
func run(name string, words ...string) error {
	if out, err := exec.Command(name, words...).CombinedOutput(); err != nil {
		return fmt.Errorf("%s %s: %w: %s", name, strings.Join(words, " "), err, out[max(len(out)-2000, 0):])
	}
	return nil
}

// makeKit unpacks a small Debian with Wine 10. Wine 8, that of the release before it, starts no program of Go.
func (d *Desk) makeKit() error {
	if err := os.RemoveAll(d.kit); err != nil {
		return err
	}
	if err := run("debootstrap", "--variant=minbase", "trixie", d.kit); err != nil {
		return err
	}
	if err := run("cp", "/etc/resolv.conf", filepath.Join(d.kit, "etc")); err != nil {
		return err
	}
	for _, name := range []string{"/etc/apt/apt.conf.d", "/etc/apt/auth.conf.d"} { // how packages are got here
		if _, err := os.Stat(name); err == nil {
			if err := run("cp", "-r", name, filepath.Join(d.kit, "etc/apt")); err != nil {
				return err
			}
		}
	}
	const install = `mount -t proc proc "$0/proc"
		chroot "$0" env DEBIAN_FRONTEND=noninteractive apt-get install -y -q --no-install-recommends wine wine64`
	if err := run("unshare", "-m", "sh", "-ec", install, d.kit); err != nil {
		return err
	}
	return os.WriteFile(filepath.Join(d.kit, "version"), []byte(kitVersion), 0o644)
}

// makeReader makes a folder for Windows with the driver in it.
func (d *Desk) makeReader(source string) error {
	if err := os.WriteFile(filepath.Join(d.Dir, "control"), make([]byte, 28), 0o644); err != nil {
		return err
	}
	if _, said, err := d.Run(context.Background(), "wineboot", "-i"); err != nil {
		return fmt.Errorf("%w: %s", err, said)
	}
	drivers := filepath.Join(d.Dir, "prefix/drive_c/windows/system32/drivers")
	if err := run("x86_64-w64-mingw32-gcc", "-O1", "-w", "-shared", "-nostdlib", "-I/usr/share/mingw-w64/include/ddk",
		"-Wl,--subsystem,native", "-Wl,--entry,DriverEntry", `-DBACKING=L"\\??\\Z:\\work\\card.img"`,
		`-DCONTROL=L"\\??\\Z:\\work\\control"`, "-o", filepath.Join(drivers, "fakedisk.sys"), source, "-lntoskrnl",
	); err != nil {
		return err
	}
	const service = "REGEDIT4\r\n\r\n[HKEY_LOCAL_MACHINE\\System\\CurrentControlSet\\Services\\fakedisk]\r\n" +
		"\"Type\"=dword:00000001\r\n\"Start\"=dword:00000002\r\n\"ErrorControl\"=dword:00000001\r\n" +
		"\"ImagePath\"=\"C:\\\\windows\\\\system32\\\\drivers\\\\fakedisk.sys\"\r\n"
	if err := os.WriteFile(filepath.Join(d.Dir, "service.reg"), []byte(service), 0o644); err != nil {
		return err
	}
	status, said, err := d.Run(context.Background(), "wine", "regedit", "/S", `Z:\work\service.reg`)
	if err == nil && status != 0 {
		err = fmt.Errorf("regedit: exit status %d: %s", status, said)
	}
	return err
}

// Card is what is in the reader.
type Card struct {
	Gone    bool
	Bad     uint32 // a sector that fails; 0: none
	Real    uint32 // sectors that it really has; 0: all
	Claimed uint32 // sectors, when it is put in; 0: as many as its file
	Locked  bool   // write-protected
	After   uint32 // sectors written, by when it is gone; 0: never
	Busy    bool   // its volume can't be taken out of use
}

// Set changes the card that is in the reader, while programs run.
func (d *Desk) Set(c Card) error {
	flag := func(b bool) uint32 {
		if b {
			return 1
		}
		return 0
	}
	var b bytes.Buffer
	for _, n := range []uint32{flag(c.Gone), c.Bad, c.Real, c.Claimed, flag(c.Locked), c.After, flag(c.Busy)} {
		b.Write(binary.LittleEndian.AppendUint32(nil, n))
	}
	f, err := os.OpenFile(filepath.Join(d.Dir, "control"), os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.WriteAt(b.Bytes(), 0)
	return errors.Join(err, f.Close())
}

// Insert puts a card into the reader, whose contents are in the desk's file card.img.
func (d *Desk) Insert(ctx context.Context, contents []byte, c Card) error {
	_, _, _ = d.Run(ctx, "wineserver", "-k") // the driver begins anew
	if err := os.RemoveAll(d.letter()); err != nil {
		return err
	}
	if err := os.WriteFile(filepath.Join(d.Dir, "card.img"), contents, 0o644); err != nil {
		return err
	}
	if err := d.Set(c); err != nil {
		return err
	}
	// it stays between programs, and must not keep what they print from ending
	if _, said, err := d.Run(ctx, "sh", "-c", "wineserver -p </dev/null >/dev/null 2>&1"); err != nil {
		return fmt.Errorf("start Wine: %w: %s", err, said)
	}
	// the driver is started with Wine, and this waits for that
	_, said, err := d.Run(ctx, "wine", "net", "start", "fakedisk")
	if err == nil && !strings.Contains(said, "already running") && !strings.Contains(said, "successfully") {
		err = fmt.Errorf("the driver was not started: %s", said)
	}
	return err
}

// Mount lets programs see the folder "files" of the desk at X:\, the letter of the card's volume: the driver knows no
// file systems. It lasts until a card is put in.
func (d *Desk) Mount() error {
	if err := os.MkdirAll(filepath.Join(d.Dir, "files"), 0o755); err != nil {
		return err
	}
	return os.Symlink("/work/files", d.letter())
}

func (d *Desk) letter() string { return filepath.Join(d.Dir, "prefix/dosdevices/x:") }

// Contents is what the card in the reader holds.
func (d *Desk) Contents() ([]byte, error) { return os.ReadFile(filepath.Join(d.Dir, "card.img")) }

// Command is a command in the system with Wine, with Z:\work as its folder. A word NAME=VALUE before it sets a
// variable.
func (d *Desk) Command(ctx context.Context, words ...string) *exec.Cmd {
	const script = `kit=$0 desk=$1; shift 1
		mkdir -p "$kit/work"
		mount --bind "$desk" "$kit/work"
		mount -t proc proc "$kit/proc"
		mount --bind /dev "$kit/dev"
		exec chroot "$kit" env -i -C /work HOME=/root XDG_RUNTIME_DIR=/tmp PATH=/usr/bin:/bin TERM=xterm-256color \
			WINEPREFIX=/work/prefix WINEDEBUG=-all WINEDLLOVERRIDES=mscoree,mshtml= LANG=C.UTF-8 "$@"`
	return exec.CommandContext(ctx, "unshare", append([]string{"-m", "sh", "-ec", script, d.kit, d.Dir}, words...)...)
}

// Run runs a Command, and gives what it printed on both outputs.
func (d *Desk) Run(ctx context.Context, words ...string) (status int, said string, err error) {
	cmd := d.Command(ctx, words...)
	// a file, and no pipe: Wine's own services keep it open
	out, err := os.CreateTemp("", "wine-")
	if err != nil {
		return 0, "", err
	}
	defer os.Remove(out.Name())
	defer out.Close()
	cmd.Stdout, cmd.Stderr = out, out
	err = cmd.Run()
	text, failed := os.ReadFile(out.Name())
	var exit *exec.ExitError
	if errors.As(err, &exit) && ctx.Err() == nil {
		return exit.ExitCode(), string(text), failed
	}
	return 0, string(text), errors.Join(err, failed)
}

// Close ends Wine.
func (d *Desk) Close() {
	_, _, _ = d.Run(context.Background(), "wineserver", "-k")
	_, _, _ = d.Run(context.Background(), "wineserver", "-w") // until it has written what it keeps
}
