// Package uevent listens to what the kernel says of devices that come, change and go.
package uevent

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/sys/unix"
)

// Event is what the kernel says of a device.
type Event struct {
	Action string            // "add", "change", "remove"
	Device string            // its folder below /sys
	Values map[string]string // SUBSYSTEM, DEVNAME, DEVTYPE and others
}

// Disk tells whether the event is about a whole disk.
func (e Event) Disk() bool { return e.Values["SUBSYSTEM"] == "block" && e.Values["DEVTYPE"] == "disk" }

// Parse reads a message of the kernel: "ACTION@DEVICE", then NAME=VALUE, each ended by a zero byte (Linux,
// lib/kobject_uevent.c). It returns false for any other message.
func Parse(message []byte) (Event, bool) {
	head, rest, _ := strings.Cut(string(message), "\x00")
	action, device, ok := strings.Cut(head, "@")
	if !ok || action == "" || !strings.HasPrefix(device, "/") {
		return Event{}, false
	}
	e := Event{action, device, map[string]string{}}
	for rest != "" {
		var pair string
		pair, rest, _ = strings.Cut(rest, "\x00")
		if name, value, ok := strings.Cut(pair, "="); ok {
			e.Values[name] = value
		}
	}
	return e, true
}

// kernelGroup is the multicast group of the kernel's own messages; those of udev have another one.
const kernelGroup = 1

// Listener hears the kernel's messages from when it was made.
type Listener struct {
	fd  int
	buf []byte
}

// Listen starts to listen. It needs no rights.
func Listen() (*Listener, error) {
	fd, err := unix.Socket(unix.AF_NETLINK, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC|unix.SOCK_NONBLOCK,
		unix.NETLINK_KOBJECT_UEVENT)
	if err != nil {
		return nil, fmt.Errorf("listen to the kernel: %w", err)
	}
	if err := unix.Bind(fd, &unix.SockaddrNetlink{Family: unix.AF_NETLINK, Groups: kernelGroup}); err != nil {
		unix.Close(fd)
		return nil, fmt.Errorf("listen to the kernel: %w", err)
	}
	return &Listener{fd: fd, buf: make([]byte, 16<<10)}, nil
}

// Close ends the listening.
func (l *Listener) Close() { unix.Close(l.fd) }

// Next waits for the next message, at most so long. It returns false if none came, and also if some were lost.
func (l *Listener) Next(wait time.Duration) (Event, bool, error) {
	end := time.Now().Add(wait)
	for {
		left := max(time.Until(end), 0)
		poll := []unix.PollFd{{Fd: int32(l.fd), Events: unix.POLLIN}}
		n, err := unix.Poll(poll, int(left.Milliseconds()))
		if errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil || n == 0 {
			return Event{}, false, err
		}
		n, from, err := unix.Recvfrom(l.fd, l.buf, 0)
		switch {
		case errors.Is(err, unix.EAGAIN), errors.Is(err, unix.EINTR):
			continue
		case errors.Is(err, unix.ENOBUFS): // too many at once: whoever listens has to look for himself
			return Event{}, false, nil
		case err != nil:
			return Event{}, false, err
		}
		if sender, ok := from.(*unix.SockaddrNetlink); !ok || sender.Pid != 0 {
			continue // not from the kernel
		}
		if e, ok := Parse(l.buf[:n]); ok {
			return e, true, nil
		}
	}
}
