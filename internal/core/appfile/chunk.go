package appfile

// Chunks and string pools: the parts that the binary manifest and the resource
// table are both made of (ResourceTypes.h: ResChunk_header, ResStringPool_header).

import (
	"encoding/binary"
	"errors"
	"fmt"
	"unicode/utf16"
)

const (
	chunkStrings   = 0x0001
	chunkTable     = 0x0002
	chunkXML       = 0x0003
	chunkXMLStart  = 0x0102
	chunkXMLEnd    = 0x0103
	chunkXMLIDs    = 0x0180
	chunkPackage   = 0x0200
	chunkType      = 0x0201
	flagUTF8       = 1 << 8
	flagSparse     = 1 << 0
	flagOffset16   = 1 << 1
	entryComplex   = 1 << 0
	entryCompact   = 1 << 3
	typeReference  = 0x01
	typeString     = 0x03
	typeDynamicRef = 0x07
	typeInt        = 0x10
	typeHex        = 0x11
	typeBool       = 0x12
	noEntry        = 0xFFFFFFFF
)

var errShort = errors.New("it ends in the middle of a record")

type chunk struct {
	kind   uint16
	header []byte // with its first 8 bytes
	body   []byte // what follows the header
	whole  []byte
}

// chunks calls f for each chunk in raw, in order.
func chunks(raw []byte, b *budget, f func(chunk) error) error {
	for len(raw) >= 8 {
		if err := b.spend(8); err != nil {
			return err
		}
		kind := binary.LittleEndian.Uint16(raw)
		head := int(binary.LittleEndian.Uint16(raw[2:]))
		size := binary.LittleEndian.Uint32(raw[4:])
		if head < 8 || uint64(size) < uint64(head) || uint64(size) > uint64(len(raw)) {
			return fmt.Errorf("a record of kind 0x%04x says it is %d bytes long where %d are left", kind, size, len(raw))
		}
		if err := f(chunk{kind, raw[:head], raw[head:size], raw[:size]}); err != nil {
			return err
		}
		raw = raw[size:]
	}
	return nil
}

func u16(b []byte, off int) (uint16, error) {
	if off < 0 || off+2 > len(b) {
		return 0, errShort
	}
	return binary.LittleEndian.Uint16(b[off:]), nil
}

func u32(b []byte, off int) (uint32, error) {
	if off < 0 || off+4 > len(b) {
		return 0, errShort
	}
	return binary.LittleEndian.Uint32(b[off:]), nil
}

// pool is a string pool. A string is decoded when it is first asked for, and
// then kept: one long string that thousands of attributes name is decoded once.
type pool struct {
	count, styles int
	utf8          bool
	offsets       []byte
	data          []byte
	decoded       map[uint32]string
	b             *budget
}

func readPool(c chunk, b *budget) (*pool, error) {
	if len(c.header) < 28 {
		return nil, errShort
	}
	le := binary.LittleEndian
	n, flags, start := le.Uint32(c.header[8:]), le.Uint32(c.header[16:]), le.Uint32(c.header[20:])
	if uint64(n)*4 > uint64(len(c.body)) {
		return nil, fmt.Errorf("a string pool says it holds %d strings in %d bytes", n, len(c.body))
	}
	if n > 0 && (uint64(start) < uint64(len(c.header)) || uint64(start) > uint64(len(c.whole))) {
		return nil, errShort
	}
	p := &pool{count: int(n), utf8: flags&flagUTF8 != 0, offsets: c.body[:n*4], decoded: map[uint32]string{}, b: b}
	if n > 0 {
		p.data = c.whole[start:]
	}
	return p, nil
}

// at returns the string with that index, clipped to maxText bytes; "" for the
// index that means none.
func (p *pool) at(i uint32) (string, error) {
	if p == nil || i == noEntry {
		return "", nil
	}
	if int64(i) >= int64(p.count) {
		return "", fmt.Errorf("string %d of %d is asked for", i, p.count)
	}
	if s, ok := p.decoded[i]; ok {
		return s, p.b.spend(1)
	}
	off := int(binary.LittleEndian.Uint32(p.offsets[i*4:]))
	if off < 0 || off >= len(p.data) {
		return "", errShort
	}
	s, err := p.decode(p.data[off:])
	if err != nil {
		return "", err
	}
	p.decoded[i] = s
	return s, nil
}

func (p *pool) decode(d []byte) (string, error) {
	if p.utf8 {
		_, d, err := length8(d) // in characters; not needed
		if err != nil {
			return "", err
		}
		n, d, err := length8(d)
		if err != nil || n > len(d) {
			return "", errShort
		}
		n = min(n, maxText)
		return string(d[:n]), p.b.spend(n)
	}
	first, err := u16(d, 0)
	if err != nil {
		return "", err
	}
	n, d := int(first), d[2:]
	if first&0x8000 != 0 {
		low, err := u16(d, 0)
		if err != nil {
			return "", err
		}
		n, d = int(first&0x7FFF)<<16|int(low), d[2:]
	}
	if n*2 > len(d) {
		return "", errShort
	}
	n = min(n, maxText)
	units := make([]uint16, n)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(d[i*2:])
	}
	return string(utf16.Decode(units)), p.b.spend(n * 2)
}

func length8(d []byte) (int, []byte, error) {
	if len(d) < 1 {
		return 0, nil, errShort
	}
	if d[0]&0x80 == 0 {
		return int(d[0]), d[1:], nil
	}
	if len(d) < 2 {
		return 0, nil, errShort
	}
	return int(d[0]&0x7F)<<8 | int(d[1]), d[2:], nil
}

// value is a typed value (Res_value), with its text where it is a string.
type value struct {
	kind byte
	data uint32
	text string
}

func readValue(raw []byte, p *pool) (value, error) {
	if len(raw) < 8 {
		return value{}, errShort
	}
	v := value{kind: raw[3], data: binary.LittleEndian.Uint32(raw[4:])}
	var err error
	if v.kind == typeString {
		v.text, err = p.at(v.data)
	}
	return v, err
}
