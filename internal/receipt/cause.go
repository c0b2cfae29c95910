package receipt

import (
	"errors"

	"zipstamp/internal/blank"
	"zipstamp/internal/card"
	"zipstamp/internal/card/fault"
	"zipstamp/internal/gauge"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/loose"
	"zipstamp/internal/recheck"
	"zipstamp/internal/stamp"
)

// Cause is the kind of what ended a job, for advice. Errors of no kind have none.
type Cause string

// The causes.
const (
	CardGone     Cause = "card gone"
	CardSmall    Cause = "card too small"  // for the image, by what it claims
	CardFake     Cause = "card holds less" // than the image needs, as was found before
	CardDiffers  Cause = "card differs"    // from what was written, when it was read back
	CardStuck    Cause = "takes no writes" // anywhere
	CardLocked   Cause = "write-protected" // by itself, in the midst of it
	CardFailed   Cause = "card failed"     // to read or write
	ImageDamaged Cause = "image damaged"
	ImageChanged Cause = "image changed" // since it was checked
	ImageUnfit   Cause = "no image"      // that could be stamped
)

// causeOf is the cause that an error stands for.
func causeOf(err error) Cause {
	switch {
	case is[*stamp.TooSmallError](err), is[*blank.TooSmallError](err), is[*layout.NoRoomError](err),
		is[*recheck.ShortError](err):
		return CardSmall
	case is[*gauge.TooSmallError](err):
		return CardFake
	case is[*card.GoneError](err):
		return CardGone
	case is[*stamp.ChangedError](err):
		return ImageChanged
	case is[*stamp.ReadBackError](err), is[*blank.WrongError](err), is[*loose.WrongError](err):
		return CardDiffers
	case is[*image.DamageError](err):
		return ImageDamaged
	case is[*image.UnusableError](err):
		return ImageUnfit
	case is[*card.StuckError](err):
		return CardStuck
	case is[*card.IOError](err) && errors.Is(err, fault.Locked):
		return CardLocked
	case is[*card.IOError](err):
		return CardFailed
	}
	return ""
}

func is[E error](err error) bool {
	var e E
	return errors.As(err, &e)
}
