package devicelog

// The index of a long log: which line is where, when and how grave, so that any
// window of it can be read without reading the rest.

import (
	"bufio"
	"bytes"
	"errors"
	"io"
	"slices"
	"strings"
	"time"
)

// Levels are the levels of lines, the gravest last.
const Levels = "VDIWEF"

const (
	maxIndexed = 1<<32 - 1 // bytes; offsets are kept in 32 bits
	maxLines   = 6_000_000 // lines; what comes behind belongs to the last
	maxTags    = 60_000
)

// Index knows of each line of a log where it is. It is safe for use by several goroutines.
type Index struct {
	Size    int64
	Tags    []string
	Crashes []int // lines, from 0
	entries []entry
}

type entry struct {
	off   uint32
	at    int32 // ms on the attempt's clock
	tag   uint16
	level int8 // in Levels; -1: no line of the log's own
}

// Place says where on the attempt's clock, in ms, a line of the log lies: by its number among those that have a time, from 0, and by that time.
type Place func(line int, t time.Time) int64

// Scan reads a log and makes its index. Without a place the log's first line stands at zero. What
// follows a line and is none itself (a divider) has that line's time.
func Scan(r io.Reader, place Place, year int) (*Index, error) {
	x := &scan{place: place, year: year, tags: map[string]uint16{}}
	buf := make([]byte, scanBlock)
	kept, cut := 0, false // bytes of a line that goes on; whether its beginning was taken already
	for {
		n, err := io.ReadFull(r, buf[kept:])
		n += kept
		over := errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF)
		if err != nil && !over {
			return nil, err
		}
		whole := bytes.LastIndexByte(buf[:n], '\n') + 1
		if over || whole == 0 { // the last line, or one that is longer than the block
			whole = n
		}
		// One string for the whole block: one for each line would cost more than all the rest.
		for block := string(buf[:whole]); block != ""; {
			end := strings.IndexByte(block, '\n') + 1
			ends := end > 0
			if !ends {
				end = len(block)
			}
			if x.Size+int64(end) > maxIndexed {
				return &x.Index, nil
			}
			if !cut {
				x.line(block[:min(end, maxParsed)])
			}
			x.Size += int64(end)
			block, cut = block[end:], !ends
		}
		if over {
			return &x.Index, nil
		}
		kept = copy(buf, buf[whole:n])
	}
}

const (
	scanBlock = 1 << 20
	maxParsed = 64 << 10 // bytes of a line that are looked at
)

// scan is an index that is being made.
type scan struct {
	Index
	place  Place
	parsed int
	year   int
	at     int32
	bare   bool // the line before was empty
	tags   map[string]uint16
	finder Finder
}

// line adds a line that begins at the index's size.
func (x *scan) line(text string) {
	n := len(x.entries)
	if bare := strings.TrimRight(text, "\r\n") == ""; n >= maxLines || (bare && x.bare) {
		return // empty lines one after the other are one
	} else if x.bare = bare; bare {
		x.entries = append(x.entries, entry{off: uint32(x.Size), level: -1, at: x.at})
		return
	}
	e := entry{off: uint32(x.Size), level: -1}
	if l, ok := Parse(text, x.year); ok {
		if x.place == nil {
			first := l.At
			x.place = func(_ int, t time.Time) int64 { return t.Sub(first).Milliseconds() }
		}
		x.at = int32(min(max(x.place(x.parsed, l.At), -1<<31), 1<<31-1))
		x.parsed++
		e.level = int8(strings.IndexByte(Levels, l.Level))
		if l.Level == 'A' { // assert, as old systems call the gravest
			e.level = int8(len(Levels) - 1)
		}
		tag, known := x.tags[l.Tag]
		if !known && len(x.Tags) < maxTags {
			name := strings.Clone(l.Tag) // or it would keep its whole block
			tag = uint16(len(x.Tags) + 1)
			x.tags[name] = tag
			x.Tags = append(x.Tags, name)
		}
		e.tag = tag
		if before := len(x.finder.Crashes()); ofCrashes(l.Tag) || strings.HasPrefix(l.Text, appleDeath) {
			l.Tag, l.Text = strings.Clone(l.Tag), strings.Clone(l.Text)
			x.finder.Feed(l)
			told := x.finder.Crashes()
			if signal := l.signal(); signal || len(told) > before && !told[len(told)-1].Native { // whose it is by a signal comes later than the line to go to
				x.Crashes = append(x.Crashes, len(x.entries))
			}
		}
	}
	e.at = x.at
	x.entries = append(x.entries, e)
}

// Lines is how many there are.
func (x *Index) Lines() int { return len(x.entries) }

// Bytes is about what the index takes in memory.
func (x *Index) Bytes() int64 { return int64(len(x.entries))*12 + int64(len(x.Tags))*40 }

// Span is where a line begins and ends, in bytes.
func (x *Index) Span(line int) (from, to int64) {
	to = x.Size
	if line+1 < len(x.entries) {
		to = int64(x.entries[line+1].off)
	}
	return int64(x.entries[line].off), to
}

// At is a line's moment on the attempt's clock, in ms.
func (x *Index) At(line int) int64 { return int64(x.entries[line].at) }

// Choice says which lines are wanted.
type Choice struct {
	Level byte   // this or a graver one; 0: all, also what is no line of the log's own
	Tag   string // exactly; "": any
	Text  string // in the line, in capitals or small letters; "": any
}

// Any reports whether it chooses all lines.
func (c Choice) Any() bool { return c == Choice{} }

// Choose gives the lines that c chooses, in order. The log is read again only
// for a text.
func (x *Index) Choose(c Choice, log io.Reader) ([]uint32, error) {
	least := int8(-1)
	if c.Level != 0 {
		least = int8(strings.IndexByte(Levels, c.Level))
	}
	tag := uint16(0)
	if c.Tag != "" {
		if tag = uint16(slices.Index(x.Tags, c.Tag) + 1); tag == 0 {
			return nil, nil
		}
	}
	var br *bufio.Reader
	want := bytes.ToLower([]byte(c.Text))
	var line []byte
	if len(want) > 0 {
		br = bufio.NewReaderSize(log, 1<<20)
	}
	var out []uint32
	for i, e := range x.entries {
		fits := e.level >= least && (tag == 0 || e.tag == tag)
		if br != nil {
			from, to := x.Span(i)
			if !fits {
				if _, err := br.Discard(int(to - from)); err != nil {
					return nil, err
				}
				continue
			}
			n := min(to-from, maxParsed)
			line = slices.Grow(line[:0], int(n))[:n]
			if _, err := io.ReadFull(br, line); err != nil {
				return nil, err
			}
			if _, err := br.Discard(int(to - from - n)); err != nil {
				return nil, err
			}
			fits = containsFold(line, want)
		}
		if fits {
			out = append(out, uint32(i))
		}
	}
	return out, nil
}

// containsFold looks for want, in small letters, in line. ASCII is compared
// without regard to capitals in place; anything else by Unicode's small letters.
func containsFold(line, want []byte) bool {
	for _, c := range line {
		if c >= 0x80 {
			return bytes.Contains(bytes.ToLower(line), want)
		}
	}
	for i, c := range line {
		if c >= 'A' && c <= 'Z' {
			line[i] = c + 'a' - 'A'
		}
	}
	return bytes.Contains(line, want)
}

// Near gives the place in rows (lines in order; nil: all lines) of the last one at
// or before a moment; -1 when all are later. Times of a log need not rise everywhere: the
// search takes them to.
func (x *Index) Near(at int64, rows []uint32) int {
	n, line := len(x.entries), func(i int) int { return i }
	if rows != nil {
		n, line = len(rows), func(i int) int { return int(rows[i]) }
	}
	lo, hi := 0, n
	for lo < hi {
		mid := (lo + hi) / 2
		if int64(x.entries[line(mid)].at) <= at {
			lo = mid + 1
		} else {
			hi = mid
		}
	}
	return lo - 1
}

// Density counts lines, and those of level W and graver, in equal slices from
// zero to the last line.
func (x *Index) Density(slices int) (sliceMS int64, lines, warnings []int) {
	lines, warnings = make([]int, slices), make([]int, slices)
	last := int64(1)
	for _, e := range x.entries {
		last = max(last, int64(e.at))
	}
	sliceMS = last/int64(slices) + 1
	for _, e := range x.entries {
		i := max(int64(e.at)/sliceMS, 0)
		lines[i]++
		if e.level >= 3 {
			warnings[i]++
		}
	}
	return sliceMS, lines, warnings
}

// TagCount is a tag and how many lines have it.
type TagCount struct {
	Name  string
	Lines int
}

// Common gives the n most used tags.
func (x *Index) Common(n int) []TagCount {
	out := make([]TagCount, len(x.Tags))
	for i, t := range x.Tags {
		out[i].Name = t
	}
	for _, e := range x.entries {
		if e.tag > 0 {
			out[e.tag-1].Lines++
		}
	}
	slices.SortFunc(out, func(a, b TagCount) int {
		if a.Lines != b.Lines {
			return b.Lines - a.Lines
		}
		return strings.Compare(a.Name, b.Name)
	})
	return out[:min(n, len(out))]
}
