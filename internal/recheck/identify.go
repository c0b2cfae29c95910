package recheck

import (
	"fmt"
	"strings"

	"zipstamp/internal/layout"
)

// identify tells whether the card has another system than the image: by the receipt of its stamp, which has the digest
// of each block, or by the numbers that file systems get when they are made. The number of the disk says nothing: a
// first start may change it.
func (r *run) identify(now layout.Disk) error {
	if r.Image == nil {
		return nil
	}
	if r.other {
		r.rep.Holds, r.rep.HoldsName = r.Known.Name, true
		return nil
	}
	was, err := layout.Describe(r.was, r.Contents.Size.Known(), layout.SectorSize)
	if err != nil {
		return err
	}
	same, differ := 0, 0
	var which []string
	compare := func(a, b layout.FileSystem, name string) {
		switch {
		case a.UUID == "" || b.UUID == "":
		case a.Kind == b.Kind && strings.EqualFold(a.UUID, b.UUID):
			same++
		default:
			differ++
			which = append(which, fmt.Sprintf("%s is %s, and not %s", name, b.UUID, a.UUID))
		}
	}
	if len(was.Parts) == 0 && len(now.Parts) == 0 {
		compare(was.Whole, now.Whole, "its file system")
	}
	for _, a := range was.Parts {
		for _, b := range now.Parts {
			if a.Number == b.Number {
				compare(a.FileSystem, b.FileSystem, fmt.Sprintf("the file system of partition %d", a.Number))
			}
		}
	}
	if differ > 0 && same == 0 {
		r.rep.Holds = which[0]
	}
	return nil
}
