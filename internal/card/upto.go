package card

// UpTo is a device of which only the first bytes are used: what is beyond may not be there.
func UpTo(d Device, size int64) Device {
	size = size / int64(d.SectorSize()) * int64(d.SectorSize())
	return upTo{d, min(size, d.Size())}
}

type upTo struct {
	Device
	size int64
}

func (u upTo) Size() int64 { return u.size }

// Mishaps and Recognise are those of the device, where it has them.
func (u upTo) Mishaps() []Mishap { return MishapsOf(u.Device) }

// Rates are likewise those of the device.
func (u upTo) Rates() (write, read float64) { return Rates(u.Device) }

func (u upTo) Discard(off, length int64) error { return Discard(u.Device, off, length) }

func (u upTo) Recognise(known func(Device) bool) {
	if d, ok := u.Device.(ReturningDevice); ok {
		d.Recognise(known)
	}
}
