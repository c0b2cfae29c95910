package card

import (
	"context"
	"time"

	"zipstamp/internal/card/disks"
	"zipstamp/internal/card/uevent"
)

// How long is waited: for the kernel's next message before it is looked all the same (a container hears none), and after one until the
// partitions are known too.
const (
	lookEvery  = 2 * time.Second
	settleTime = 400 * time.Millisecond
)

// Watch tells of each card that is put in or taken out from when it has called ready, until tell returns an error, which it returns, or
// ctx ends. A card that is here already counts when it has been taken out and put in again.
func Watch(ctx context.Context, ready func(), tell func(Change) error) error {
	l, err := uevent.Listen()
	if err != nil {
		return err
	}
	defer l.Close()
	before, err := present()
	if err != nil {
		return err
	}
	ready()
	looked := time.Now()
	for {
		e, heard, err := l.Next(100 * time.Millisecond)
		if err != nil {
			return err
		}
		if ctx.Err() != nil {
			return context.Cause(ctx)
		}
		if heard && !e.Disk() || !heard && time.Since(looked) < lookEvery {
			continue
		}
		if heard {
			time.Sleep(settleTime)
			for more := true; more && err == nil; { // what belongs to the same event
				_, more, err = l.Next(0)
			}
		}
		looked = time.Now()
		now, err := present()
		if err != nil {
			return err
		}
		for _, change := range changes(before, now) {
			if err := tell(change); err != nil {
				return err
			}
		}
		before = now
	}
}

// present lists the disks, those without a medium too.
func present() (map[disks.Number]*Card, error) {
	all, err := All()
	if err != nil {
		return nil, err
	}
	now := map[disks.Number]*Card{}
	for _, c := range all {
		if c.Disk.Bus != disks.Loop && c.Disk.Made == "" && c.Disk.Unfit == "" {
			now[c.Disk.Number] = c
		}
	}
	return now, nil
}

// changes are the cards that went and came between two looks.
func changes(before, now map[disks.Number]*Card) (all []Change) {
	for n, c := range before {
		other := now[n]
		if c.Size > 0 && (other == nil || other.Size == 0 || c.Disk.Identity().Changed(other.Disk.Identity()) != "") {
			all = append(all, Change{c, false})
		}
	}
	for n, c := range now {
		other := before[n]
		if c.Size > 0 && (other == nil || other.Size == 0 || other.Disk.Identity().Changed(c.Disk.Identity()) != "") {
			all = append(all, Change{c, true})
		}
	}
	return all
}
