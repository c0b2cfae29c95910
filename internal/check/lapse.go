package check

import (
	"path/filepath"

	"zipstamp/internal/trust"
)

// Lapse is that the signatures of what an address has now fall behind those of what it had before.
type Lapse struct {
	Before trust.Past
	Now    *trust.Signature // an older one by the same key; nil if nothing is signed any more
}

// Lapse tells whether what was published falls behind what is remembered, as far as that is known before the download
// is read.
func (p Published) Lapse() *Lapse {
	if len(p.Signed) > 0 {
		return nil
	}
	return lapse(p.Origin.Before, p.Signatures)
}

// Lapse tells whether the download falls behind what is remembered of its address.
func (r Report) Lapse() *Lapse { return lapse(r.Origin.Before, r.Signatures) }

func lapse(past []trust.Past, signatures []trust.Signature) *Lapse {
	for _, before := range past {
		var now, any *trust.Signature
		for i, s := range signatures {
			if s.Status != trust.Good {
				continue
			}
			any = &signatures[i]
			of := s.Of == before.Of || before.Image && filepath.Dir(s.Of) == filepath.Dir(before.Of)
			if of && s.Key.Fingerprint == before.Fingerprint && (now == nil || s.Made.After(now.Made)) {
				now = any
			}
		}
		switch {
		case any == nil:
			return &Lapse{Before: before}
		case now != nil && now.Made.Before(before.Made):
			return &Lapse{before, now}
		}
	}
	return nil
}
