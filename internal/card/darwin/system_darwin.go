package darwin

import (
	"bytes"
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"unsafe"

	"golang.org/x/sys/unix"
)

// Here is this computer.
func Here() Host { return New(real{}) }

// real asks macOS. It has no state.
type real struct{}

// diskutil is a part of the system, and at this place.
const diskutil = "/usr/sbin/diskutil"

func (real) Diskutil(ctx context.Context, words ...string) (out, errs []byte, err error) {
	cmd := exec.CommandContext(ctx, diskutil, words...)
	cmd.Env = []string{"LC_ALL=C", "LANG=C", "PATH=/usr/bin:/bin:/usr/sbin:/sbin", "HOME=/var/empty"}
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	err = cmd.Run()
	return o.Bytes(), e.Bytes(), err
}

func (real) Since(path string) int64 {
	var st unix.Stat_t
	if unix.Stat(path, &st) != nil {
		return 0
	}
	return st.Ctim.Nano()
}

func (real) MayWrite(path string) bool { return unix.Access(path, unix.R_OK|unix.W_OK) == nil }

func (real) On(path string) (m Mounted, err error) {
	path, err = filepath.Abs(path)
	if err != nil {
		return m, err
	}
	for {
		var st unix.Statfs_t
		err := unix.Statfs(path, &st)
		if err == nil {
			return Mounted{
				Device: unix.ByteSliceToString(st.Mntfromname[:]), Point: unix.ByteSliceToString(st.Mntonname[:]),
				Kind: unix.ByteSliceToString(st.Fstypename[:]), Local: st.Flags&unix.MNT_LOCAL != 0,
			}, nil
		}
		parent := filepath.Dir(path)
		if !errors.Is(err, os.ErrNotExist) || parent == path {
			return m, &os.PathError{Op: "statfs", Path: path, Err: err}
		}
		path = parent
	}
}

// Uses are the file systems of the system, and what this program and its user have.
func (r real) Uses() (all []Use, err error) {
	paths := []string{"/", "/System/Volumes/Data", "/System/Volumes/VM", "/System/Volumes/Preboot", "/private/var/vm"}
	if own, err := os.Executable(); err == nil {
		paths = append(paths, own)
	}
	if home, err := os.UserHomeDir(); err == nil {
		paths = append(paths, home)
	}
	for _, p := range paths {
		if _, err := os.Stat(p); errors.Is(err, os.ErrNotExist) && p != "/" {
			continue // older systems have not all of them
		}
		u := Use{Path: p}
		at, err := r.On(p)
		if err != nil {
			u.Error = err.Error()
		}
		if at.Local {
			u.Device = at.Device
		}
		all = append(all, u)
	}
	return all, nil
}

func (real) Name(id int) string {
	out, err := exec.Command("/bin/ps", "-o", "comm=", "-p", strconv.Itoa(id)).Output()
	if err != nil {
		return ""
	}
	return filepath.Base(strings.TrimSpace(string(out)))
}

// Control codes of disks (IOKit/storage/IOMediaBSDClient.h, sys/disk.h).
const (
	getBlockSize    = 0x40046418 // DKIOCGETBLOCKSIZE
	getBlockCount   = 0x40086419 // DKIOCGETBLOCKCOUNT
	synchronizeDisk = 0x20006416 // DKIOCSYNCHRONIZECACHE
)

func (real) Open(path string, write bool) (Raw, error) {
	flags := unix.O_RDONLY
	if write {
		flags = unix.O_RDWR | unix.O_EXLOCK | unix.O_NONBLOCK
	}
	fd, err := unix.Open(path, flags|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, &os.PathError{Op: "open", Path: path, Err: err}
	}
	_ = unix.SetNonblock(fd, false)                      // it was for the lock alone
	_, _ = unix.FcntlInt(uintptr(fd), unix.F_NOCACHE, 1) // the raw device has no cache anyway
	return &device{os.NewFile(uintptr(fd), path)}, nil
}

// device is a raw device that is open.
type device struct{ *os.File }

func (d *device) Size() (bytes int64, sector int, err error) {
	var block uint32
	var count uint64
	if err := control(d.Fd(), getBlockSize, unsafe.Pointer(&block)); err != nil {
		return 0, 0, err
	}
	if err := control(d.Fd(), getBlockCount, unsafe.Pointer(&count)); err != nil {
		return 0, 0, err
	}
	return int64(count) * int64(block), int(block), nil
}

// Flush has the disk empty its own cache. One that has none says that it can't.
func (d *device) Flush() error {
	err := control(d.Fd(), synchronizeDisk, nil)
	if errors.Is(err, unix.ENOTSUP) || errors.Is(err, unix.ENOTTY) {
		return nil
	}
	return err
}

func control(fd uintptr, code uint, into unsafe.Pointer) error {
	if _, _, errno := unix.Syscall(unix.SYS_IOCTL, fd, uintptr(code), uintptr(into)); errno != 0 {
		return os.NewSyscallError("ioctl", errno)
	}
	return nil
}
