package view

import (
	"strings"
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"

	"zipstamp/internal/gauge"
	"zipstamp/internal/layout"
)

func TestRulerIsReadWithoutColour(t *testing.T) {
	extents := func(list ...any) (out []gauge.Stretch) {
		at := int64(0)
		for i := 0; i < len(list); i += 2 {
			n := int64(list[i].(float64))
			out = append(out, gauge.Stretch{
				Extent: layout.Extent{Offset: at, Length: n}, State: gauge.State(list[i+1].(string)),
			})
			at += n
		}
		return out
	}
	v := &Screen{}
	for _, c := range []struct {
		what    string
		extents []gauge.Stretch
		size    int64
		bar     string
		labels  string
	}{
		{"half of it", extents(32e9, "holds", 32e9, "lost"), 64e9, "[##########..........]", " 0             50 GB"},
		{
			"a thousandth of it is still seen", extents(2e9, "holds", 1998e9, "repeats"), 2000e9,
			"[#...................]", " 0       1000  2000 GB",
		},
		{
			"a bad sector is still seen", extents(100e6, "holds", 512.0, "worn", 100e6-512, "holds"), 200e6,
			"[##########x#########]", " 0        100   200 MB",
		},
		{
			"a lost sector is a fault", extents(100e6, "holds", 512.0, "lost", 100e6-512, "holds"), 200e6,
			"[##########x#########]", "",
		},
		{"both ends", extents(16e9, "holds", 32e9, "lost", 16e9, "holds"), 64e9, "[#####..........#####]", ""},
		{"a part of it", extents(16e9, "holds", 48e9, "not tested"), 64e9, "[#####???????????????]", ""},
		{"nothing", extents(64e9, "lost"), 64e9, "[....................]", ""},
	} {
		lines := v.ruler(c.extents, c.size, 22)
		assert.Equal(t, c.bar, lines[0], c.what)
		if c.labels != "" {
			assert.Equal(t, c.labels, lines[2], c.what)
		}
	}
	v.unicode = true
	for width := 12; width < 100; width++ {
		for _, size := range []int64{1 << 20, 64e6, 1999e6, 32e9, 2e12, 3e15} {
			for i, l := range v.ruler(extents(float64(size/3), "holds", float64(size-size/3), "lost"), size, width) {
				assert.LessOrEqual(t, ansi.StringWidth(l), max(width, 12), "%d %d %q", size, width, l)
				assert.Equal(t, i == 0, strings.Contains(l, "█"))
			}
		}
	}
}
