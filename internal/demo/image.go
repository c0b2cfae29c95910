package demo

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"math/rand/v2"
	"time"

	"zipstamp/internal/layout"
)

// The image: a partition table, a boot partition and one with the club's tide tables, in sectors. It ends
// some sectors after a whole number of blocks, as images do.
const (
	bootStart, bootSectors = 2048, 40960
	dataStart, dataSectors = bootStart + bootSectors, 53248
	imageSectors           = dataStart + dataSectors + 34
)

// made is the time of all files in the image.
var made = time.Date(2026, time.May, 1, 9, 30, 0, 0, time.UTC)

// Image is Saltmarsh OS, unpacked: some 49 MB.
func Image() []byte {
	img := make(buffer, imageSectors*layout.SectorSize)
	mbr := layout.MBR(0x5A175A17,
		layout.Partition{Type: layout.TypeFAT16LBA, Active: true, Start: bootStart, Sectors: bootSectors},
		layout.Partition{Type: layout.TypeFAT16LBA, Start: dataStart, Sectors: dataSectors})
	copy(img, mbr[:])
	write(img, "SALTBOOT", 0x5A170001, bootStart, bootSectors, bootFiles())
	write(img, "TIDEDATA", 0x5A170002, dataStart, dataSectors, dataFiles())
	return img
}

// file is a file in the image.
type file struct {
	path string
	data []byte
}

// write makes a file system in the image; start and length count sectors. The data are constant, so they fit, or a test
// finds out.
func write(img buffer, label string, serial uint32, start, length int64, files []file) {
	v := layout.NewFAT{
		Wanted: layout.FAT16Kind, Label: label, Serial: serial, Sector: layout.SectorSize,
		Start: start * layout.SectorSize, Size: length * layout.SectorSize, Time: made,
	}
	for _, f := range files {
		v.Files = append(v.Files, layout.NewFile{Path: f.path, Size: int64(len(f.data))})
	}
	p, err := v.Plan()
	if err == nil {
		err = p.WriteTo(img, func(i int) []byte { return files[i].data })
	}
	if err != nil {
		panic(err)
	}
}

// buffer is a disk in memory.
type buffer []byte

func (b buffer) WriteAt(p []byte, off int64) (int, error) { return copy(b[off:], p), nil }

func bootFiles() []file {
	return []file{
		{path: "boot.txt", data: []byte("# Saltmarsh OS\nkernel=kernel.bin\nboard=auto\nconsole=serial0,115200\n")},
		{
			path: "readme.txt",
			data: []byte(
				"Saltmarsh OS for Brindle boards.\nMade for the Saltmarsh Watchers, who watch tides and weather.\n",
			),
		},
		{path: "kernel.bin", data: kernel(2 << 20)},
		{path: "brindle2.dtb", data: deviceTree("saltmarsh,brindle-2", 6000)},
		{path: "brindle3.dtb", data: deviceTree("saltmarsh,brindle-3", 7000)},
		{path: "overlays/tide.dtb", data: deviceTree("saltmarsh,tide-gauge", 1200)},
		{path: "overlays/wind.dtb", data: deviceTree("saltmarsh,wind-vane", 1400)},
	}
}

// kernel is a made-up kernel with the header of an ARM64 one (Linux, Documentation/arch/arm64/booting.rst), and
// contents that pack about as well as machine code.
func kernel(size int) []byte {
	random := rand.New(rand.NewPCG(1, 2026))
	k := make([]byte, 0, size)
	var words [512]uint32
	for i := range words {
		words[i] = random.Uint32()
	}
	for len(k) < size {
		k = binary.LittleEndian.AppendUint32(k, words[random.IntN(len(words))]^uint32(random.IntN(16)))
	}
	binary.LittleEndian.PutUint64(k[16:], uint64(size))
	copy(k[56:], "ARM\x64")
	return k
}

// deviceTree is a made-up blob that starts as a flattened device tree does (Devicetree Specification 0.4, section 5.2).
func deviceTree(compatible string, size int) []byte {
	random := rand.New(rand.NewPCG(uint64(size), 2026))
	d := make([]byte, size)
	binary.BigEndian.PutUint32(d, 0xD00DFEED)
	binary.BigEndian.PutUint32(d[4:], uint32(size))
	copy(d[64:], compatible)
	for i := 128; i < size; i++ {
		d[i] = byte(random.IntN(32))
	}
	return d
}

// dataFiles are the club's tide tables, a file a month, and a year's weather.
func dataFiles() []file {
	var files []file
	for month := time.January; month <= time.December; month++ {
		files = append(files, file{path: fmt.Sprintf("tides/2026-%02d.csv", month), data: tides(2026, month)})
	}
	return append(files, file{path: "weather.bin", data: weather(3 << 19)})
}

// tides is the height of the water every ten minutes, from the two largest tidal constituents.
func tides(year int, month time.Month) []byte {
	const m2, s2 = 12.4206, 12.0 // periods in hours
	var b bytes.Buffer
	b.WriteString("time,height_m\n")
	t := time.Date(year, month, 1, 0, 0, 0, 0, time.UTC)
	for ; t.Month() == month; t = t.Add(10 * time.Minute) {
		hours := float64(t.Unix()) / 3600
		height := 3.1 + 2.2*math.Cos(2*math.Pi*hours/m2) + 0.7*math.Cos(2*math.Pi*hours/s2)
		fmt.Fprintf(&b, "%s,%.2f\n", t.Format("2006-01-02T15:04"), height)
	}
	return b.Bytes()
}

// weather is a record of a made-up station: noise that hardly packs.
func weather(size int) []byte {
	random := rand.New(rand.NewPCG(3, 2026))
	w := make([]byte, 0, size)
	for len(w) < size {
		w = binary.LittleEndian.AppendUint64(w, random.Uint64())
	}
	return w
}
