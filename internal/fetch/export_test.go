package fetch

import (
	"net/netip"

	"zipstamp/internal/digest"
)

func Back(p *Part, to int64) error            { return p.back(to) }
func Stop(p *Part)                            { p.close(errStalled) }
func Reads(p *Part, b []byte) error           { return p.reads(b, 0) }
func Finish(p *Part) ([]digest.Digest, error) { return p.finish() }
func Headers(contentRange_, link_, digests string) {
	contentRange(contentRange_)
	linksOf([]string{link_})
	fieldDigests([]string{digests})
}

func IsPublic(text string) bool      { return isPublic(netip.MustParseAddr(text)) }
func IsPrivateName(host string) bool { return isPrivateName(host) }
