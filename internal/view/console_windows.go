package view

import (
	"os"

	"golang.org/x/sys/windows"
)

// takesSequences has a console read the control sequences by which colours and bars are drawn, which it does when
// asked, from Windows 10 on. It tells whether it does; restore undoes it.
func takesSequences(f *os.File) (takes bool, restore func()) {
	console := windows.Handle(f.Fd())
	var mode uint32
	if windows.GetConsoleMode(console, &mode) != nil {
		return true, func() {} // a terminal of another kind
	}
	const wanted = windows.ENABLE_PROCESSED_OUTPUT | windows.ENABLE_VIRTUAL_TERMINAL_PROCESSING
	if mode&wanted == wanted {
		return true, func() {}
	}
	if windows.SetConsoleMode(console, mode|wanted) != nil {
		return false, func() {}
	}
	return true, func() { _ = windows.SetConsoleMode(console, mode) } // what comes after doesn't depend on it
}

// drawsLines tells whether a console has the letters that lines and bars are made of: the older one's fonts lack some.
func drawsLines(environ []string) bool { return valueIn(environ, "WT_SESSION") != "" }
