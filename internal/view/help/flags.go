package help

// Flag gives the help of a flag of a command; that of one which several commands have is the same for all of them,
// unless one has its own. A word in back quotes is what the flag takes.
func Flag(command, name string) string {
	if text, ok := flags[command+" --"+name]; ok {
		return text
	}
	return flags["--"+name]
}

var flags = map[string]string{
	"--json":     "print the result as one JSON document on standard output",
	"--no-color": "print without colours (so does the variable NO_COLOR)",
	"--quiet":    "show no progress, only the result and what must be known",
	"--progress": "how progress is shown: `HOW` is auto, json (lines for other programs) or none",

	// of several commands
	"--receipt":      "the `FILE` for the receipt, or a folder",
	"--first":        "test only the first `SIZE`, such as 64GB",
	"--member":       "the `NAME` of the image in an archive that holds several",
	"--max-unpacked": "the largest `SIZE` that an image may unpack to",
	"--no-eject":     "don't eject the card at the end",
	"--yes":          "don't ask; for scripts",
	"--dry-run":      "make all checks, show what would be done, and write nothing",
	"--fixed-disk":   "allow a disk that is not a card; you must type its name even with --yes",
	"--wait":         "wait until programs that use the card have ended",
	"--card":         "only receipts of cards with this `TEXT` in their name, path, model, serial number or CID",
	"--image":        "only receipts of images with this `TEXT` in their name or digest",
	"--since":        "only receipts from this `DATE` on, such as 2026-11-26 or yesterday",
	"--until":        "only receipts up to this `DATE`",

	"check --digest":     "the published digest, as `TEXT` (can be repeated)",
	"check --sums":       "a `FILE` with published digests (can be repeated)",
	"check --key":        "a `FILE` with the public key that it must be signed with (can be repeated)",
	"check --must-match": "fail if no published digest is found",
	"stamp --digest":     "the published digest, as `TEXT` (can be repeated)",
	"stamp --sums":       "a `FILE` with published digests (can be repeated)",
	"stamp --key":        "a `FILE` with the public key that it must be signed with (can be repeated)",

	"fetch --digest":     "the published digest, as `TEXT` (can be repeated)",
	"fetch --sums":       "a `FILE` with published digests (can be repeated)",
	"fetch --key":        "a `FILE` with the public key that it must be signed with (can be repeated)",
	"fetch --to":         "put it into `FOLDER`, not on the shelf",
	"fetch --must-match": "fail if no published digest is found",
	"--plain-http":       "take http without TLS too",
	"systems --board":    "only systems for the board `NAME`, or a part of it",
	"systems --search":   "only systems with this `TEXT` in their name, boards or notes",
	"systems add --key":  "a `FILE` with the public key that it must be signed with (can be repeated)",
	"systems add --yes":  "don't ask; for scripts",
	"shelf clean --keep": "keep no more than `SIZE`, such as 5GB",

	"systems make --base-url": "the `URL` of the folder where the images will be",
	"systems make --name":     "the `NAME` of the list, such as your club's",

	"practice serve --port":         "the `NUMBER` of the port (by default any that is free)",
	"practice serve --rate":         "how fast it sends, such as 5MB/s",
	"practice serve --cut-after":    "each answer breaks off after so many bytes",
	"practice serve --cuts":         "only the first `N` answers break off",
	"practice serve --no-ranges":    "it sends only whole files",
	"practice serve --change-after": "a file is another one after `N` answers",
	"practice serve --wrong-length": "it promises `BYTES` more than it sends (below zero: fewer)",
	"practice serve --sign-in-page": "it sends a web page in place of each file",
	"practice serve --stall":        "it sends nothing any more after so many bytes",
	"practice serve --stalls":       "only the first `N` answers stall",
	"practice serve --etag":         "`WHICH` marks tell files apart: strong, weak or none",
	"practice serve --status":       "it answers with the status `NUMBER`, such as 500",
	"practice serve --statuses":     "only the first `N` answers have that status",
	"practice serve --retry-after":  "it asks to be asked again after this `TIME`, with such a status",
	"practice serve --packed":       "it packs files on their way, whatever is asked for",
	"practice serve --redirect":     "it sends everybody to this `URL`",
	"practice serve --wrong-byte":   "it sends another byte at this place of a file",

	"cards --all":    "show all disks, with the reason why each can't be chosen",
	"cards --arrive": "wait for the next card that is put in, and show it",

	"cards name --forget": "take the card's name away",

	"stamp --receipt":      "the `FILE` for the receipt, or a folder for those of several cards",
	"stamp --save-first":   "copy the card into `FILE` before it is overwritten (see zipstamp save)",
	"stamp --incomplete":   "stamp a copy of a card in which something is missing",
	"stamp --unchecked":    "with --yes: stamp even if no published digest is found, or earlier signatures are missing",
	"stamp --no-spots":     "don't test the card for being counterfeit first",
	"stamp --no-read-back": "don't read the card back; the result says so",
	"stamp --write-all":    "write all blocks, also those that the card already holds",
	"stamp --discard-rest": "discard what is beyond the image, which makes a used card faster",
	"stamp --repairs":      "how many times, `N`, bad blocks are written again",
	"stamp --arrive":       "stamp the next `N` cards that are put in",
	"stamp --power-off":    "turn off the USB stick or reader at the end",

	"recheck --against": "the `FILE` of the receipt to compare with",

	"demo --whole": "show more: damage, a worn card, several cards at once",

	"gauge spots --places": "how many places, `N`, are chosen at random, besides those where cards end",
	"gauge spots --seed":   "a `NUMBER` that makes the same places be chosen again; receipts have it",

	"gauge whole --to-the-end": "go on to the end, even when the card is known to be counterfeit",
	"gauge whole --afresh":     "start from the beginning, even if a test was interrupted",

	"gauge space --first":      "fill only `SIZE`, such as 8GB",
	"gauge space --keep":       "leave the files, to read them again later",
	"gauge space --again":      "write nothing; read the files that were left",
	"gauge space --remove":     "remove the files that were left, and do nothing else",
	"gauge space --fixed-disk": "allow a folder that is not on a card",

	"gauge restore --list":   "only show what is saved",
	"gauge restore --forget": "delete the saved data; don't put it back",

	"blank --label":       "the `NAME` of the file system, up to 11 characters",
	"blank --real-size":   "use only as much as a test found to be real",
	"blank --file-system": "`KIND` is fat32 or exfat, where the usual one for the size won't do",
	"blank --with":        "an archive or `FOLDER` whose files go onto the card",
	"blank --within":      "take what is in this `FOLDER` of it; a dot stands for all of it",
	"blank --digest":      "the published digest of the archive, as `TEXT` (can be repeated)",
	"blank --sums":        "a `FILE` with published digests (can be repeated)",
	"blank --key":         "a `FILE` with the public key that it must be signed with (can be repeated)",
	"blank --unchecked":   "with --yes: go on even if no published digest is found",
	"blank --no-spots":    "don't test the card for being counterfeit first",
	"blank --write-all":   "with --with: write all blocks, also those that the card already holds",
	"blank --arrive":      "make the next `N` cards that are put in",

	"save --free-as-zeros": "leave out what no file uses: it is zeros in the image",

	"keys add --fingerprint": "the key's fingerprint, as `TEXT`; don't ask",

	"practice new --claimed":    "the size that the card says it has (needed)",
	"practice new --real":       "the size that it really has (by default as claimed)",
	"practice new --beyond":     "`WHAT` it does beyond its real size: wrap, drop, lazy, oldest or ends",
	"practice new --reads":      "`WHAT` dropped places read as: zeros, ff, noise, changing or last",
	"practice new --cache":      "how much of the latest writes it answers from its own memory",
	"practice new --write-back": "it stores what is written only when that memory is full",
	"practice new --volatile":   "that memory is lost when it is taken out, flushed or not",
	"practice new --read-rate":  "how fast it reads, such as 90MB/s",
	"practice new --write-rate": "how fast it writes",
	"practice new --latency":    "the `TIME` that each access takes in addition, such as 2ms",
	"practice new --fault": "sectors that fail: `FAULT` such as kind=flip,sector=8192,times=1 (can be " +
		"repeated)",
	"practice new --discards": "`WHAT` a discard leaves: zeros, ff, nothing (no change), \"zeros later\", " +
		"\"old data later\", \"zeros around\" or fails",
	"practice new --discard-rate":    "how fast it discards",
	"practice new --read-only":       "it is write-protected",
	"practice new --read-only-after": "it becomes write-protected after this much was written",
	"practice new --gone-after":      "it is pulled out after this much was written and read",
	"practice new --resets-after":    "its reader is reset, once, after this much was written and read",
	"practice new --gone-after-time": "it is pulled out after this long, such as 3s",
	"practice new --power-cut-after": "the power is cut after this much was written",
	"practice new --tear-after":      "the power is cut after this much was written, in the middle of a write",
	"practice new --fade-after":      "after this much was written, it writes at --fade-rate",
	"practice new --fade-rate":       "how fast it writes then",
	"practice new --stall-every":     "it stalls each time this much has been written",
	"practice new --stall":           "how long it stalls, such as 2s",
	"practice new --reader-limit":    "its reader fails beyond this place",
	"practice new --seed":            "a `NUMBER` that makes random events the same each time",
	"practice new --sector":          "its logical sector, `BYTES`: 512 or 4096",
	"practice new --model":           "the `NAME` of the model that it says it is",
	"practice new --serial":          "the serial number that it says it has, `TEXT`",
	"practice new --backing":         "the `NAME` of the file beside it with what it holds (by default FILE.data)",
}
