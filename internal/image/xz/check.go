package xz

import (
	"crypto/sha256"
	"encoding/binary"
	"hash"
	"hash/crc32"
	"hash/crc64"
)

// checkKind is the method by which blocks are checked (section 2.1.1.2).
type checkKind uint8

const (
	checkNone   checkKind = 0x00
	checkCRC32  checkKind = 0x01
	checkCRC64  checkKind = 0x04
	checkSHA256 checkKind = 0x0A
)

var crc64Table = crc64.MakeTable(crc64.ECMA) // section 3.4

func (k checkKind) supported() bool {
	return k == checkNone || k == checkCRC32 || k == checkCRC64 || k == checkSHA256
}

// size is that of the Check field, bytes.
func (k checkKind) size() int64 {
	switch k {
	case checkCRC32:
		return crc32.Size
	case checkCRC64:
		return crc64.Size
	case checkSHA256:
		return sha256.Size
	}
	return 0
}

func (k checkKind) String() string {
	switch k {
	case checkCRC32:
		return "CRC32"
	case checkCRC64:
		return "CRC64"
	case checkSHA256:
		return "SHA-256"
	}
	return "no check"
}

// sum computes the Check field of a block.
type sum struct {
	kind checkKind
	h    hash.Hash
}

func (k checkKind) sum() *sum {
	s := &sum{kind: k}
	switch k {
	case checkCRC32:
		s.h = crc32.NewIEEE()
	case checkCRC64:
		s.h = crc64.New(crc64Table)
	case checkSHA256:
		s.h = sha256.New()
	}
	return s
}

func (s *sum) write(p []byte) {
	if s.h != nil {
		s.h.Write(p)
	}
}

// field is the Check field as it stands in the file (section 3.4): CRCs are little endian.
func (s *sum) field() []byte {
	switch h := s.h.(type) {
	case hash.Hash32:
		return binary.LittleEndian.AppendUint32(nil, h.Sum32())
	case hash.Hash64:
		return binary.LittleEndian.AppendUint64(nil, h.Sum64())
	case hash.Hash:
		return h.Sum(nil)
	}
	return []byte{}
}
