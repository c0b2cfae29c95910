package view

import (
	"fmt"

	"zipstamp/internal/card/register"
	"zipstamp/internal/gauge"
	"zipstamp/internal/layout"
	"zipstamp/internal/receipt"
)

// Remark is something implausible about a card's registers, as a clause.
func Remark(r register.Remark) string {
	switch r.What {
	case register.NoCID:
		return "its identification register is empty"
	case register.WrongCheck:
		return "the check value of its identification register is wrong"
	case register.NoMaker:
		return "it names no maker"
	case register.NoProduct:
		return "it has no product name"
	case register.NoSerial:
		return "it has no serial number"
	case register.NoMonth:
		return fmt.Sprintf("its month of manufacture is %d", r.Says)
	case register.MadeLater:
		return fmt.Sprintf("it says that it was made in %s, which is in the future", r.Made)
	case register.OtherLength:
		return fmt.Sprintf("its registers say %s bytes, but the reader says %s", place(r.Says), place(r.Is))
	}
	return string(r.What)
}

// Remarks are those of a card, in words.
func Remarks(all []register.Remark) (out []string) {
	for _, r := range all {
		out = append(out, Remark(r))
	}
	return out
}

// tableDamage is what is wrong with a partition table, as a clause.
func tableDamage(d layout.TableDamage) string {
	switch d.What {
	case layout.NoGPT:
		return "the MBR says that a GPT follows, but there is none, or it is damaged"
	case layout.NoLogical:
		return fmt.Sprintf("the table of logical partition %d is missing", d.Partition)
	case layout.HeaderLength:
		return "the GPT's header has an impossible length"
	case layout.HeaderCheck:
		return "the GPT header's CRC32 is wrong"
	case layout.HeaderEntries:
		return "the GPT's header says impossible things of its entries"
	case layout.NoEntries:
		return "the GPT's entries are missing"
	case layout.EntriesCheck:
		return "the CRC32 of the GPT's entries is wrong"
	case layout.EntryBounds:
		return fmt.Sprintf("partition %d of the GPT ends before it starts, or lies beyond any disk", d.Partition)
	}
	return string(d.What)
}

// lostReads says what is read where writes are lost; receipts of earlier versions have the words themselves.
func lostReads(as gauge.LostAs) string {
	if as == gauge.LostOther {
		return "something that was not written there"
	}
	return string(as)
}

// paceLimits say what may have been slower than the card; receipts of earlier versions have the sentences themselves.
func paceLimits(p *receipt.Pace) (out []string) {
	for _, l := range p.Limits {
		switch l {
		case receipt.LimitLink:
			out = append(out, fmt.Sprintf(
				"the reader: its link, %s, carries at most %.0f MB/s, so the card may be faster than it reads here",
				p.Link, p.LinkRate/1e6,
			))
		case receipt.LimitReader:
			out = append(out, fmt.Sprintf("the reader, at single places: a place that was just read takes %.2f ms, "+
				"nearly as long as any other (%.2f ms), so that time is not the card's", p.SmallestRead*1e3,
				p.Reads.Median*1e3))
		case receipt.LimitNotLink:
			out = append(out, fmt.Sprintf(
				"hardly the link: %s would carry more; it is the card, or the electronics of the reader", p.Link,
			))
		case receipt.LimitCached:
			out = append(
				out, "this computer's memory: this system can't bypass it, so the rates say little of the card",
			)
		case receipt.LimitDropped:
			out = append(
				out,
				"this computer's memory: direct access is not possible here, so single writes may have been gathered "+
					"before they reached the card",
			)
		default:
			out = append(out, string(l))
		}
	}
	return out
}
