// Package desktop asks the service that desktops have for disks, UDisks2, to open, unmount and eject cards for users
// who may not do that themselves. The service asks the user, or decides by its rules. Its interface is described in the
// UDisks Reference Manual.
package desktop

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"
	"time"

	"github.com/godbus/dbus/v5"
	"golang.org/x/sys/unix"
)

// ErrBusy says that programs use what is on a card.
var ErrBusy = errors.New("busy")

const (
	service  = "org.freedesktop.UDisks2"
	manager  = "/org/freedesktop/UDisks2/Manager"
	blockOf  = service + ".Block"
	fsOf     = service + ".Filesystem"
	driveOf  = service + ".Drive"
	noDevice = dbus.ObjectPath("/")
)

// connectTime bounds how long a bus may take to answer at all.
const connectTime = 3 * time.Second

// Service is a connection to the service. It is closed after use.
type Service struct {
	conn *dbus.Conn
	end  context.CancelFunc
}

// Connect connects to the service, on the bus that DBUS_SYSTEM_BUS_ADDRESS names or on the system's own. The error says
// that there is none.
func Connect() (*Service, error) {
	ctx, end := context.WithCancel(context.Background())
	late := time.AfterFunc(connectTime, end)
	s, err := connect(ctx, end)
	if err != nil {
		end()
	}
	if !late.Stop() && err == nil {
		err = errors.New("the system bus doesn't answer")
	}
	return s, err
}

func connect(ctx context.Context, end context.CancelFunc) (*Service, error) {
	conn, err := dbus.ConnectSystemBus(dbus.WithContext(ctx))
	if err != nil {
		return nil, err
	}
	var names []string
	for _, list := range []string{"ListNames", "ListActivatableNames"} {
		var some []string
		if err := conn.BusObject().Call("org.freedesktop.DBus."+list, 0).Store(&some); err != nil {
			conn.Close()
			return nil, err
		}
		names = append(names, some...)
	}
	for _, n := range names {
		if n == service {
			return &Service{conn, end}, nil
		}
	}
	conn.Close()
	return nil, fmt.Errorf("there is no %s on the system bus", service)
}

// Close ends the connection.
func (s *Service) Close() {
	s.conn.Close()
	s.end()
}

type options map[string]dbus.Variant

// block is the object of a device node.
func (s *Service) block(ctx context.Context, device string) (dbus.BusObject, error) {
	var found []dbus.ObjectPath
	spec := options{"path": dbus.MakeVariant(device)}
	call := s.conn.Object(service, manager).CallWithContext(ctx, service+".Manager.ResolveDevice", 0, spec, options{})
	err := call.Store(&found)
	if err != nil {
		return nil, failed("find "+device, err)
	}
	if len(found) != 1 {
		return nil, fmt.Errorf("the desktop's disk service doesn't know %s", device)
	}
	return s.conn.Object(service, found[0]), nil
}

// drive is the object of the drive that a device is in.
func (s *Service) drive(ctx context.Context, device string) (dbus.BusObject, error) {
	b, err := s.block(ctx, device)
	if err != nil {
		return nil, err
	}
	v, err := b.GetProperty(blockOf + ".Drive")
	if err != nil {
		return nil, failed("find the drive of "+device, err)
	}
	path, ok := v.Value().(dbus.ObjectPath)
	if !ok || path == noDevice {
		return nil, fmt.Errorf("the desktop's disk service knows no drive of %s", device)
	}
	return s.conn.Object(service, path), nil
}

func call(ctx context.Context, object dbus.BusObject, method string, args ...any) error {
	return object.CallWithContext(ctx, method, 0, append(args, options{})...).Err
}

// Open opens a device for reading and writing, exclusively. The error is fs.ErrPermission where the service refuses,
// and EBUSY where the device is in use.
func (s *Service) Open(ctx context.Context, device string) (*os.File, error) {
	b, err := s.block(ctx, device)
	if err != nil {
		return nil, err
	}
	var fd dbus.UnixFD
	how := options{"flags": dbus.MakeVariant(int32(unix.O_EXCL | unix.O_CLOEXEC))}
	if err := b.CallWithContext(ctx, blockOf+".OpenDevice", 0, "rw", how).Store(&fd); err != nil {
		return nil, failed("open "+device, err)
	}
	return os.NewFile(uintptr(fd), device), nil
}

// Unmount unmounts the file system on a device. ErrBusy says that it is in use.
func (s *Service) Unmount(ctx context.Context, device string) error {
	b, err := s.block(ctx, device)
	if err != nil {
		return err
	}
	if err := call(ctx, b, fsOf+".Unmount"); err != nil {
		return failed("unmount "+device, err)
	}
	return nil
}

// Rescan has the partition table of a device read again.
func (s *Service) Rescan(ctx context.Context, device string) error {
	b, err := s.block(ctx, device)
	if err != nil {
		return err
	}
	if err := call(ctx, b, blockOf+".Rescan"); err != nil {
		return failed("read the partition table of "+device, err)
	}
	return nil
}

// Eject ejects the medium of the drive that a device is in.
func (s *Service) Eject(ctx context.Context, device string) error {
	d, err := s.drive(ctx, device)
	if err != nil {
		return err
	}
	if err := call(ctx, d, driveOf+".Eject"); err != nil {
		return failed("eject "+device, err)
	}
	return nil
}

// PowerOff turns off the drive that a device is in.
func (s *Service) PowerOff(ctx context.Context, device string) error {
	d, err := s.drive(ctx, device)
	if err != nil {
		return err
	}
	if err := call(ctx, d, driveOf+".PowerOff"); err != nil {
		return failed("turn off "+device, err)
	}
	return nil
}

// failed names an error of the service by what it means.
func failed(what string, err error) error {
	var e dbus.Error
	if errors.As(err, &e) {
		switch e.Name {
		case service + ".Error.NotAuthorized", service + ".Error.NotAuthorizedCanObtain", service +
			".Error.NotAuthorizedDismissed", "org.freedesktop.DBus.Error.AccessDenied":
			return fmt.Errorf("%s by the desktop's disk service: %w", what, fs.ErrPermission)
		case service + ".Error.DeviceBusy":
			return fmt.Errorf("%s by the desktop's disk service: %w", what, errors.Join(ErrBusy, unix.EBUSY))
		}
		if strings.Contains(e.Error(), "resource busy") { // it hands on the system's words, and no name of their own
			return fmt.Errorf("%s by the desktop's disk service: %w", what, unix.EBUSY)
		}
	}
	return fmt.Errorf("%s by the desktop's disk service: %w", what, err)
}
