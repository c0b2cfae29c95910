package card

import (
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"

	"zipstamp/internal/card/disks"
)

// at makes what is present: cards by their keys.
func at(cards ...disks.Disk) map[string]*Card {
	now := map[string]*Card{}
	for _, d := range cards {
		now[d.Key] = &Card{Name: d.Name, Size: d.Size, Serial: d.Serial, Kind: Block, Disk: &d}
	}
	return now
}

func TestWhatCameAndWent(t *testing.T) {
	sdb := disks.Disk{Name: "sdb", Key: "8:16", Size: 8e9, Serial: "1", Insertion: "4"}
	empty, other, again := sdb, sdb, sdb
	empty.Size, other.Size, again.Insertion = 0, 16e9, "5"
	sdc := disks.Disk{Name: "sdc", Key: "8:32", Size: 8e9}
	for _, c := range []struct {
		what        string
		before, now map[string]*Card
		went, came  []string
	}{
		{"nothing happened", at(sdb, sdc), at(sdb, sdc), nil, nil},
		{"a stick came", at(sdb), at(sdb, sdc), nil, []string{"sdc"}},
		{"a stick went", at(sdb, sdc), at(sdb), []string{"sdc"}, nil},
		{"a card was put into a reader", at(empty), at(sdb), nil, []string{"sdb"}},
		{"a card was taken out of a reader", at(sdb), at(empty), []string{"sdb"}, nil},
		{"an empty reader came and went", at(), at(empty), nil, nil},
		{"another card under the same name", at(sdb), at(other), []string{"sdb"}, []string{"sdb"}},
		{"the same card again, between two looks", at(sdb), at(again), []string{"sdb"}, []string{"sdb"}},
	} {
		var went, came []string
		for _, change := range changes(c.before, c.now) {
			if change.Arrived {
				came = append(came, change.Card.Name)
			} else {
				went = append(went, change.Card.Name)
			}
		}
		assert.Equal(t, c.went, went, c.what)
		assert.Equal(t, c.came, came, c.what)
	}
	all := changes(at(sdb), at(other, sdc))
	assert.True(t, slices.IsSortedFunc(all, func(a, b Change) int {
		if a.Arrived == b.Arrived {
			return 0
		}
		if a.Arrived {
			return 1
		}
		return -1
	}), "what went is told first")
}
