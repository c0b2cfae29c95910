//go:build arm || 386

package state

import "golang.org/x/sys/unix"

// Here the calls without 32 in their name take numbers of 16 bits (setgroups(2), "C library/kernel differences"): half
// of each of ours would be group 0.
const (
	sysSetgroups = unix.SYS_SETGROUPS32
	sysSetfsgid  = unix.SYS_SETFSGID32
	sysSetfsuid  = unix.SYS_SETFSUID32
)
