package view

import (
	"errors"
	"fmt"
	"strings"

	"zipstamp/internal/blank"
	"zipstamp/internal/gauge"
	"zipstamp/internal/layout"
	"zipstamp/internal/loose"
	"zipstamp/internal/receipt"
	"zipstamp/internal/shell"
	"zipstamp/internal/stamp"
)

// TheFiles are what must not lie on the card that they go to.
const TheFiles = "the folder of the files"

// Errors of blank's command line.
var (
	ErrOneBlank = hinted("run it once for each card",
		"blank makes one empty card at a time; only with --with can there be "+
			"several")
	ErrFilesOnFAT = errors.New("boards start from FAT and not from exFAT, so --with makes no exFAT card")
)

// OnlyWith is the error of a flag that says nothing without another.
func OnlyWith(flag, other string) error {
	return fmt.Errorf("%s says something only together with %s", flag, other)
}

// FolderHasNoDigest is the error of a digest for a folder.
func FolderHasNoDigest(path string) error {
	return fmt.Errorf("%s is a folder; only an archive can be compared with a published digest", FileName(path))
}

// ThenBlank is what happens to a card that becomes an empty one; size is that of its file system, 0 for all of the
// card, and asked that the kind of file system was asked for.
func ThenBlank(kind layout.FSKind, label string, size int64, asked bool) string {
	then := "it becomes " + article(string(kind)) + " card with nothing on it" + called(label, size)
	switch {
	case asked:
	case kind == layout.ExFATKind:
		then += "; cards of more than 32 GB have exFAT by the SD standard, but boards can't start from it " +
			"(--file-system " +
			"fat32)"
	case kind == layout.FAT16Kind:
		then += "; it is too small for FAT32"
	}
	return then
}

// ThenFiles is what happens to so many cards that get files; kind, label and size are those of the first.
func ThenFiles(cards int, kind layout.FSKind, label string, size int64) string {
	if cards > 1 {
		return "each becomes " + article(string(kind)) + " card with these files" + called(label, 0)
	}
	return "it becomes " + article(string(kind)) + " card with these files" + called(label, size)
}

func called(label string, size int64) (text string) {
	if label != "" {
		text = ", named " + word(label)
	}
	if size > 0 {
		text += ", of " + Bytes(size) + ", its real size"
	}
	return text
}

// filesFact says how many files there are, and where they come from.
func filesFact(s *loose.Set) string {
	text := fmt.Sprintf("%s, %s, from %s", Count(s.Count, "file"), exact(s.Bytes), FileName(s.Path))
	if s.Within != "" {
		text += ", folder " + word(s.Within)
	}
	return text
}

// filesNotes are what to know of the files before they are written.
func filesNotes(s *loose.Set) (notes []string) {
	if s.Chosen {
		notes = append(notes,
			fmt.Sprintf("All files are in the folder %s. Boards start from what is in it, so that goes to "+
				"the top of the card; to keep the folder: --within .", word(s.Within)))
	}
	if s.Litter > 0 {
		notes = append(notes, fmt.Sprintf("%s that other systems add for themselves will be left out.",
			Count(s.Litter, "file")))
	}
	if s.Undated > 0 {
		notes = append(notes, fmt.Sprintf("FAT has no times before 1980 or after 2107, so %s will get another time.",
			Count(s.Undated, "file")))
	}
	return notes
}

// FilesSentence is the answer of making a card with loose files. plan is nil where they don't fit; err is why it
// failed.
func FilesSentence(name string, s *loose.Set, plan *blank.Plan, r stamp.Result, err error) string {
	name, from := word(name), FileName(s.Path)
	var wrong *loose.WrongError
	var fake *gauge.TooSmallError
	switch {
	case err == nil && r.State == stamp.Complete:
		return fmt.Sprintf("%s has %s from %s on %s, but nothing was read back.", name, Count(s.Count, "file"), from,
			onFS(plan))
	case err == nil:
		return fmt.Sprintf("%s has %s from %s on %s, and every file was read back right.", name,
			Count(s.Count, "file"), from, onFS(plan))
	case errors.As(err, &fake) && !fake.Anywhere && fake.Exact && fake.Holds() > 0:
		return fmt.Sprintf("%s is counterfeit: it holds %s of the %s that it claims; so it got no file system, and %s.",
			name,
			Bytes(fake.Real), Bytes(fake.Claimed), triedClause(r))
	}
	why := failure(name, r, err)
	if errors.As(err, &wrong) {
		why = wrongClause(wrong)
	}
	return fmt.Sprintf("%s is not ready for use: %s; %s.", name, strings.TrimPrefix(why, name+isRefused),
		stateClause(r, err))
}

func onFS(p *blank.Plan) string {
	text := "one " + string(p.Kind()) + " file system"
	if p.Label != "" {
		text += " named " + word(p.Label)
	}
	return text
}

// wrongClause says what is wrong with files that were read back.
func wrongClause(e *loose.WrongError) string {
	switch {
	case e.Err != nil:
		return fmt.Sprintf("its files can't be read back (%v)", e.Err)
	case e.Count > 1:
		return fmt.Sprintf("%d files were not read back as they were written, the first of them %s", e.Count,
			word(e.Path))
	}
	return fmt.Sprintf("%s %s", word(e.Path), e.Why)
}

// looseClause goes on after the name of an archive or folder: why its files can't be taken.
func looseClause(e *loose.Error) string {
	switch e.Why {
	case loose.Nothing:
		if e.Name != "" {
			return "has no files in a folder " + word(e.Name)
		}
		return "has no files in it"
	case loose.Link:
		return fmt.Sprintf("has a link in it (%s), and FAT has none", word(e.Name))
	case loose.Special:
		return fmt.Sprintf("has a device or pipe in it (%s), and FAT has none", word(e.Name))
	case loose.Outside:
		return fmt.Sprintf("has a file that leads out of it (%s)", word(e.Name))
	case loose.HoldsOne:
		return "holds an image of a disk, and no loose files"
	case loose.TooMany:
		return "has more files in it than a card would"
	}
	return string(e.Why)
}

// looseNext is what to do about it.
func looseNext(e *loose.Error) string {
	switch e.Why {
	case loose.Nothing:
		if e.Name != "" {
			return "name one of its folders: --within FOLDER"
		}
	case loose.Link, loose.Special:
		return "copy the files into a folder, without it, and give that folder"
	case loose.HoldsOne:
		return "stamp it: " + shell.Command("zipstamp", "stamp", e.Path) + " CARD"
	}
	return ""
}

// fileText says why FAT can't hold a file.
func fileText(e *layout.FileError) string {
	name := word(e.Path)
	switch e.Why {
	case layout.FileTooLarge:
		return name + " is too large: FAT holds files of less than 4 GiB"
	case layout.NameInvalid:
		if e.Detail == "" {
			return fmt.Sprintf("the name %s is not UTF-8", name)
		}
		return fmt.Sprintf("the name %s has %q in it, which FAT can't have in names", name, e.Detail)
	case layout.NameTooLong:
		return fmt.Sprintf("the name %s is too long: FAT has up to 255 characters", name)
	case layout.NameEnds:
		return fmt.Sprintf("the name %q begins or ends with a space, or ends with a full stop, which FAT leaves out",
			e.Path)
	case layout.PathTooLong:
		return fmt.Sprintf("the path %s is too long: on FAT it may have up to 256 characters", name)
	case layout.NameTwice:
		if e.Path == e.Detail {
			return name + " is there twice"
		}
		return fmt.Sprintf("%s and %s have the same name on FAT, which does not tell capitals from small letters",
			word(e.Detail), name)
	case layout.FolderFull:
		if e.Path == "" {
			return "there are too many files for the top folder of a FAT file system"
		}
		return fmt.Sprintf("the folder %s has more files than FAT can have in one", name)
	}
	return e.Error()
}

// roomText says how much room files need.
func roomText(e *layout.NoRoomError) string {
	return fmt.Sprintf("the files need a file system of %s, and there is room for %s", Bytes(e.Need), Bytes(e.Room))
}

// smallText says that a card is too small for any files.
func smallText(e *blank.TooSmallError) string {
	return fmt.Sprintf("%s are too few for a %s file system, which needs some %s", exact(e.Size), e.Kind,
		Bytes(e.Least))
}

// filesFacts are the facts of a card that was made with files.
func filesFacts(a *answer, doc receipt.Document) {
	f := doc.Blank.Files
	files := fmt.Sprintf("%s, %s, from %s", Count(f.Count, "file"), exact(f.Bytes), FileName(doc.Image.Path))
	if f.Within != "" {
		files += ", folder " + word(f.Within)
	}
	a.add("files", "%s", files)
	if doc.Image.Packing != loose.FolderPacking && isStamped(doc) {
		a.add("checked", "%s", checkedFact(doc.Image))
	}
	if isStamped(doc) {
		a.add("partition", "from byte %s, %s", place(doc.Blank.Start), exact(doc.Blank.Size))
	}
	cardFacts(a, doc)
}
