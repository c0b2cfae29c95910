package help

import "strings"

// Meant is what a word that people bring along stands for here. Each command keeps one name; these words only lead to
// it.
type Meant struct {
	Command string // the path of the command that does it; empty if none does
	OfCard  string // that of the command which does it with a card, where that is another one
	Why     string // what to know, where no command does it
}

// Brought finds what a word stands for that is not a command, in any case and with hyphens before it.
func Brought(word string) (Meant, bool) {
	m, ok := brought[strings.ToLower(strings.TrimLeft(word, "-"))]
	return m, ok
}

// BroughtFlag finds the flag that a name stands for which is none, without its hyphens.
func BroughtFlag(name string) string { return broughtFlags[strings.ToLower(name)] }

var brought = meanings(map[string]Meant{
	"write burn flash copy put install provision deploy prepare": {Command: "stamp"},
	"verify validate compare checksum checksums hash digest sum sums sha sha256 sha512 md5 signature match": {
		Command: "check", OfCard: "recheck",
	},
	"reverify reread readback":                                       {Command: "recheck"},
	"list ls devices drives disks card sd device disk":               {Command: "cards"},
	"test capacity counterfeit fake genuine probe scan health sizes": {Command: "gauge spots"},
	"erase format wipe clear clean empty reset delete fat32 exfat":   {Command: "blank"},
	"info inspect look inside contents show details partitions":      {Command: "peek"},
	"speed benchmark bench fast throughput":                          {Command: "pace"},
	"history log logs records report reports results":                {Command: "receipts"},
	"key trust sign pubkey":                                          {Command: "keys"},
	"simulate simulated dummy virtual":                               {Command: "practice new"},
	"example try tour tutorial sample":                               {Command: "demo"},
	"config configure options preferences":                           {Command: "settings"},
	"backup dump clone read copyoff image archive":                   {Command: "save"},
	"undo rollback":     {Command: "gauge restore"},
	"download get grab": {Command: "fetch"},
	"catalog catalogue repository repo feed list-systems os oses": {Command: "systems"},
	"cache downloads": {Command: "shelf"},
	"prune cleanup":   {Command: "shelf clean"},
	"update upgrade selfupdate": {
		Why: "zipstamp doesn't replace itself; get the new version where you got this one (zipstamp version " +
			"says which this is)",
	},
	"unzip unpack extract decompress uncompress": {
		Why: "an image needs no unpacking: zipstamp stamp takes it as it was downloaded, and zipstamp blank --with " +
			"an " +
			"archive of loose files",
	},
	"eject unmount umount": {
		Why: "zipstamp stamp unmounts the card by itself, and ejects it at the end",
	},
})

var broughtFlags = map[string]string{
	"sha256": "digest", "sha512": "digest", "sha1": "digest", "md5": "digest", "sha": "digest", "hash": "digest",
	"checksum": "digest", "sum": "digest", "sha256sum": "digest",
	"sums-file": "sums", "sumsfile": "sums", "checksums": "sums", "sha256sums": "sums", "checksum-file": "sums",
	"digests": "sums", "hash-file": "sums",
	"y": "yes", "f": "yes", "force": "yes", "assume-yes": "yes", "no-confirm": "yes", "noconfirm": "yes",
	"batch": "yes", "no-verify": "no-read-back", "skip-verify": "no-read-back", "noverify": "no-read-back",
	"no-check":    "no-read-back",
	"dont-verify": "no-read-back",
	"skip-check":  "unchecked", "no-checksum": "unchecked", "insecure": "unchecked", "allow-unchecked": "unchecked",
	"skip-test": "no-spots", "no-test": "no-spots",
	"keep-in": "no-eject", "dont-eject": "no-eject",
	"name": "label", "volume": "label", "volume-name": "label",
	"output": "receipt", "o": "receipt", "log": "receipt",
	"pubkey": "key", "public-key": "key", "signature-key": "key", "keyring": "key",
	"everything": "all", "a": "all", "list": "all",
	"j": "json", "format-json": "json", "machine": "json",
	"nocolor": "no-color", "no-colour": "no-color", "monochrome": "no-color",
	"watch": "arrive", "next": "arrive",
	"after": "since", "from": "since", "before": "until", "to": "until",
	"dry": "dry-run", "simulate": "dry-run", "pretend": "dry-run", "what-if": "dry-run",
	"size": "claimed", "capacity": "claimed", "bytes": "first", "limit": "first",
}

// meanings gives each of the words of a row its meaning.
func meanings(rows map[string]Meant) map[string]Meant {
	out := map[string]Meant{}
	for words, meant := range rows {
		for word := range strings.FieldsSeq(words) {
			out[word] = meant
		}
	}
	return out
}
