package fetch

import "golang.org/x/sys/windows"

// What the system says where nothing outside can be reached, and where nothing answers.
var (
	unreachable = []error{windows.WSAENETUNREACH, windows.WSAENETDOWN}
	refused     = []error{windows.WSAECONNREFUSED, windows.WSAEHOSTUNREACH}
)
