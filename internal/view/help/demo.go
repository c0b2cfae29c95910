package help

// What the demo says: of the whole, of the sample data, and of each of its commands.
const (
	DemoStart  = "The Saltmarsh Watchers prepare cards with Saltmarsh OS for their Brindle boards."
	DemoMaking = "Making the sample data in %s ..."
	DemoCheck  = "A download is compared with the sums file that came with it, and the sums file with the club's " +
		"signature."
	DemoFetch = "The same download from a publisher's host (a stand-in on this computer): it breaks off, and is " +
		"carried " +
		"on. It is checked by the club's key, since it came without https."
	DemoPeek    = "What is in it, and for which boards? No more of it is unpacked than that takes."
	DemoDamaged = "A download that was damaged on its way is refused."
	DemoStamp   = "The image is stamped onto a good card: unpacked as a stream, written, and read back."
	DemoTired   = "A tired card stores a bit wrong; reading back finds it, and the block is written again."
	DemoLiar    = "This card claims 64 MB and holds 32 MB. Trying a few places first gives it away, before anything " +
		"is written."
	DemoSpots       = "How much does it really hold? Places all over it are tried, and what was there is put back."
	DemoCounterfeit = "This card claims 64 MB. Does it hold them? Places all over it are tried, and what was there " +
		"is put " +
		"back."
	DemoFiles = "The boot files of the system, in an archive: they go onto a FAT card of their own, and are read " +
		"back one by one."
	DemoPage = "A page of that, to show to the seller."
	DemoAll  = "All three at once, from one unpacking: each card has its own result and its own receipt."
)
