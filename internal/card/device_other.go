//go:build !linux

package card

import "zipstamp/internal/card/disks"

func deviceNumber(string) (disks.Number, bool) { return disks.Number{}, false }

func ask(string) bool { return false }

func held(string) bool { return false }

func isNoMedium(error) bool { return false }
