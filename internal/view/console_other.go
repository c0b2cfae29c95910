//go:build !windows

package view

import "os"

// takesSequences: terminals read control sequences.
func takesSequences(*os.File) (takes bool, restore func()) { return true, func() {} }

// drawsLines: the locale says it.
func drawsLines([]string) bool { return false }
