package appfile

// The resource table (ResourceTypes.h: ResTable_*): from a resource id to its
// text in the default language, or to the densest picture.

import (
	"encoding/binary"
	"fmt"
	"strconv"
	"strings"
)

type resources struct {
	strings *pool
	types   map[uint32][]typeChunk // by id>>16: package and type, one chunk a configuration
	b       *budget
}

type typeChunk struct {
	whole   []byte
	flags   byte
	count   uint32
	entries uint32 // where they start in whole
	offsets []byte // one an entry
	plain   bool   // for any language
	bare    bool   // under no qualifier but, maybe, a version
	since   uint16 // the API level from which on it is meant; 0: any
	density uint16
}

const maxHops = 20 // from reference to reference

func readTable(raw []byte, b *budget) (*resources, error) {
	t := &resources{types: map[uint32][]typeChunk{}, b: b}
	err := chunks(raw, b, func(c chunk) error {
		if c.kind != chunkTable {
			return fmt.Errorf("it begins with a record of kind 0x%04x", c.kind)
		}
		return chunks(c.body, b, func(c chunk) (err error) {
			switch c.kind {
			case chunkStrings:
				t.strings, err = readPool(c, b)
			case chunkPackage:
				var id uint32
				if id, err = u32(c.header, 8); err == nil {
					err = chunks(c.body, b, func(c chunk) error { return t.addType(id, c) })
				}
			}
			return err
		})
	})
	return t, err
}

func (t *resources) addType(pkg uint32, c chunk) error {
	if c.kind != chunkType {
		return nil
	}
	if len(c.header) < 20+28 || pkg > 0xFF {
		return errShort
	}
	le := binary.LittleEndian
	x := typeChunk{whole: c.whole, flags: c.header[9], count: le.Uint32(c.header[12:]), entries: le.Uint32(c.header[16:]), offsets: c.body}
	width := uint64(4)
	if x.flags&flagOffset16 != 0 && x.flags&flagSparse == 0 {
		width = 2
	}
	if uint64(x.count)*width > uint64(len(c.body)) || uint64(x.entries) > uint64(len(c.whole)) {
		return errShort
	}
	// ResTable_config: size, mcc and mnc, then language and country, then
	// orientation, touchscreen, density.
	config := c.header[20:]
	x.plain = le.Uint32(config[8:]) == 0 && le.Uint32(config[4:]) == 0
	x.density = le.Uint16(config[14:])
	x.since = le.Uint16(config[24:])
	x.bare = x.plain && le.Uint32(config[12:]) == 0 && le.Uint32(config[16:]) == 0 && le.Uint32(config[20:]) == 0
	key := pkg<<8 | uint32(c.header[8])
	t.types[key] = append(t.types[key], x)
	return nil
}

// entry finds an entry's offset in the chunk; false: this configuration has none.
func (c typeChunk) entry(i uint32, b *budget) (uint32, bool, error) {
	if c.flags&flagSparse != 0 {
		for k := range int(c.count) { // sorted by index; short in practice, and paid for
			if err := b.spend(1); err != nil {
				return 0, false, err
			}
			if at := c.offsets[k*4:]; uint32(binary.LittleEndian.Uint16(at)) == i {
				return uint32(binary.LittleEndian.Uint16(at[2:])) * 4, true, nil
			}
		}
		return 0, false, nil
	}
	if i >= c.count {
		return 0, false, nil
	}
	if c.flags&flagOffset16 != 0 {
		off := binary.LittleEndian.Uint16(c.offsets[i*2:])
		return uint32(off) * 4, off != 0xFFFF, nil
	}
	off := binary.LittleEndian.Uint32(c.offsets[i*4:])
	return off, off != noEntry, nil
}

// lookup returns the value of a resource in the configuration that better
// likes best; false when there is no simple value.
func (t *resources) lookup(id uint32, better func(a, b typeChunk) bool) (value, bool, error) {
	if t == nil {
		return value{}, false, nil
	}
	var best value
	var bestType *typeChunk
	kinds := t.types[id>>16]
	for k := range kinds {
		c := &kinds[k]
		if err := t.b.spend(4); err != nil {
			return value{}, false, err
		}
		off, ok, err := c.entry(id&0xFFFF, t.b)
		if err != nil {
			return value{}, false, err
		}
		if !ok || (bestType != nil && !better(*c, *bestType)) {
			continue
		}
		v, simple, err := c.value(off, t.strings)
		if err != nil {
			return value{}, false, err
		}
		if simple {
			best, bestType = v, c
		}
	}
	return best, bestType != nil, nil
}

func (c typeChunk) value(off uint32, p *pool) (value, bool, error) {
	at := uint64(c.entries) + uint64(off)
	if at+8 > uint64(len(c.whole)) {
		return value{}, false, errShort
	}
	e := c.whole[at:]
	size, flags := binary.LittleEndian.Uint16(e), binary.LittleEndian.Uint16(e[2:])
	switch {
	case flags&entryCompact != 0: // the value's kind stands in the upper byte of the flags
		v := value{kind: byte(flags >> 8), data: binary.LittleEndian.Uint32(e[4:])}
		var err error
		if v.kind == typeString {
			v.text, err = p.at(v.data)
		}
		return v, true, err
	case flags&entryComplex != 0:
		return value{}, false, nil
	case int(size)+8 > len(e):
		return value{}, false, errShort
	}
	v, err := readValue(e[size:], p)
	return v, true, err
}

// text follows references to the value in the default language, as a text.
func (t *resources) text(v value) (string, error) {
	v, _, err := t.resolved(v, newest)
	switch v.kind {
	case typeString:
		return v.text, err
	case typeInt:
		return strconv.Itoa(int(int32(v.data))), err
	case typeHex:
		return fmt.Sprintf("0x%x", v.data), err
	case typeBool:
		return strconv.FormatBool(v.data != 0), err
	}
	return "", err
}

var errHops = fmt.Errorf("a resource refers to another more than %d times over", maxHops)

// newest likes best what a device of the newest system shows that is set to no language of its own.
func newest(a, b typeChunk) bool {
	switch {
	case a.plain != b.plain:
		return a.plain
	case a.bare != b.bare:
		return a.bare
	}
	return a.since > b.since
}

// resolved follows references to a value that is none, each to what better likes best; false: there is none.
func (t *resources) resolved(v value, better func(a, b typeChunk) bool) (value, bool, error) {
	for range maxHops {
		if v.kind != typeReference && v.kind != typeDynamicRef {
			return v, v.kind != 0, nil
		}
		next, ok, err := t.lookup(v.data, better)
		if err != nil || !ok {
			return value{}, false, err
		}
		v = next
	}
	return value{}, false, errHops
}

// Types of values that are whole numbers of any kind: decimal, hexadecimal, boolean, colours (ResourceTypes.h: TYPE_FIRST_INT to TYPE_LAST_INT).
const (
	typeFirstInt = 0x10
	typeLastInt  = 0x1f
)

// number reads a value as the system's TypedArray.getInteger does: whole numbers as they are, texts in decimal, hexadecimal or octal; 0 where it is neither.
func (t *resources) number(v value) (int64, error) {
	v, ok, err := t.resolved(v, newest)
	if err != nil || !ok {
		return 0, err
	}
	switch {
	case v.kind >= typeFirstInt && v.kind <= typeLastInt:
		return int64(v.data), nil
	case v.kind == typeString:
		text := strings.TrimSpace(v.text)
		if hex, ok := strings.CutPrefix(text, "#"); ok {
			text = "0x" + hex
		}
		if n, err := strconv.ParseInt(text, 0, 64); err == nil && n >= 0 && n < 1<<32 {
			return n, nil
		}
	}
	return 0, nil
}

// flag reads a value as TypedArray.getBoolean does: numbers but 0, and the texts true, TRUE and 1.
func (t *resources) flag(v value) (bool, error) {
	v, ok, err := t.resolved(v, newest)
	if err != nil || !ok {
		return false, err
	}
	if v.kind == typeString {
		return v.text == "true" || v.text == "TRUE" || v.text == "1", nil
	}
	return v.kind >= typeFirstInt && v.kind <= typeLastInt && v.data != 0, nil
}

// Preview is the API level that stands for a system that is not released yet (Build.VERSION_CODES.CUR_DEVELOPMENT).
const Preview = 10_000

// level reads an API level: a number, or the code name of a system that is not released (then it is Preview). otherwise is for where nothing is said.
func (t *resources) level(v value, otherwise int) (n int, codeName string, err error) {
	v, ok, err := t.resolved(v, newest)
	if err != nil || !ok {
		return otherwise, "", err
	}
	if v.kind == typeString {
		text := strings.TrimSpace(v.text)
		if n, err := strconv.Atoi(text); err == nil && n >= 0 {
			return n, "", nil
		}
		if text == "" {
			return otherwise, "", nil
		}
		return Preview, text, nil
	}
	if v.kind >= typeFirstInt && v.kind <= typeLastInt && v.data < 1<<31 {
		return int(v.data), "", nil
	}
	return otherwise, "", nil
}

// picture follows references to the densest value that names a picture; an
// icon drawn by XML alone gives "".
func (t *resources) picture(v value) (string, error) {
	const anyDensity, noDensity = 0xFFFE, 0xFFFF // drawn by XML; for all densities
	rank := func(c typeChunk) int {
		if c.density >= anyDensity {
			return -1
		}
		return int(c.density)
	}
	v, _, err := t.resolved(v, func(a, b typeChunk) bool { return rank(a) > rank(b) })
	if err != nil || v.kind != typeString || !isPicture(v.text) {
		return "", err
	}
	return v.text, nil
}
