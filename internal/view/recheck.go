package view

import (
	"errors"
	"fmt"
	"strings"
	"time"

	"zipstamp/internal/card"
	"zipstamp/internal/layout"
	"zipstamp/internal/receipt"
	"zipstamp/internal/recheck"
)

// RecheckSentence is the answer of reading a stamped card again. err is why it did not come to its end; nil if it did.
func RecheckSentence(name, imageName string, files bool, r *recheck.Report, err error) string {
	name, imageName = word(name), word(imageName)
	was := "stamped"
	if files {
		was, imageName = "made", "the files of "+imageName
	}
	var short *recheck.ShortError
	switch {
	case errors.Is(err, ErrInterrupted):
		return fmt.Sprintf("The recheck of %s was interrupted.", name)
	case errors.As(err, &short):
		return fmt.Sprintf("%s can't hold %s: it has %s, and the image %s or more.", name, imageName, Bytes(short.Card),
			Bytes(short.Image))
	case errors.As(err, new(*card.GoneError)):
		return fmt.Sprintf("The recheck of %s came to no result: it was pulled out, or its reader was.", name)
	case err != nil:
		return fmt.Sprintf("The recheck of %s came to no result: %s.", name, gaugeFailure(name, err))
	case r.Same() && files:
		return fmt.Sprintf("%s is as it was made: its file system and all %s are on it.", name,
			strings.TrimPrefix(imageName,
				"the "))
	case r.Same():
		return fmt.Sprintf("%s is as it was stamped: all %s of %s are on it.", name, Bytes(r.Compared), imageName)
	case r.Holds != "" && r.HoldsName:
		return fmt.Sprintf("%s holds %s, not %s.", name, FileName(r.Holds), imageName)
	case r.Holds != "":
		return fmt.Sprintf("%s holds another system, not %s: %s.", name, imageName, r.Holds)
	case r.Started() && r.Unsure() > 0:
		return fmt.Sprintf("%s has been written to since it was %s. Nothing shows that it is damaged, but %s of "+
			"it can't be judged.", name, was, Bytes(r.Unsure()))
	case r.Started():
		return fmt.Sprintf("%s has been started, or written to, since it was %s: it differs from %s only in "+
			"places where that is expected.", name, was, imageName)
	case len(r.Failed) > 0:
		return fmt.Sprintf("%s is not as it was %s: %s of it can't be read.", name, was, Bytes(lengths(r.Failed)))
	}
	return fmt.Sprintf(
		"%s is not as it was %s: it differs from %s in places that starting a board does not change.", name, was,
		imageName,
	)
}

func lengths(all []layout.Extent) (n int64) {
	for _, e := range all {
		n += e.Length
	}
	return n
}

// Area puts a part of a card that differs into words, and why it counts as it does.
func Area(a recheck.Area) (name, why string) {
	in := ""
	if a.Partition > 0 {
		in = fmt.Sprintf("partition %d", a.Partition)
		switch {
		case a.FS != "" && a.Label != "":
			in += fmt.Sprintf(" (%s, %q)", a.FS, a.Label)
		case a.FS != "":
			in += fmt.Sprintf(" (%s)", a.FS)
		}
	}
	switch a.What {
	case recheck.PartitionTable, recheck.BootCode:
		name = "the " + string(a.What)
	case recheck.Partition:
		name = in
	case recheck.Outside:
		name = "outside of all partitions"
	case recheck.File, recheck.Folder:
		name = fmt.Sprintf("%s: %s %s", in, a.What, a.Path)
	case recheck.Inode:
		name = fmt.Sprintf("%s: inode %d", in, a.Inode)
		if a.Path != "" {
			name += ", of " + a.Path
		}
	case recheck.Tables:
		name = in + ": its tables"
		if a.FS.IsFAT() {
			name += " and folders"
		}
	default:
		name = fmt.Sprintf("%s: its %s", in, a.What)
	}
	if a.Beside {
		name += ", beside what was written"
	}
	return name, areaWhy(a.Why)
}

// areaReasons are the reasons in words.
var areaReasons = map[recheck.Reason]string{
	recheck.Mounting:      "mounting and writing change them",
	recheck.NothingThere:  "no file is there",
	recheck.SwapSpace:     "a running board writes to its swap",
	recheck.TableGrown:    "a first start grows the last partition, adds one, or gives the disk another number",
	recheck.FSOwn:         "the file system writes it for itself",
	recheck.InodeWritten:  "its inode says that it was written",
	recheck.EntryWritten:  "its entry in its folder says that it was written",
	recheck.EntryAsBefore: "its entry in its folder is as it was, so nobody has written it",
	recheck.NotUsed:       "nothing on it was written since the card was stamped",
	recheck.OneBit:        "only one bit of a sector differs, and nothing writes like that",
	recheck.Disagrees:     "its tables don't agree with each other",
	recheck.FoldersAsWere: "its folders are as they were, so nobody has written there",
	recheck.NotUnmounted:  "it was not unmounted, so its tables may be behind what was written",
	recheck.WrittenSince:  "it has been written since the card was stamped",
	recheck.NotByStart:    "starting a board does not change it",
	recheck.FSUntouched:   "its superblock is as it was, so nobody has written there",
	recheck.TablesAsBefore: "no file is there, and the file system's tables are as they were, so nobody has written " +
		"there",
	recheck.InodeAsBefore: "its inode says that nobody has written it",
	recheck.NotSince:      "by its own date, it has not been written since the card was stamped",
	recheck.BootFile:      "a board starts from it, and doesn't write it",
	recheck.SumWrong:      "its checksum is wrong",
	recheck.NoSuperblock:  "its superblock makes no sense",
	recheck.PartGone:      "partition %d is gone",
	recheck.PartMoved:     "partition %d starts elsewhere",
	recheck.PartType:      "partition %d has another type",
	recheck.PartLength:    "partition %d has another length, and is not the last",
	recheck.StampUnknown:  "the time of the stamp is not known",
	recheck.Opaque:        "a running board writes to this file system, so damage can't be told apart from use",
	recheck.SuperDamaged:  "the superblock is damaged, so the rest can't be judged",
	recheck.TableUnknown:  "the table that was stamped is not known",
	recheck.OneStretch:    "it shares a stretch with something that was written, so it may be unchanged",
}

func areaWhy(w recheck.Why) string {
	text := areaReasons[w.Reason]
	switch {
	case w.Reason == recheck.SchemeChanged:
		return fmt.Sprintf("it was %s, and is %s now", w.Was, w.Now)
	case w.Reason == recheck.TableDamaged:
		return tableDamage(w.Damage)
	case w.Partition > 0:
		return fmt.Sprintf(text, w.Partition)
	case !w.When.IsZero():
		text += ", on " + w.When.Format("2 January 2006")
	case w.Detail != "":
		text += ": " + w.Detail
	}
	return text
}

// maxAreaLines is how many parts are listed; the receipt has more.
const maxAreaLines = 20

// recheckFacts are the facts of reading a stamped card again.
func recheckFacts(a *answer, doc receipt.Document) {
	c := doc.Recheck
	a.add("card", "%s, %s, %s", doc.Card.Name, exact(doc.Card.Size), cardKind(doc.Card))
	against := FileName(doc.Image.Path)
	if c.Against == "receipt" {
		against = "the receipt for " + against
		if t, err := time.Parse(time.RFC3339, c.Stamped); err == nil {
			against += ", on " + Day(t)
		}
	}
	a.add("against", "%s", against)
	phaseFacts(a, doc)
	if c.Failed.Count+c.Extents.Count > 0 {
		a.add("differs", "%s, at %s", Bytes(c.Differ), Count(c.Failed.Count+c.Extents.Count, "place"))
	}
	a.add("before", "%s", c.Before)
	a.add("not expected", "%s", areaLines(c.Areas, func(c receipt.Change) bool { return !c.Started && !c.Unsure }))
	a.add("unknown", "%s", areaLines(c.Areas, func(c receipt.Change) bool { return c.Unsure }))
	a.add("expected", "%s", areaLines(c.Areas, func(c receipt.Change) bool { return c.Started }))
}

// areaLines are the parts that differ, of one kind.
func areaLines(areas []receipt.Change, of func(receipt.Change) bool) string {
	var lines []string
	for _, one := range areas {
		if of(one) {
			lines = append(lines, fmt.Sprintf("%s: %s from byte %s; %s", word(one.Name), Bytes(one.Bytes),
				place(one.First), one.Why))
		}
	}
	if n := len(lines); n > maxAreaLines {
		lines = append(lines[:maxAreaLines], fmt.Sprintf("and %d more, in the receipt", n-maxAreaLines))
	}
	return strings.Join(lines, "\n")
}

// recheckNotes are what to know of reading a stamped card again, and what to do next.
func recheckNotes(a *answer, doc receipt.Document) {
	c := doc.Recheck
	if len(c.Areas) > 0 && c.Against == "receipt" {
		a.note("The receipt tells only which stretches of %s differ, so some of these parts may be unchanged. "+
			"Compare with the image to know exactly.", Bytes(c.Unit))
	}
	if doc.Verdict == receipt.Differs {
		a.note("Stamp the card again. If it differs again without having been used, test it: zipstamp gauge spots")
	}
}
