package view

import (
	"errors"
	"fmt"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/shell"
)

// What is wrong with a command line, in words. None of these decides anything: the commands do, and choose the words
// here.

// hinted is an error with advice.
func hinted(next, format string, args ...any) error {
	return &Hint{Err: fmt.Errorf(format, args...), Next: next}
}

// Errors of a command line that always read the same.
var (
	ErrAllOrArrive  = errors.New("--all and --arrive can't be combined")
	ErrKeepOrAgain  = errors.New("--keep, --again and --remove can't be combined")
	ErrImageOrOther = errors.New("give an image or --against, not both")
	ErrOneDigest    = errors.New("--digest is the digest of one image, but several images were given")
	ErrOneCopy      = errors.New("--save-first copies one card, but there are several; save each by zipstamp save")
	ErrInputTwice   = errors.New("the standard input can't be both the image and its digest")
	ErrNoCardNamed  = hinted("name the card; zipstamp cards lists them",
		"with --yes nothing is asked, so the card must be named")
	ErrNoTerminal = hinted("name the card; zipstamp cards lists them",
		"no card was named, and there is no terminal to choose one on")
	ErrOneReceipt = hinted(
		"give an existing folder, or leave --receipt out to keep the receipts in the usual folder",
		"--receipt gives one file, but there are several cards",
	)
	ErrNoReceipt     = hinted("list the receipts: zipstamp receipts list", "there is no such receipt")
	ErrDemoJSON      = errors.New("the demo shows what a person sees, so it has no --json")
	ErrKeysAsRoot    = errors.New("keys are kept for a person, not for root: run the command without sudo")
	ErrNotTyped      = errors.New("the fingerprint was not typed, so the key was not kept")
	ErrNoFingerprint = hinted("say which key it must be: --fingerprint TEXT",
		"there is no terminal to compare the fingerprint on")
	ErrNoClaimed    = errors.New("--claimed is missing: the size that the card claims to have, such as 64MB")
	ErrNotPublished = errors.New("not what was published")
	ErrNothing      = errors.New("it must be more than 0")
)

// OutOfRange says that a number is not within bounds.
func OutOfRange(what string, n, least, most int) error {
	return fmt.Errorf("%s is %d; it must be from %d to %d", what, n, least, most)
}

// NoNumber says that a setting is not a whole number; NotBool that it is neither true nor false.
func NoNumber(what, given string) error {
	return fmt.Errorf("%s is %q; it must be a whole number, such as 3", what, given)
}

// NoTime says that a setting is no length of time that makes sense.
func NoTime(what, given string) error {
	return fmt.Errorf("%s is %q; it must be a time from 0.1s to 1h, such as 30s", what, given)
}

// NotBool says that a setting is neither true nor false.
func NotBool(what, given string) error {
	return fmt.Errorf("%s is %q; it must be true or false", what, given)
}

// Needs says what a command lacks; TooMany that it was given too much; Unclear that it takes nothing.
func Needs(command, what string) error {
	return fmt.Errorf("%s needs %s; none was given", command, what)
}

// TakesNone says that a command takes no arguments.
func TakesNone(command, given string) error {
	return fmt.Errorf("%s takes no arguments, so it is not clear what %s means", command, given)
}

// TakesLess says that a command takes fewer arguments than were given.
func TakesLess(command string, most, given int) error {
	return fmt.Errorf("%s takes at most %s, but %d were given", command, Count(most, "argument"), given)
}

// NeedsMore says that a command needs more arguments, with its form.
func NeedsMore(command, form string) error { return fmt.Errorf("%s needs more: %s", command, form) }

// DeviceName says that a name stands for a device, and for no file, wherever the file would be.
func DeviceName(path string) error {
	return hinted("choose another name", "%s can't be the name of a file: Windows keeps it for a device", path)
}

// SeeHelp adds to an error of the command line where to read more.
func SeeHelp(err error, command string) error {
	return &Hint{Err: err, Next: "see " + command + " --help"}
}

// OfFlag says which flag an error is of.
func OfFlag(flag string, err error) error { return fmt.Errorf("%s: %w", flag, err) }

// FirstTooSmall says that --first is less than a block.
func FirstTooSmall(given string, block int64) error {
	return fmt.Errorf("--first %s is too small: it must be at least one block, %s", given, Bytes(block))
}

// FirstTooLarge says that --first is more than the card claims.
func FirstTooLarge(given, card string, claims int64) error {
	return hinted("leave it out to test the whole card", "--first is %s, but %s claims only %s", given, card,
		Bytes(claims))
}

// BadDigest says that what was given as a digest is none.
func BadDigest(err error) error {
	return hinted("copy the digest again, whole, from the publisher's page", "--digest: %w", err)
}

// NoImageIn says that a folder has no image.
func NoImageIn(folder string) error { return fmt.Errorf("there is no image in the folder %s", folder) }

// NamesNoneHere says that none of the files is here that a file of digests names. near are files with names near
// theirs.
func NamesNoneHere(sums string, missing, near []string) error {
	const most = 4
	if len(missing) == 0 {
		return &Hint{
			Err:  fmt.Errorf("%s names no file", FileName(sums)),
			Next: "name the image, too: zipstamp check IMAGE " + shell.File(sums),
		}
	}
	err := fmt.Errorf("none of the files that %s names is beside it (%s)", FileName(sums), listed(missing, most))
	if len(near) == 0 {
		return err
	}
	return &Hint{Err: err, Next: "name the image, too, if it was renamed: zipstamp check " + shell.File(near[0]) + " " +
		shell.File(sums)}
}

// SumsNoImage says that a file of digests was named in the place of an image.
func SumsNoImage(sums, next string) error {
	if next == "" {
		next = "name the image; a file of digests is given by --sums FILE"
	}
	return &Hint{Err: fmt.Errorf("%s is a file of digests, not an image", FileName(sums)), Next: next}
}

// NotEmpty says that a folder for the demo is in use.
func NotEmpty(folder string) error {
	return hinted("name a new folder", "the folder %s is not empty", folder)
}

// TakenPath says that something is already where a file is to be made.
func TakenPath(path string) error {
	return hinted("choose another name, or remove it first", "%s already exists", path)
}

// CardTwice says that a card is named twice.
func CardTwice(path string) error { return fmt.Errorf("the card %s is named twice", path) }

// SeveralKeys says that a file has more keys than one.
func SeveralKeys(path string, n int) error {
	return fmt.Errorf("%s holds %d keys; give a file with only the one that you want to keep", path, n)
}

// OtherKey says that a key is not the one that was meant.
func OtherKey(fingerprint string) error {
	return fmt.Errorf("the key has another fingerprint: %s", fingerprint)
}

// NoKey says that no such key is kept.
func NoKey(id string) error {
	return hinted("list the keys that you keep: zipstamp keys list", "you keep no key %s", id)
}

// ManyKeys says that part of an identifier fits several keys.
func ManyKeys(id string, n int) error {
	return fmt.Errorf("%s fits %d keys; give more of it", id, n)
}

// NotADate says that a text is no date.
func NotADate(given string) error {
	return fmt.Errorf("%q is not a day such as 2026-11-26, yesterday or \"3 days ago\"", given)
}

// NoPlainFile says that a path is not that of a plain file.
func NoPlainFile(path string) error { return fmt.Errorf("%s is not a plain file", path) }

// NoExport says that a receipt can't be exported as what the file's ending asks for.
func NoExport(ending string) error {
	return fmt.Errorf("a receipt can be exported as .html, .png, .txt or .json, but not as %q", ending)
}

// NoBlocks says that a receipt has nothing to compare a card with.
func NoBlocks(stamped time.Time, next string) error {
	return hinted(next, "the receipt of %s has no digests of what was stamped", Day(stamped))
}

// The parts of a practice card's fault that can't be read.
var (
	ErrNoSector = errors.New("sector= is missing")
	badFault    = "%q is not one of kind=, sector=, count=, times= and chance="
)

// FaultKey says that a key is none of a fault's; FaultTwice that it is given twice; FaultNumber that its value is no
// number.
func FaultKey(pair string) error { return fmt.Errorf(badFault, pair) }

// FaultTwice says that a key is given twice.
func FaultTwice(key string) error { return fmt.Errorf("%s is given twice", key) }

// FaultNumber says that the value of a key is no number.
func FaultNumber(key, value string) error { return fmt.Errorf("%s: %q is not a number", key, value) }

// BadSetting says what is wrong with a line of the settings file.
func BadSetting(file string, line int, what string) error {
	if line == 0 {
		return fmt.Errorf("%s: %s", file, what)
	}
	return fmt.Errorf("%s, line %d: %s", file, line, what)
}

// UnknownSetting says that a setting is none of ours.
func UnknownSetting(name string, known []string) string {
	return fmt.Sprintf("%s is not a setting; the settings are %s", name, and(known))
}

// SettingNumber and its like say what a setting must be.
func SettingNumber(name string) string { return name + " must be a whole number, such as 3" }

// SettingBool says that a setting must be true or false.
func SettingBool(name string) string { return name + " must be true or false" }

// SettingText says that a setting must be a text.
func SettingText(name string) string {
	return name + ` must be a text in quotes, such as "/home/club/receipts"`
}

// SettingForm says that a line is not of the file's form.
func SettingForm(why string) string {
	return "not a setting in the form of TOML, such as repairs = 3 (" + why + ")"
}

// NoRoomForReceipt is the error of a job that was not started since its receipt could not be kept.
func NoRoomForReceipt(err error) error {
	return hinted("give a place that has room and can be written: --receipt FILE",
		"the receipt can't be written, so nothing was started: %w", err)
}

// IsTheImage says that the receipt would overwrite the image.
func IsTheImage(path string) error { return fmt.Errorf("%s is the image", path) }

// NothingPublished is the error of an image that was not stamped since nothing was published of it; packed are packed
// files that it may be unpacked from, of which digests are published.
func NothingPublished(image string, packed []string) error {
	if len(packed) > 0 {
		return hinted("stamp the packed file, which needs no unpacking, or go without a comparison (--unchecked)",
			"the published digest is of the packed file %s, not of %s, so that was not stamped", or(packed),
			FileName(image))
	}
	return hinted("give the published digest (--digest TEXT or --sums FILE), or go without (--unchecked)",
		"no published digest of %s was found, so it was not stamped", FileName(image))
}

// LargerCard adds to an error of a card that is too small what to do.
func LargerCard(err error) error { return &Hint{Err: err, Next: "use a larger card"} }

// KeysUnread is the error of keys that can't be read.
func KeysUnread(err error) error { return fmt.Errorf("the keys that you keep can't be read: %w", err) }

// KeyUnkept is the error of a key that could not be kept.
func KeyUnkept(err error) error { return fmt.Errorf("the key could not be kept: %w", err) }

// ResultLost is the error of a result that nobody may have seen.
func ResultLost(err error) error { return fmt.Errorf("the result could not be written: %w", err) }

// NoHome is the error of a person under sudo who has no home.
func NoHome(err error) error {
	return fmt.Errorf("the home of the user who called sudo was not found: %w", err)
}

// DemoFailed is the error of a demo that does not show what it should.
func DemoFailed(step, status, expected int) error {
	return fmt.Errorf("step %d of the demo ended with status %d, not %d", step, status, expected)
}

// NoSample is the error of sample data that could not be made.
func NoSample(err error) error { return fmt.Errorf("the sample data could not be made: %w", err) }

// Refusals that commands make for reasons of their own.

// NotTyped is the refusal of a question that was answered with something else than the names of the cards.
func NotTyped(names string, several bool) error {
	why := "its name was not typed, so nothing was written"
	if several {
		why = "their names were not typed, so nothing was written"
	}
	return &Refusal{Card: names, Why: why}
}

// NoneChosen is the refusal of a list of cards of which none was chosen; NoneHere that of an empty one.
func NoneChosen() error { return &Refusal{Card: "a card", Why: "none was chosen, so nothing was done"} }

// NoneHere is the refusal where no writable card is in the computer.
func NoneHere() error {
	return &Hint{
		Err: &NoCardError{}, Next: "put one in; zipstamp cards --all shows every disk, and why it can't be chosen",
	}
}

// NoCardError says that there is no card to choose.
type NoCardError struct{}

func (*NoCardError) Error() string { return "no writable card found" }

// NeedsPerson is the refusal of a disk whose name must be typed where nobody can; NeedsYes that of a card.
func NeedsPerson(card string) error {
	return &Refusal{
		Card: card, Why: "it is not a card, and there is no terminal to type its name on",
		Next: "run the command on a terminal; --yes doesn't replace typing the name of a fixed disk",
	}
}

// NeedsYes is the refusal of a card where nobody can be asked, and --yes wasn't given.
func NeedsYes(card string) error {
	return &Refusal{
		Card: card, Why: "there is no terminal to ask whether it may be overwritten", Next: "in a script, add --yes",
	}
}

// SameFile is the refusal of an image that is the card.
func SameFile(card string) error {
	return &Refusal{Card: card, Why: "image and card are the same file"}
}

// NoRightToRead is the refusal of a card that this user may not read.
func NoRightToRead(card string, err error) error {
	return &Refusal{Card: card, Why: "you have no permission to read it", Err: err}
}

// TooSmallToTime is the refusal of a card that is too small to measure its pace.
func TooSmallToTime(card string, err error) error {
	return &Refusal{Card: card, Why: "it is too small to measure its pace", Err: err}
}

// What a plain file is that can't be taken for a card.
const (
	Unreadable   = "it can't be read"
	PlainDisc    = "it is a disc image, not a file that stands for a card"
	HoldsUnknown = "it has contents that don't look like a card's"
)

// PackedAs says how a file is packed that can't be taken for a card.
func PackedAs(packing string) string {
	return "it is packed as " + packing + ", so it is not a file that stands for a card"
}

// IsA says what a file is that can't be taken for a card; what is from Stranger.
func IsA(what string) string { return "it is " + what + ", not a file that stands for a card" }

// IsDownload says that a file of digests names the file.
func IsDownload(sums string) string { return "it is a download: its digest is in " + FileName(sums) }

// NotACard is the refusal of a plain file that isn't known to stand for a card.
func NotACard(card, why string, err error) error {
	return &Refusal{
		Card: card, Why: why, Err: err,
		Next: "check the order of image and card; to make a practice card: zipstamp practice new FILE --claimed 64MB",
	}
}

// What must not lie on a card, in words.
const (
	TheReceipts    = "the folder where receipts are kept"
	TheSaved       = "the folder for data saved from cards"
	TheReceipt     = "the place for the receipt"
	TheImage       = "the image"
	TheSumsOrAKeys = "a file to check the image by"
)

// Refusals of a folder whose free space was to be tested.

// NoFolder is the refusal of a folder that isn't there.
func NoFolder(folder string) error {
	return &Refusal{Card: folder, Why: "there is no such folder", Next: "put the card in, and name a folder on it"}
}

// NotAFolder is the refusal of what is no folder.
func NotAFolder(path string) error {
	return &Refusal{Card: path, Why: "it is not a folder", Next: "name a folder on the card"}
}

// OnNetwork is the refusal of a folder on a network file system of a kind.
func OnNetwork(folder, kind string) error {
	return &Refusal{
		Card: folder, Why: fmt.Sprintf("it is on a network file system (%s), not on a card", kind),
		Next: "put the card into this computer, and name a folder on it",
	}
}

// OnNoDisk is the refusal of a folder on a file system that has no disk.
func OnNoDisk(folder, kind string) error {
	return &Refusal{Card: folder, Why: fmt.Sprintf("it is not on a card (%s)", kind), Next: "name a folder on the card"}
}

// DiskUnknown is the refusal of a folder of which the disk isn't known.
func DiskUnknown(folder, kind string, here card.Local) error {
	why := "it is not known which disk it is on"
	if kind != "" {
		why += fmt.Sprintf(" (%s)", kind)
	}
	return &Refusal{
		Card: folder, Why: why, Next: onCard(here, "; --fixed-disk tests the free space of another disk"),
	}
}

// onCard is the advice to name a folder on a card; some systems have a flag for others.
func onCard(here card.Local, flag string) string {
	if here.OnlyCards {
		flag = ""
	}
	return "name a folder on the card" + flag
}

// OnOtherDisk is the refusal of a folder on a disk that is not a card.
func OnOtherDisk(folder, disk string, here card.Local) error {
	return &Refusal{
		Card: folder, Why: fmt.Sprintf("it is on %s, which is not a card", disk),
		Next: onCard(here, "; --fixed-disk tests the free space of this disk, and leaves some of it"),
	}
}

// EarlierFiles is the error of a folder that still has the files of an earlier test.
func EarlierFiles(own string) error {
	return hinted("read them with --again, or remove them with --remove",
		"%s has files of an earlier test, which were kept to be read again", own)
}

// NoEarlierFiles is the error of a folder that has no files of an earlier test.
func NoEarlierFiles(folder string) error {
	return hinted("leave out --again to make some", "%s has no files of an earlier test", folder)
}

// UnknownFiles is the error of files of an earlier test that can't be identified.
func UnknownFiles(own string, err error) error {
	return hinted("remove them with --remove", "in %s: %w", own, err)
}

// NoFreeSpace is the refusal of a folder without room.
func NoFreeSpace(folder string, err error) error {
	return &Refusal{Card: folder, Why: "there is no free space to test", Next: "remove something from it", Err: err}
}

// NoRightToWrite is the refusal of a folder that this user may not write.
func NoRightToWrite(folder string, err error) error {
	return &Refusal{Card: folder, Why: "you have no permission to write there", Err: err}
}

// ReadOnlyFolder is the refusal of a folder that is mounted read-only.
func ReadOnlyFolder(folder string, err error) error {
	return &Refusal{
		Card: folder, Why: "its file system is mounted read-only", Err: err,
		Next: "check whether the card is write-protected, and mount it so that it can be written",
	}
}

// Refusals of blank --real-size.

// GaugeSpots is the command that tests a card.
func GaugeSpots(card string) string { return "zipstamp gauge spots " + shell.File(card) }

// HoldsLess is the refusal of a card of which a test found that it holds less than it claims.
func HoldsLess(card string, tested time.Time) error {
	return &Refusal{
		Card: card, Why: fmt.Sprintf("a test on %s found that it holds less than it claims", Day(tested)),
		Next: "use only its real size: --real-size",
	}
}

// Untested is the refusal of a card of which no test is known.
func Untested(card, given string) error {
	return &Refusal{
		Card: card, Why: "its real size is not known: no test of it was found", Next: "test it: " + GaugeSpots(given),
	}
}

// PerhapsTested is the refusal of a card that may be one that was tested.
func PerhapsTested(card, given string, tested time.Time) error {
	return &Refusal{
		Card: card, Next: "test it: " + GaugeSpots(given),
		Why: fmt.Sprintf("a card of this size was tested on %s, but it has no number of its own, so it can't be told "+
			"whether it is this one", Day(tested)),
	}
}

// SizeInexact is the refusal of a card of which the real size isn't known exactly.
func SizeInexact(card, given string) error {
	return &Refusal{
		Card: card, Why: "the last test did not find out exactly how much of it is real",
		Next: "test all of it: zipstamp gauge whole " + shell.File(given),
	}
}

// NotTrusted is the refusal of a real card that nobody is asked about, where writing those was tried with stand-ins
// only.
func NotTrusted(card, system string) error {
	return &Refusal{
		Card: card, Why: untried(system),
		Next: "leave --yes out, or say that you trust it: trust_system = true in the " +
			"settings (zipstamp settings shows where they are)",
	}
}

// untried says that writing real cards has hardly been tried on a system.
func untried(system string) string {
	return fmt.Sprintf("writing real cards on %s has been tried with stand-ins, and not yet on many computers", system)
}

// Refusals of recheck.

// CompareWithImage is the command that compares a card with an image.
func CompareWithImage(card string) string {
	return "compare with the image: zipstamp recheck " + shell.File(card) + " IMAGE"
}

// NoStampKnown is the refusal of a card of which no stamp is known.
func NoStampKnown(card, given string) error {
	return &Refusal{
		Card: card, Why: "no receipt of its stamp was found",
		Next: CompareWithImage(given) + "; or name its receipt with --against FILE",
	}
}

// PerhapsStamped is the refusal of a card that may be one that was stamped.
func PerhapsStamped(card string, stamped time.Time, receipt string) error {
	return &Refusal{
		Card: card, Next: "if it is that card, name the receipt: --against " + shell.File(receipt),
		Why: fmt.Sprintf("it has no number of its own: only its size and the number of its partition table are those "+
			"of a card that was stamped on %s", Day(stamped)),
	}
}
