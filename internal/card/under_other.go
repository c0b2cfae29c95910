//go:build !linux

package card

import "os"

// Under tells on which file system a folder is, and on which disk that is; nil where that isn't known, as on this system.
func Under(folder string) (c *Card, kind string, err error) {
	_, err = os.Stat(folder)
	return nil, "", err
}
