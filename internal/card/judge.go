package card

import (
	"fmt"
	"slices"
	"strings"
)

// systemPoints are mount points whose loss would harm the computer itself.
var systemPoints = []string{"/", "/boot", "/usr", "/home", "/var", "/etc", "/opt", "/srv", "/root"}

// Judge gives the reasons for which a card must not be written, and what to do; none if it may be. No
// option of the program overrides a reason.
func Judge(c *Card) (reasons []string, next string) {
	system := false
	if c.Virtual != "" {
		reasons = append(reasons, fmt.Sprintf("it is %s, not a card", c.Virtual))
		next = "name the card's own device"
	}
	for _, m := range c.Mounts {
		system = system || isSystemPoint(m.Point)
	}
	if system {
		reasons = append(reasons, "this computer runs from it")
		next = "no option overrides this; name the card's device"
	}
	if len(c.Mounts) > 0 {
		reasons = append(reasons, mounted(c.Mounts))
		if !system {
			next = "unmount it, and run the command again: " + unmountCommand(c.Mounts)
		}
	}
	for _, s := range c.Swaps {
		reasons = append(reasons, fmt.Sprintf("this computer uses %s as swap", s))
	}
	for _, h := range c.Holders {
		reasons = append(reasons, fmt.Sprintf("it is part of %s", h))
	}
	if c.Size == 0 && c.Virtual == "" {
		empty := "there is no card in the reader"
		advice := "put the card in, and run the command again"
		if c.Kind != Block {
			empty = "it is empty; a file that stands for a card has the card's size"
			advice = fmt.Sprintf("make a practice card: zipstamp practice new %s.practice --claimed 64MB", c.Name)
		}
		reasons, next = append(reasons, empty), advice
	}
	if c.ReadOnly {
		reasons = append(reasons, "it is write-protected")
		if next == "" && c.Kind == Block {
			next = "slide the lock on the card's or adapter's side, and put it in again"
		}
	}
	return reasons, next
}

func isSystemPoint(point string) bool {
	return slices.ContainsFunc(systemPoints, func(s string) bool {
		return point == s || s != "/" && strings.HasPrefix(point, s+"/") && s != "/home" && s != "/root"
	})
}

func mounted(mounts []Mount) string {
	var all []string
	for _, m := range mounts {
		all = append(all, fmt.Sprintf("%s (from %s)", m.Point, m.Source))
	}
	return "it is mounted at " + strings.Join(all, ", ")
}

func unmountCommand(mounts []Mount) string {
	var points []string
	for _, m := range mounts {
		point := m.Point
		if strings.ContainsAny(point, " \t'\"\\$&;|<>*?()[]{}`!#~") {
			point = "'" + strings.ReplaceAll(point, "'", `'\''`) + "'"
		}
		points = append(points, point)
	}
	slices.Reverse(points) // what was mounted last comes off first
	return "umount " + strings.Join(points, " ")
}
