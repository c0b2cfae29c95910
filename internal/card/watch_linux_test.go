package card

import (
	"context"
	"errors"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"zipstamp/internal/card/disks"
)

// at makes what is present: cards by their minor number.
func at(cards ...disks.Disk) map[disks.Number]*Card {
	now := map[disks.Number]*Card{}
	for _, d := range cards {
		now[d.Number] = &Card{Name: d.Name, Size: d.Size, Disk: &d}
	}
	return now
}

func TestWhatCameAndWent(t *testing.T) {
	sdb := disks.Disk{Name: "sdb", Number: disks.Number{Major: 8, Minor: 16}, Size: 8e9, Serial: "1", Seq: 4}
	empty, other, again := sdb, sdb, sdb
	empty.Size, other.Size, again.Seq = 0, 16e9, 5
	sdc := disks.Disk{Name: "sdc", Number: disks.Number{Major: 8, Minor: 32}, Size: 8e9}
	for _, c := range []struct {
		what        string
		before, now map[disks.Number]*Card
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

func TestWatchingEndsWithItsContext(t *testing.T) {
	ctx, cancel := context.WithCancelCause(context.Background())
	stop := errors.New("stopped")
	ready := false
	time.AfterFunc(200*time.Millisecond, func() { cancel(stop) })
	err := Watch(ctx, func() { ready = true }, func(Change) error { return nil })
	assert.ErrorIs(t, err, stop)
	assert.True(t, ready)
}
