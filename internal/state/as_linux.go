package state

import (
	"os/user"
	"runtime"
	"strconv"
	"unsafe"

	"golang.org/x/sys/unix"
)

// As does something with the rights of the owner to files, and none of the program's own: so under sudo nothing in a
// person's home, a link or a setting, makes the program read, replace or give away what that person couldn't. The zero
// owner is whoever runs the program.
func As(o Owner, do func() error) error {
	if o == (Owner{}) {
		return do()
	}
	done := make(chan error, 1)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends with this goroutine, and its rights with it
		if err := become(o); err != nil {
			done <- err
			return
		}
		done <- do()
	}()
	return <-done
}

// become gives this thread the owner's rights to files. The Go library's own calls would give them to all threads.
func become(o Owner) error {
	groups := groupsOf(o)
	_, _, errno := unix.RawSyscall(sysSetgroups, uintptr(len(groups)), uintptr(unsafe.Pointer(&groups[0])), 0)
	if errno != 0 {
		return errno
	}
	for _, set := range []struct {
		call uintptr
		id   int
	}{{sysSetfsgid, o.GID}, {sysSetfsuid, o.UID}} {
		if _, _, errno := unix.RawSyscall(set.call, uintptr(set.id), 0, 0); errno != 0 {
			return errno
		}
		// the call says nothing of a failure; asked with a number that can't be, it gives the one that counts
		if now, _, _ := unix.RawSyscall(set.call, ^uintptr(0), 0, 0); int32(now) != int32(set.id) {
			return unix.EPERM
		}
	}
	return nil
}

// groupsOf are all groups of the owner.
func groupsOf(o Owner) []uint32 {
	groups := []uint32{uint32(o.GID)}
	u, err := user.LookupId(strconv.Itoa(o.UID))
	if err != nil {
		return groups
	}
	ids, _ := u.GroupIds() // without them there are fewer rights, and no more
	for _, id := range ids {
		if n, err := strconv.ParseUint(id, 10, 32); err == nil {
			groups = append(groups, uint32(n))
		}
	}
	return groups
}
