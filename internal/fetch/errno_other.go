//go:build !windows

package fetch

import "syscall"

// What the system says where nothing outside can be reached, and where nothing answers.
var (
	unreachable = []error{syscall.ENETUNREACH, syscall.ENETDOWN}
	refused     = []error{syscall.ECONNREFUSED, syscall.EHOSTUNREACH}
)
