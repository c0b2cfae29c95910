// Package help has the words of the commands and of their flags: what --help and the pages of the manual say.
package help

import (
	"maps"
	"slices"
	"strings"
)

// Paths are those of all commands.
func Paths() []string { return slices.Sorted(maps.Keys(commands)) }

// Text is the help of a command. {CARD} in it is the name of a card as the system has them, and {NAMES} how cards are
// named.
type Text struct {
	Use     string // the command and its arguments
	Short   string
	Long    string
	Example string
	Needs   string // what it needs, where something is missing: "an image"
}

// For gives the help of the command with a path, such as "gauge spots". card is what a card is called here, such as
// /dev/sdb.
func For(path, card string) Text {
	t := commands[path]
	if card == "" {
		card = "CARD"
	}
	for _, part := range []*string{&t.Long, &t.Example} {
		*part = strings.TrimSpace(strings.ReplaceAll(strings.ReplaceAll(*part, "{NAMES}", cardNames), "{CARD}", card))
	}
	if t.Example != "" {
		t.Example = "  " + strings.ReplaceAll(t.Example, "\n", "\n  ")
	}
	return t
}

// cardNames tells how a card is named.
const cardNames = `CARD is a whole disk ({CARD}), the file of a practice card, a plain file that
stands for a card, next (the next card that is put in), label:NAME (a file
system on it), serial:TEXT (see zipstamp cards) or name:TEXT (see zipstamp cards
name).`

var commands = map[string]Text{
	"": {
		Use:   "zipstamp",
		Short: "Check images, stamp them onto cards, and read them back",
		Long: `
Zip Stamp puts operating systems on memory cards for single-board computers. It
checks a downloaded image against its published digest, unpacks it as a stream
onto the card, and reads every block back.`,
		Example: `
zipstamp demo
zipstamp check saltmarsh-os.img.xz
zipstamp cards
zipstamp stamp saltmarsh-os.img.xz {CARD}`,
	},
	"check": {
		Use:   "check IMAGE or FOLDER...",
		Short: "Compare images with their published digests and signatures",
		Needs: "an image",
		Long: `
Check computes the digest of each image and compares it with what was published:
the digest given by --digest, as a page or a program shows it (- reads it from
the standard input), the files of digests given by --sums, or, without either,
those that lie beside the image (SHA256SUMS, IMAGE.sha256, hash.txt and the
like). A digest may be of the file as downloaded or of the unpacked image. An
image that was unpacked by hand is compared with its packed file, if that lies
beside it. If no published digest is found, check prints the digests.

Signatures (OpenPGP, minisign) of the image, or of the file of digests, are
checked with the keys that you keep (see zipstamp keys), or with the one given
by --key. They are in FILE.asc, FILE.sig, FILE.minisig and the like, or in the
file of digests itself.

In a FOLDER, all images in it and below it are checked. IMAGE may be -, for
standard input. A file of digests in place of IMAGE checks the files it names.`,
		Example: `
zipstamp check saltmarsh-os.img.xz
zipstamp check --digest 'SHA256: 9f86 d081 884c 7d65 ...' saltmarsh-os.img.xz
zipstamp check --sums SHA256SUMS --key watchers.asc saltmarsh-os.img.xz
zipstamp check Downloads`,
	},
	"fetch": {
		Use:   "fetch URL or SYSTEM",
		Short: "Download an image, and check it",
		Needs: "the address of an image",
		Long: `
Fetch downloads an image, carries on where a download broke off, in this run or
a later one, and then checks it as zipstamp check does, with the digests and
signatures that lie beside it on the publisher's host. It is kept on the shelf
(see zipstamp shelf), where zipstamp stamp finds it: what is there and is still
the current one is not downloaded again. With --to, it goes to a folder.

The address may be that of a Metalink document (.meta4), or the file of one:
mirrors and digests in it are used. SYSTEM is the name of one in a list (see
zipstamp systems), with its version behind @ if it is not the newest.

Only https is taken. With --plain-http, http is too; then only what is signed by
a key that you keep or name counts as published.`,
		Example: `
zipstamp fetch https://saltmarsh.example/saltmarsh-os.img.xz
zipstamp fetch saltmarsh-os
zipstamp fetch --to Downloads saltmarsh-os@1.2`,
	},
	"systems": {
		Use:   "systems",
		Short: "List the systems that publishers offer",
		Long: `
Publishers can offer a list of their systems: names, versions, boards, sizes,
digests, and where each is. Systems shows what the lists that you keep offer,
the newest first, what of it is on the shelf, and which cards were last stamped
with it. Give a name to zipstamp stamp or zipstamp fetch in place of a file.`,
		Example: `
zipstamp systems
zipstamp systems --board brindle3
zipstamp systems --search tides
zipstamp stamp saltmarsh-os {CARD}`,
	},
	"systems add": {
		Use:   "add URL or FILE",
		Short: "Keep a publisher's list of systems",
		Needs: "the address of a list",
		Long: `
Gets a list of systems and keeps it. A list should be signed (LIST.minisig,
LIST.asc and the like, beside it): by the key in --key FILE, or by one that you
keep (see zipstamp keys). From then on, only what that key has signed is taken
as a newer edition. A list that is not signed is used only after a question.`,
		Example: `
zipstamp systems add https://saltmarsh.example/systems.toml --key watchers.pub`,
	},
	"systems remove": {
		Use:   "remove NAME",
		Short: "Remove a list of systems",
		Needs: "the name of a list",
	},
	"systems refresh": {
		Use:   "refresh [NAME]",
		Short: "Get newer editions of the lists",
		Long: `
Asks for newer editions of all lists, or of the one with NAME. An edition that
is older than the one that is kept is refused, and so is one that is not signed
by the key of the one before.`,
		Example: `
zipstamp systems refresh`,
	},
	"systems lists": {
		Use:   "lists",
		Short: "Show the lists that you keep",
	},
	"systems make": {
		Use:   "make FOLDER",
		Short: "Make a list of the images in a folder, to publish it",
		Needs: "a folder with images",
		Long: `
Writes FOLDER/systems.toml, a list of the images in FOLDER: sizes and digests of
the downloads and of the images in them, the boards that they are for, and the
smallest card. Names and versions are guessed from the names of the files. If
there is a list already, its edition goes up by one; what you have written into
it stays, but for sizes and digests (comments are lost).

The images must be where the list is, or below --base-url. Sign the list with
the command that is printed.`,
		Example: `
zipstamp systems make images --name "Saltmarsh Watchers"
zipstamp systems make images --base-url https://saltmarsh.example/images`,
	},
	"shelf": {
		Use:   "shelf",
		Short: "List the downloads that are kept",
		Long: `
The shelf keeps what zipstamp fetch and zipstamp stamp have downloaded, so that
it need not be downloaded again, and the parts of downloads that can be carried
on. It is in the cache folder, or where the setting shelf says.`,
		Example: `
zipstamp shelf
zipstamp shelf clean --keep 5GB`,
	},
	"shelf clean": {
		Use:   "clean",
		Short: "Remove downloads that are of no use any more",
		Long: `
Removes downloads that are broken, or superseded by a newer version in a list of
systems, and parts that were not carried on for 30 days. With --keep, also those
that were not used for longest, until the rest takes no more than SIZE. It shows
what it will remove, and asks.`,
		Example: `
zipstamp shelf clean
zipstamp shelf clean --keep 5GB --yes`,
	},
	"peek": {
		Use:   "peek [IMAGE or CARD]",
		Short: "Look inside an image or a card",
		Long: `
Peek shows what is in an image or on a card: how it is packed, its sizes, the
smallest card that it fits on, its partitions with their file systems and
labels, and the boards that it is for. It unpacks only what it has to, and
writes nothing.

{NAMES}
Without a name, the cards are listed and you choose one.`,
		Example: `
zipstamp peek saltmarsh-os.img.xz
zipstamp peek {CARD}`,
	},
	"cards": {
		Use:   "cards",
		Short: "List the cards that can be written",
		Long: `
Cards lists the memory cards and sticks that are plugged in: what each is, what
is on it, and what was last stamped onto it. Your computer's own disks are never
among them; --all shows them too, each with the reason why it can't be chosen.
With --arrive it waits for the next card that is put in, and shows it.`,
		Example: `
zipstamp cards
zipstamp cards --arrive`,
	},
	"stamp": {
		Use:   "stamp IMAGE [CARD...]",
		Short: "Check an image, write it to cards, and read them back",
		Needs: "an image",
		Long: `
Stamp checks IMAGE as zipstamp check does, unpacks it as a stream onto CARD, and
reads every block back from the card. IMAGE may be raw, packed or in an archive;
a URL, or the name of a system (see zipstamp systems): then it is written while
it is downloaded, and kept on the shelf.
{NAMES}
Without CARD, the cards are listed and you choose one. Several cards are written
at the same time; each has its own result and its own receipt.

Everything on the card is lost. Stamp shows what is on it, and asks first.
Mounted file systems of the card are unmounted. The first block is written last,
so a card whose stamp failed or was interrupted never looks as if it could start
a board. Before the image is written, some places of the card are tested and
restored, to find counterfeit cards early. At the end the card is ejected.

What the card already holds is not written again: where that is quicker, a block
is read first, and only what differs is written. So a new release is quickly on
a card that has the last one, and a stamp that was interrupted goes on where it
was, by the same command. Everything is read back all the same.

The settings read_back, write_all, repairs, receipts and eject can be made in
the configuration file zipstamp/config.toml, or in variables: ZIPSTAMP_READ_BACK
and so on (see zipstamp settings).`,
		Example: `
zipstamp stamp saltmarsh-os.img.xz {CARD}
zipstamp stamp saltmarsh-os.img.xz next
zipstamp stamp saltmarsh-os.img.xz --arrive 4
zipstamp stamp --yes saltmarsh-os.img.xz good.card`,
	},
	"recheck": {
		Use:   "recheck [CARD [IMAGE]]",
		Short: "Read a stamped card again, and show what differs",
		Long: `
Recheck reads a stamped card again and compares it with IMAGE, or, without
IMAGE, with the receipt of the stamp. It shows in which partitions and files
something differs. Starting a board from a card changes it; such changes are
marked.

{NAMES}
Nothing is written.`,
		Example: `
zipstamp recheck {CARD}
zipstamp recheck {CARD} saltmarsh-os.img.xz`,
	},
	"gauge": {
		Use:   "gauge",
		Short: "Find out how much a card really holds",
		Long: `
Gauge finds out whether a card holds what it claims, and how much it holds if it
doesn't. There are three tests:

  spots  tests some hundred places, and restores what was there
  whole  writes and reads every block; everything on the card is lost
  space  fills the free space of a card that is in use

Restore puts back what an interrupted test had saved.`,
	},
	"gauge spots": {
		Use:   "spots [CARD]",
		Short: "Test places all over a card, and restore what was there",
		Long: `
Spots writes to some hundred places all over the card, reads them back, and
restores what was there. It takes about a minute, whatever size the card claims.
If the card holds less, its real size is found to the sector.

{NAMES}
What was there is saved in the state folder until it has been restored. After a
power cut, or if the card is pulled out, zipstamp gauge restore does that.

Some counterfeit cards keep what is written to any place until their real size
is used up. They pass this test; only zipstamp gauge whole finds them.`,
		Example: `
zipstamp gauge spots {CARD}
zipstamp gauge spots liar.card`,
	},
	"gauge whole": {
		Use:   "whole [CARD]",
		Short: "Write and read every block of a card; everything on it is lost",
		Long: `
Whole writes the card from start to end and reads all of it back. While it
writes, it looks back now and then, so a card that holds less than it claims is
found soon after its real size has been passed. Then only the real part is read
back.

{NAMES}
Everything on the card is lost. Run the same command again to carry on an
interrupted test.`,
		Example: `
zipstamp gauge whole {CARD}
zipstamp gauge whole {CARD} --first 64GB
zipstamp gauge whole --yes liar.card`,
	},
	"gauge space": {
		Use:   "space FOLDER",
		Short: "Fill the free space of a card with files, and read them back",
		Needs: "a folder on the card",
		Long: `
Space fills the free space around FOLDER with files, reads them back, and
removes them. It needs no special rights and touches no other files; a little
space is left free. The files are in the folder zipstamp-space in FOLDER. With
--keep they stay, so that they can be read again later, or on another computer,
with --again; --remove removes them.

On a counterfeit card, filling the free space may overwrite your files. Only
zipstamp gauge spots leaves such a card as it was.`,
		Example: `
zipstamp gauge space /media/wren/TIDES
zipstamp gauge space /media/wren/TIDES --keep
zipstamp gauge space /media/wren/TIDES --again`,
	},
	"gauge restore": {
		Use:   "restore [CARD]",
		Short: "Put back what an interrupted test had saved",
		Long: `
Restore puts back what zipstamp gauge spots had saved of a card when it was
killed, the power was cut, or the card was pulled out. It recognises the card by
its serial number and by what the test wrote.

Without CARD, it does so for every card that something is saved of. --list only
shows what is saved. --forget deletes the saved data of CARD, or, without CARD,
all that can no longer be used.`,
		Example: `
zipstamp gauge restore
zipstamp gauge restore {CARD}
zipstamp gauge restore --list`,
	},
	"pace": {
		Use:   "pace [CARD]",
		Short: "Measure how fast a card is, and which speed classes it meets",
		Long: `
Pace measures how fast a card reads and writes, sequentially and at random
places. It tells which of the speed classes Class, U, V and A the card meets,
and, as far as possible, whether the card or the reader is slow. Nothing on the
card changes: pace only writes what is there already.

{NAMES}`,
		Example: `
zipstamp pace {CARD}
zipstamp pace good.card`,
	},
	"blank": {
		Use:   "blank [CARD...]",
		Short: "Make a card empty, or put the loose files of a system on it",
		Long: `
Blank gives a card one partition with an empty file system: FAT32, or exFAT on
cards of more than 32 GB, as the SD standard has it, or FAT16 on cards that are
too small for FAT32. Cameras, players and all computers can use it. Partition
and data start at multiples of 4 MiB or more, which suits flash.

Some systems come as an archive, or a folder, of files that are to be copied
onto a FAT card. With --with, the card gets these files, on FAT32 whatever its
size. The files come straight out of the archive (zip, 7z, or tar in any
packing). Names and sizes that FAT can't have are found before anything is
written. An archive is compared with published digests as zipstamp stamp does.
The partition table is written last, after every file was read back from the
card and compared. Several cards can be made at once, and zipstamp recheck can
check them later.

{NAMES}
Everything on the card is lost. With --real-size, only as much of the card is
used as zipstamp gauge found to be real.`,
		Example: `
zipstamp blank {CARD} --label TIDES
zipstamp blank --real-size liar.card
zipstamp blank {CARD} --with saltmarsh-boot.zip --label SALTBOOT
zipstamp blank --with saltmarsh/ --arrive 3`,
	},
	"save": {
		Use:   "save [CARD] FILE",
		Short: "Copy a card into a file, to be stamped again",
		Needs: "the file to write",
		Long: `
Save reads a card into an image, which zipstamp stamp puts on a card again. The
name of FILE says how it is packed: .img.zst, .img.xz, .img.gz, or .img for not
at all. What is behind the last partition is left out. At the end the file and
the card are read once more and compared. FILE.copy.json says of which card it
is a copy, and what is missing; FILE.sha256 gets the digests if nothing is.

What can't be read is tried again, sector by sector; what can't be read at all
is zeros in the image, and is listed. The same command resumes a copy that was
interrupted, if all that was copied is still on the card.

{NAMES}`,
		Example: `
zipstamp save {CARD} greenhouse.img.zst
zipstamp save good.card tides.img.xz --free-as-zeros`,
	},
	"receipts": {
		Use:   "receipts",
		Short: "List, show and export the records of what was done to which card",
		Long: `
Every stamp and every test keeps a receipt: what was done to which card, and how
it went. Receipts lists them, shows one again, and exports one as a page, a
picture or a text, to print or to show to a seller. Alone, it lists them.`,
		Example: `
zipstamp receipts
zipstamp receipts --since yesterday`,
	},
	"cards name": {
		Use:   "name [CARD [NAME]]",
		Short: "Give a card a name of your own",
		Long: `
Gives CARD a name, such as "greenhouse 3", which lists, questions and receipts
show, and by which all commands find the card: name:"greenhouse 3". It is
kept by what the card is known again by, and so needs a card with a serial
number of its own, or a file. --forget takes the name away. Without CARD, all
names are listed.`,
		Example: `
zipstamp cards name {CARD} "greenhouse 3"
zipstamp cards name
zipstamp stamp saltmarsh-os.img.xz name:"greenhouse 3"`,
	},
	"settings": {
		Use:   "settings",
		Short: "Print the settings in force, and where each is set",
		Long: `
Settings last from run to run. They are in a file, config.toml, whose place this
command prints; a variable overrides the file, and a flag both.

  read_back = true       read every block back (ZIPSTAMP_READ_BACK)
  write_all = false      write also what a card already holds
                         (ZIPSTAMP_WRITE_ALL)
  repairs = 3            how often bad blocks are rewritten (ZIPSTAMP_REPAIRS)
  eject = true           eject the card at the end (ZIPSTAMP_EJECT)
  receipts = "~/cards"   where receipts are kept (ZIPSTAMP_RECEIPTS)
  shelf = "~/images"     where downloads are kept (ZIPSTAMP_SHELF)
  patience = "30s"       how long to wait for a host that sends nothing
                         (ZIPSTAMP_PATIENCE)
  tries = 6              how often to try without progress (ZIPSTAMP_TRIES)
  trust_system = false   let --yes write real cards on Windows and macOS, where
                         that is new (ZIPSTAMP_TRUST_SYSTEM)`,
	},
	"version": {
		Use:   "version",
		Short: "Print the version, and how it was built",
	},
	"receipts list": {
		Use:   "list",
		Short: "List receipts, the latest first",
		Long: `
Lists the receipts in the state folder, or in the folder that the setting
receipts names. Choose by date, card or image with the options.`,
		Example: `
zipstamp receipts list
zipstamp receipts list --card SW-0003 --since 2026-11-01`,
	},
	"receipts show": {
		Use:   "show [WHICH]",
		Short: "Print a receipt again",
		Long: `
Prints a receipt as the original command did. WHICH is its number in the list,
or the file of a receipt. Without WHICH, the latest receipt that matches the
options is printed.`,
		Example: `
zipstamp receipts show
zipstamp receipts show 3
zipstamp receipts show liar.card.receipt.json`,
	},
	"receipts export": {
		Use:   "export FILE [WHICH]",
		Short: "Export a receipt as a page, a picture, a text or JSON",
		Needs: "the file to write",
		Long: `
Writes a receipt to FILE, in the format that its ending says: .html is a page
that needs no other files and prints on A4, .png a picture, .txt a text, and
.json the record itself. WHICH is the same as in zipstamp receipts show. An
existing FILE is replaced.`,
		Example: `
zipstamp receipts export liar.html
zipstamp receipts export liar.png 3`,
	},
	"keys": {
		Use:   "keys",
		Short: "Manage the public keys that signatures are checked with",
		Long: `
Publishers sign their images, or their files of digests, with a key. A signature
shows who made an image only if the key really is the publisher's. So get the
key from a place that you trust, and compare its fingerprint with one that you
got in another way.`,
	},
	"keys add": {
		Use:   "add FILE",
		Short: "Keep a publisher's public key",
		Needs: "the file of a public key",
		Long: `
Reads a public key (OpenPGP or minisign) and shows its fingerprint. To keep the
key, type the end of the fingerprint, as the publisher shows it. In a script,
use --fingerprint. A key that you keep already is replaced, for instance after
its owner has renewed it.`,
		Example: `
zipstamp keys add watchers.asc`,
	},
	"keys list": {
		Use:   "list",
		Short: "List the keys that you keep",
	},
	"keys remove": {
		Use:   "remove KEY",
		Short: "Remove a key",
		Needs: "the ID of a key",
		Long: `
Removes the key with the ID or fingerprint KEY. The last 8 characters are
enough.`,
		Example: `
zipstamp keys remove 5A170001`,
	},
	"practice": {
		Use:   "practice",
		Short: "Make practice cards, and stand in for a publisher",
		Long: `
A practice card is a simulated memory card in a file. All commands take one in
place of a real card, so you can try everything without a card and without risk.`,
	},
	"practice serve": {
		Use:   "serve FOLDER",
		Short: "Stand in for a publisher's host, a good or a bad one",
		Needs: "a folder with files",
		Long: `
Serves the files in FOLDER over HTTP on this computer (127.0.0.1), until it is
interrupted, and says what was asked for. The options give it faults, which
files of 64 KiB or more have: so you can see what happens when a download goes
wrong.`,
		Example: `
zipstamp practice serve tides
zipstamp practice serve tides --rate 5MB/s --cut-after 1MB
zipstamp fetch --plain-http http://127.0.0.1:PORT/saltmarsh-os.img.xz`,
	},
	"practice new": {
		Use:   "new FILE",
		Short: "Make a practice card",
		Needs: "the name of a new file",
		Long: `
Makes FILE, which says how the card behaves, and a second file with what the
card holds (FILE.data, or what --backing names). docs/formats.md describes the
format; you can edit FILE.

A fault is kind=KIND,sector=N,count=N,times=N,chance=P. KIND is read (reading
fails), write (writing fails), flip (a bit is stored wrong) or misread (a bit is
read wrong). The fault is in count sectors (by default 1) from sector on. It
shows at the first times accesses after the card is put in (by default at all),
each time with the chance P from 0 to 1 (by default 1).

Beyond its real size a card can wrap (addresses repeat), drop (writes are lost),
be lazy or oldest (every place works until the real size is used up; then new
writes are lost, or the oldest ones), or keep only its ends. What was dropped
reads as zeros, ff, noise, changing (noise that differs each time) or last (what
was written last).`,
		Example: `
zipstamp practice new good.card --claimed 64MB --write-rate 20MB/s
zipstamp practice new liar.card --claimed 64MB --real 32MB --beyond wrap
zipstamp practice new tired.card --claimed 64MB --fault kind=flip,sector=9`,
	},
	"demo": {
		Use:   "demo [FOLDER]",
		Short: "Do the whole job on sample data, without a real card",
		Long: `
Demo makes a sample image and practice cards, and runs the real commands on
them: a download is checked and looked into, and stamped onto a card; then a
counterfeit card is found out. It takes some seconds. With --whole it shows
more: a damaged download, a worn card, and three cards at once. With FOLDER,
which must be new or empty, the files stay there.`,
	},
}
