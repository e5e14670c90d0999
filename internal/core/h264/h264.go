// Package h264 reads H.264 video as a device streams it: it takes the byte stream apart into pictures, and says what they need to be kept in a file.
//
// In: bytes in the byte stream format, in pieces as they come. Out: pictures as units with their lengths before them, as files keep them, and the
// parameter sets that they need. It decodes nothing.
//
// Source: ITU-T H.264 (08/2021), 7.3 and 7.4 for the units, Annex B for the byte stream; ISO/IEC 14496-15, 5.3.3.1 for the record that files keep.
package h264

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
)

// Parameters are the sets that pictures need to be decoded.
type Parameters struct{ Sequence, Picture string }

// Whole says that both sets are known.
func (p Parameters) Whole() bool { return p.Sequence != "" && p.Picture != "" }

// Record is how files keep them: an AVCDecoderConfigurationRecord.
func (p Parameters) Record() []byte {
	out := []byte{1, p.Sequence[1], p.Sequence[2], p.Sequence[3], 0xFC | lengthSize - 1, 0xE0 | 1}
	out = append(binary.BigEndian.AppendUint16(out, uint16(len(p.Sequence))), p.Sequence...)
	out = append(out, 1)
	return append(binary.BigEndian.AppendUint16(out, uint16(len(p.Picture))), p.Picture...)
}

// Picture is one picture of a stream.
type Picture struct {
	At         int64 // when its first byte came
	Key        bool  // it needs no picture before it
	Parameters Parameters
	Units      []byte // each with its length before it, four bytes, big endian
}

const (
	lengthSize = 4
	// MaxPicture is how many bytes a picture may have; one of 4K is far below.
	MaxPicture = 8 << 20
	// maxSet is how many a parameter set may have.
	maxSet = 1 << 10
)

// ErrTooLarge says that what should be a picture does not end.
var ErrTooLarge = fmt.Errorf("a picture of more than %d bytes", MaxPicture)

// Types of units (table 7-1).
const (
	sliceUnit    = 1
	keySliceUnit = 5
	sequenceUnit = 7
	pictureUnit  = 8
)

// Splitter takes a stream apart. The zero value is at its beginning. What comes before the first start code is left out, and so is what is neither a picture
// nor a parameter set.
type Splitter struct {
	unit    []byte // the one that is coming, from behind its start code; before the first one: what came
	unitAt  int64
	begun   bool // a start code has come
	sets    Parameters
	pending Picture // the one that is coming
}

var startCode = []byte{0, 0, 1}

// Feed takes in what came at a moment, and gives the pictures that are whole by it: each one when the next begins.
func (s *Splitter) Feed(b []byte, at int64) (whole []Picture, err error) {
	for len(b) > 0 {
		// A start code may lie across two pieces: look again at the last two bytes of the one before.
		back := min(len(s.unit), len(startCode)-1)
		old := len(s.unit) - back
		i := bytes.Index(append(s.unit[old:len(s.unit):len(s.unit)], b[:min(len(b), 2)]...), startCode)
		if i < 0 {
			if i = bytes.Index(b, startCode); i >= 0 {
				i += back
			}
		}
		if i < 0 {
			if s.unit = append(s.unit, b...); !s.begun {
				s.unit = s.unit[max(0, len(s.unit)-2):]
			}
			if len(s.unit)+len(s.pending.Units) > MaxPicture {
				return whole, ErrTooLarge
			}
			return whole, nil
		}
		end := i + len(startCode) // of the start code, from old on
		if i > back {
			s.unit = append(s.unit, b[:i-back]...)
		} else {
			s.unit = s.unit[:old+i]
		}
		b = b[end-back:]
		if s.begun {
			if p, ok := s.take(); ok {
				whole = append(whole, p)
			}
		}
		s.begun, s.unit, s.unitAt = true, s.unit[:0], at
		if len(s.pending.Units) > MaxPicture {
			return whole, ErrTooLarge
		}
	}
	return whole, nil
}

// Begun says that a picture that needs none before it has come, or has begun to.
func (s *Splitter) Begun() bool {
	return s.pending.Units != nil || s.begun && len(s.unit) > 1 && s.unit[0]&0x1F == keySliceUnit
}

// End gives the last pictures, when the stream has ended. Where it was cut, what came last is left out: it may be half there.
func (s *Splitter) End(cut bool) (whole []Picture) {
	if s.begun && cut {
		if len(s.unit) < 2 || isSlice(s.unit) && !begins(s.unit) { // it may be another part of the same picture
			s.pending = Picture{}
		}
	} else if s.begun {
		if p, ok := s.take(); ok {
			whole = append(whole, p)
		}
	}
	if s.pending.Units != nil {
		whole = append(whole, s.pending)
	}
	*s = Splitter{}
	return whole
}

// Pending gives what End would, and goes on: the newest picture as far as it has come, which is whole unless more of it follows.
func (s *Splitter) Pending() []Picture {
	now := *s
	now.unit, now.pending.Units = bytes.Clone(s.unit), bytes.Clone(s.pending.Units)
	return now.End(false)
}

func isSlice(unit []byte) bool {
	kind := unit[0] & 0x1F
	return kind == sliceUnit || kind == keySliceUnit
}

// begins says whether a slice begins a picture: first_mb_in_slice is 0 (7.3.3; 9.1).
func begins(slice []byte) bool { return slice[1]&0x80 != 0 }

// take takes the unit in that has come, and gives the picture that ended before it.
func (s *Splitter) take() (p Picture, ok bool) {
	u := bytes.TrimRight(s.unit, "\x00")
	if len(u) < 2 {
		return p, false
	}
	switch kind := u[0] & 0x1F; kind {
	case sequenceUnit, pictureUnit:
		p, ok = s.pending, s.pending.Units != nil
		s.pending = Picture{}
		switch {
		case len(u) > maxSet || len(u) < 4 && kind == sequenceUnit:
		case kind == sequenceUnit:
			s.sets.Sequence = string(u)
		default:
			s.sets.Picture = string(u)
		}
	case sliceUnit, keySliceUnit:
		if begins(u) {
			p, ok = s.pending, s.pending.Units != nil
			s.pending = Picture{At: s.unitAt, Key: kind == keySliceUnit, Parameters: s.sets}
		} else if s.pending.Units == nil {
			return p, false // the rest of one whose beginning is missing
		}
		s.pending.Units = binary.BigEndian.AppendUint32(s.pending.Units, uint32(len(u)))
		s.pending.Units = append(s.pending.Units, u...)
	}
	return p, ok
}

var errCut = errors.New("a sequence parameter set is cut")

// Size is how large pictures are, in pixels, as their sequence parameter set says (7.3.2.1.1).
func (p Parameters) Size() (width, height int, err error) {
	if len(p.Sequence) < 4 {
		return 0, 0, errCut
	}
	b := bits{raw: bytes.ReplaceAll([]byte(p.Sequence[4:]), []byte{0, 0, 3}, []byte{0, 0})}
	b.number() // the set's id
	chroma := uint(1)
	switch p.Sequence[1] {
	case 100, 110, 122, 244, 44, 83, 86, 118, 128, 138, 139, 134, 135:
		if chroma = b.number(); chroma == 3 {
			b.skip(1)
		}
		b.number() // bits of brightness
		b.number() // and of colour
		b.skip(1)
		if b.one() {
			b.scaling(chroma)
		}
	}
	b.number() // how many pictures are counted
	switch b.number() {
	case 0:
		b.number()
	case 1:
		b.skip(1)
		b.number()
		b.number()
		for n := min(b.number(), 255); n > 0; n-- {
			b.number()
		}
	}
	b.number() // how many pictures others need
	b.skip(1)
	w, h := 16*(b.number()+1), 16*(b.number()+1)
	frames := b.one()
	unit := uint(1) // of what is cut off above and below, in rows
	if !frames {
		unit, h = 2, 2*h
		b.skip(1)
	}
	b.skip(1)
	across, down := uint(2), uint(2)*unit
	switch chroma {
	case 0, 3:
		across, down = 1, unit
	case 2:
		down = unit
	}
	if b.one() {
		left, right, top, bottom := b.number(), b.number(), b.number(), b.number()
		w, h = w-across*(left+right), h-down*(top+bottom)
	}
	const most = 16 * 1024
	if b.over || w == 0 || h == 0 || w > most || h > most {
		return 0, 0, errCut
	}
	return int(w), int(h), nil
}

// bits reads bits; over says that there were not so many.
type bits struct {
	raw  []byte
	at   int
	over bool
}

func (b *bits) one() bool {
	i := b.at / 8
	if i >= len(b.raw) {
		b.over = true
		return false
	}
	bit := b.raw[i]>>(7-b.at%8)&1 == 1
	b.at++
	return bit
}

func (b *bits) skip(n int) { b.at += n }

// number reads ue(v), 9.1.
func (b *bits) number() uint {
	zeros := 0
	for !b.one() {
		if zeros++; b.over || zeros > 31 {
			b.over = true
			return 0
		}
	}
	n := uint(1)
	for range zeros {
		n <<= 1
		if b.one() {
			n |= 1
		}
	}
	return n - 1
}

// signed reads se(v), 9.1.1.
func (b *bits) signed() int {
	n := int(b.number())
	if n%2 == 1 {
		return (n + 1) / 2
	}
	return -n / 2
}

// scaling reads over scaling lists, 7.3.2.1.1.1.
func (b *bits) scaling(chroma uint) {
	lists := 8
	if chroma == 3 {
		lists = 12
	}
	for i := range lists {
		if !b.one() {
			continue
		}
		size := 16
		if i >= 6 {
			size = 64
		}
		for last, next := 8, 8; size > 0 && !b.over; size-- {
			if next != 0 {
				next = (last + b.signed() + 256) % 256
			}
			if next != 0 {
				last = next
			}
		}
	}
}
