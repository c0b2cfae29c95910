//go:build unix && !linux

package fault

// Other systems have no more errors for these.
var badHere, noMediumHere []error
