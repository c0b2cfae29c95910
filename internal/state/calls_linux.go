//go:build !arm && !386

package state

import "golang.org/x/sys/unix"

const (
	sysSetgroups = unix.SYS_SETGROUPS
	sysSetfsgid  = unix.SYS_SETFSGID
	sysSetfsuid  = unix.SYS_SETFSUID
)
