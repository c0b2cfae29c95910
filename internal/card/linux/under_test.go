//go:build linux

package linux

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"zipstamp/internal/card"
)

// TestFileSystemsThatAreOnNoDisk has kinds of which a test has none at hand.
func TestFileSystemsThatAreOnNoDisk(t *testing.T) {
	for kind, want := range map[string]card.Standing{
		"nfs4": {Network: true}, "cifs": {Network: true}, "fuse.sshfs": {Network: true}, "tmpfs": {NoDisk: true},
		"proc": {NoDisk: true}, "vfat": {}, "exfat": {}, "ext4": {}, "": {},
	} {
		want.Kind = kind
		assert.Equal(t, want, standingOf(kind))
	}
}
