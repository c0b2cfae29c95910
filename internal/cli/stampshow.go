package cli

import (
	"strings"

	"zipstamp/internal/card"
	"zipstamp/internal/image"
	"zipstamp/internal/meter"
	"zipstamp/internal/stamp"
	"zipstamp/internal/view"
)

// plan is what will be done, with which cards.
func (s *stamping) plan() view.Plan {
	plan := view.Plan{Published: s.found}
	s.load.show(&plan)
	for _, t := range s.left() {
		l := s.examine(t.Card)
		l.Unfinished = s.history().Unfinished(t.Card)
		plan.Cards = append(plan.Cards, l)
	}
	return plan
}

// title says what is stamped onto what.
func (s *stamping) title(targets []*target) string {
	var cards []*card.Card
	for _, t := range targets {
		cards = append(cards, t.Card)
	}
	return view.StampTitle(s.load.named(), cards)
}

// foresee is how long the stamp will take, while the image is checked.
func (s *stamping) foresee(cards []*target) (f meter.Foreseen, ok bool) {
	for _, t := range cards {
		if one := stamp.Foresee(s.load.need(t), t.past, s.set.readBack); one.Next > f.Next {
			f, ok = one, true
		}
	}
	return f, ok
}

// arrives tells whether the image is downloaded while it is stamped.
func (s *stamping) arrives() bool {
	l, ok := s.load.(*remoteLoad)
	return ok && l.arriving()
}

// followed are the cards; where the image arrives, also its download, and all of the work.
func (s *stamping) followed() (all []view.Followed) {
	cards := s.left()
	for _, t := range cards {
		all = append(all, view.Followed{Name: t.Card.Name, Meter: &t.meter})
	}
	if l, ok := s.load.(*remoteLoad); ok && l.arriving() {
		all = append([]view.Followed{{Name: view.TheDownload, Meter: &l.meter}}, all...)
		if l.contents.Size.Certainty != image.Unknown {
			all = append(all, view.Followed{
				Name: view.AllOfIt, Whole: func() meter.Reading { return s.whole(cards) },
			})
		}
	}
	return all
}

// whole is how much of the writing and reading back is done, on all of the cards.
func (s *stamping) whole(cards []*target) meter.Reading {
	r := meter.Reading{Phase: view.AllPhase, Serial: 1, Started: s.started}
	for _, t := range cards {
		need := s.load.need(t)
		r.Total += need
		phases := append(t.meter.Past(), t.meter.Read())
		if s.set.readBack {
			r.Total += need
		}
		for _, p := range phases {
			switch p.Phase {
			case meter.Compare, meter.Write, meter.ReadBack:
				r.Done += min(p.Done-p.Before, need)
			}
		}
	}
	r.Done = min(r.Done, r.Total)
	return r
}

// names are the short names of all cards, as they are typed in.
func (s *stamping) names() string {
	var names []string
	for _, t := range s.targets {
		names = append(names, t.Card.Name)
	}
	return strings.Join(names, " ")
}
