//go:build !linux

package card

import "zipstamp/internal/card/disks"

func deviceNumber(string) (disks.Number, bool) { return disks.Number{}, false }

func held(string) bool { return false }

func isNoMedium(error) bool { return false }
