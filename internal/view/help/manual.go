package help

// Item is a line of a section of the manual.
type Item struct{ Name, Text string }

// Section is a section that all pages of the manual have.
type Section struct {
	Title string
	Items []Item
}

// Sections are those that stand at the end of every page.
var Sections = []Section{
	{"EXIT STATUS", []Item{
		{"0", "done, and good"},
		{"1", "an unexpected failure"},
		{"2", "wrong usage"},
		{"3", "the image is not what was published, or is damaged"},
		{"4", "the card was refused: protected, busy, no permission, too small, gone"},
		{
			"5", "the card failed: an I/O error, or it does not read back as it was written, is not as it was " +
				"stamped, or could not be saved whole",
		},
		{"6", "a test found the card counterfeit, faulty or unsteady"},
		{"7", "nothing could be downloaded: the network, or a host"},
		{"130", "interrupted"},
	}},
	{"ENVIRONMENT", []Item{
		{"ZIPSTAMP_READ_BACK", "true or false: read every block back"},
		{"ZIPSTAMP_REPAIRS", "how often bad blocks are rewritten, 0 to 100"},
		{"ZIPSTAMP_EJECT", "true or false: eject the card at the end"},
		{"ZIPSTAMP_RECEIPTS", "the folder where receipts are kept"},
		{"ZIPSTAMP_SHELF", "the folder where downloads are kept"},
		{"ZIPSTAMP_PATIENCE", "how long a host is waited for that sends nothing, such as 30s"},
		{"ZIPSTAMP_TRIES", "how often a download is tried without any progress"},
		{"HTTPS_PROXY, HTTP_PROXY, NO_PROXY", "proxies for downloads"},
		{"SSL_CERT_FILE, SSL_CERT_DIR", "certificates that hosts are trusted by (Linux)"},
		{"NO_COLOR", "if it is set, nothing is printed in colour"},
		{"XDG_CONFIG_HOME, XDG_STATE_HOME", "the folders below which settings and what is remembered are kept"},
	}},
	{"FILES", []Item{
		{"~/.config/zipstamp/config.toml", "settings; zipstamp settings prints those in force"},
		{"~/.config/zipstamp/keys/", "the public keys that are kept"},
		{"~/.local/state/zipstamp/receipts/", "receipts, a file of JSON each"},
		{"~/.local/state/zipstamp/journals/", "what tests have saved of cards, until it is put back"},
		{"~/.local/state/zipstamp/tests/", "the progress of tests that can be carried on"},
		{"~/.local/state/zipstamp/names/names.json", "the names that were given to cards"},
		{"~/.local/state/zipstamp/lists/", "the lists of systems that are kept"},
		{"~/.cache/zipstamp/shelf/", "downloads, and parts of them"},
	}},
}
