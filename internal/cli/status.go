package cli

import (
	"errors"
	"slices"

	"zipstamp/internal/blank"
	"zipstamp/internal/card"
	"zipstamp/internal/fetch"
	"zipstamp/internal/gauge"
	"zipstamp/internal/gauge/journal"
	"zipstamp/internal/image"
	"zipstamp/internal/layout"
	"zipstamp/internal/loose"
	"zipstamp/internal/recheck"
	"zipstamp/internal/stamp"
	"zipstamp/internal/view"
)

// The exit statuses of the program.
const (
	statusGood        = 0   // done, and good
	statusUnexpected  = 1   // a failure that has no number of its own
	statusUsage       = 2   // the command line is wrong
	statusImage       = 3   // the image is not what was published, or is damaged
	statusRefused     = 4   // the card was refused: protected, busy, no permission, too small, gone
	statusCard        = 5   // the card failed
	statusGauge       = 6   // a test found the card counterfeit, faulty or unsteady
	statusNetwork     = 7   // nothing could be downloaded: the network, or a host
	statusInterrupted = 130 // the user stopped it (128 and SIGINT, as shells count)
)

// usageError says that the command line is wrong.
type usageError struct{ err error }

func (e *usageError) Error() string { return e.err.Error() }

func (e *usageError) Unwrap() error { return e.err }

// imageError says that the image is not to be trusted.
type imageError struct{ err error }

func (e *imageError) Error() string { return e.err.Error() }

func (e *imageError) Unwrap() error { return e.err }

// gaugeError says that a test found a card to be one that can't be trusted.
type gaugeError struct{ sentence string }

func (e *gaugeError) Error() string { return e.sentence }

// shown is an error that the user has been told of, with the result.
type shown struct{ err error }

func (e shown) Error() string { return e.err.Error() }

func (e shown) Unwrap() error { return e.err }

func isShown(err error) bool { return errors.As(err, new(shown)) }

// errNotPublished is the error of a check that found a mismatch.
var errNotPublished = &imageError{view.ErrNotPublished}

// statusOf is the exit status that an error stands for.
func statusOf(err error) int {
	switch {
	case err == nil:
		return statusGood
	case errors.Is(err, view.ErrInterrupted):
		return statusInterrupted
	case is[*fetch.Error](err):
		return fetchStatus(err)
	case is[*usageError](err), is[*image.ChoiceError](err):
		return statusUsage
	case is[*imageError](err), is[*image.DamageError](err), is[*image.UnusableError](err), is[*stamp.ChangedError](err),
		is[*loose.Error](err), is[*layout.FileError](err):
		return statusImage
	case is[*card.RefusedError](err), is[*view.Refusal](err), is[*view.NoCardError](err), is[*card.GoneError](err),
		isTooSmall(err), is[*recheck.ShortError](err):
		return statusRefused
	case is[*card.IOError](err), is[*stamp.ReadBackError](err), is[*blank.WrongError](err), is[*loose.WrongError](err),
		is[*differsError](err),
		is[*journal.NotBackError](err):
		return statusCard
	case is[*gaugeError](err), is[*gauge.TooSmallError](err), is[*stamp.CounterfeitError](err):
		return statusGauge
	}
	return statusUnexpected
}

// fetchStatus is that of a download which failed.
func fetchStatus(err error) int {
	var e *fetch.Error
	errors.As(err, &e)
	switch e.Why {
	case fetch.Page, fetch.OtherDigest, fetch.OtherLength:
		return statusImage
	case fetch.NotAnAddress, fetch.Torrent, fetch.Scheme, fetch.Malformed:
		return statusUsage
	case fetch.NoRoom:
		return statusUnexpected
	}
	return statusNetwork
}

// rank orders exit statuses, the worse the higher, where several things were done and the worst counts: what was found
// to be bad before what could not be found out.
func rank(status int) int {
	return slices.Index([]int{
		statusGood, statusUsage, statusRefused, statusUnexpected, statusNetwork, statusCard, statusGauge, statusImage,
		statusInterrupted,
	}, status)
}

// worse is the error with the worse status.
func worse(a, b error) error {
	if rank(statusOf(b)) > rank(statusOf(a)) {
		return b
	}
	return a
}

func is[E error](err error) bool {
	var e E
	return errors.As(err, &e)
}
