package junit

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"html"
	"io"
	"strings"
)

// scanner takes XML apart: tags with the attributes that are looked at, and text. It forgives what runners get
// wrong (a bare ampersand, control characters, names in any letters) and keeps no more of a text than is asked for,
// so that a report of any size is read in little memory; encoding/xml does neither, and takes three times as long.
type scanner struct {
	r     *bufio.Reader
	lines int

	kind  token
	name  string // of a tag, in small letters
	attrs attributes
	text  []byte // as it stands; raw says that references in it mean nothing
	raw   bool
	keep  int // bytes of a text that are kept
}

type token int

const (
	textToken token = iota
	startToken
	endToken
	emptyToken // a tag that is its own end
)

const maxTag = 1 << 20 // bytes of a tag

func newScanner(r io.Reader) *scanner { return &scanner{r: bufio.NewReaderSize(r, 64<<10)} }

// next reads a token.
func (s *scanner) next() error {
	c, err := s.r.ReadByte()
	if err != nil {
		return err
	}
	if c != '<' {
		s.kind, s.raw, s.text = textToken, false, s.text[:0]
		_ = s.r.UnreadByte()
		if err := s.until('<'); err != nil && !errors.Is(err, io.EOF) {
			return err
		} else if err == nil {
			_ = s.r.UnreadByte()
		}
		return nil
	}
	head, _ := s.r.Peek(8)
	switch {
	case bytes.HasPrefix(head, []byte("![CDATA[")):
		_, _ = s.r.Discard(8)
		s.kind, s.raw, s.text = textToken, true, s.text[:0]
		return s.through("]]>")
	case bytes.HasPrefix(head, []byte("!--")):
		_, _ = s.r.Discard(3)
		s.kind, s.raw, s.text = textToken, true, s.text[:0]
		keep := s.keep
		s.keep = 0
		err := s.through("-->")
		s.keep, s.text = keep, s.text[:0]
		return err
	case len(head) > 0 && (head[0] == '?' || head[0] == '!'):
		s.kind, s.text = textToken, s.text[:0]
		_, err := s.tag()
		return err
	}
	tag, err := s.tag()
	if err == nil {
		s.read(tag)
	}
	return err
}

// add keeps what there is room for.
func (s *scanner) add(b []byte) {
	s.lines += bytes.Count(b, []byte("\n"))
	if room := s.keep - len(s.text); room > 0 {
		s.text = append(s.text, b[:min(len(b), room)]...)
	}
}

// until reads text up to and with a byte.
func (s *scanner) until(mark byte) error {
	for {
		part, err := s.r.ReadSlice(mark)
		if err == nil {
			s.add(part[:len(part)-1])
			return nil
		}
		s.add(part)
		if !errors.Is(err, bufio.ErrBufferFull) {
			return err
		}
	}
}

// through reads text up to and with an ending of three bytes, the first two of which are the same.
func (s *scanner) through(end string) error {
	before := 0 // how many of the first stood before
	for {
		part, err := s.r.ReadSlice(end[2])
		n := len(part)
		marks := 0
		for marks < n-1 && part[n-2-marks] == end[0] {
			marks++
		}
		if marks == n-1 {
			marks += before // all of it
		}
		switch {
		case err == nil && marks >= 2:
			s.add(part[:n-1])
			s.text = bytes.TrimSuffix(s.text, []byte(end[:2]))
			return nil
		case err == nil:
			s.add(part)
			before = 0
		case errors.Is(err, bufio.ErrBufferFull):
			s.add(part)
			before = 0
			for before < n && part[n-1-before] == end[0] {
				before++
			}
		default:
			return ended(err)
		}
	}
}

// tag reads a tag to its end; a ">" in quotes does not end it.
func (s *scanner) tag() ([]byte, error) {
	var whole []byte
	var quote byte // that is open
	for {
		part, err := s.r.ReadSlice('>')
		s.lines += bytes.Count(part, []byte("\n"))
		quote = openQuote(part, quote)
		if err == nil && whole == nil && quote == 0 {
			return part[:len(part)-1], nil // as nearly all are: no copy
		}
		whole = append(whole, part...)
		switch {
		case len(whole) > maxTag:
			return nil, fmt.Errorf("a tag is longer than %d bytes", maxTag)
		case err == nil && quote == 0:
			return whole[:len(whole)-1], nil
		case err != nil && !errors.Is(err, bufio.ErrBufferFull):
			return nil, ended(err)
		}
	}
}

func ended(err error) error {
	if errors.Is(err, io.EOF) {
		return io.ErrUnexpectedEOF
	}
	return err
}

// openQuote says which quote is open behind b, where one was open before it; 0: none.
func openQuote(b []byte, quote byte) byte {
	for {
		i := 0
		if quote == 0 {
			if i = bytes.IndexAny(b, `"'`); i < 0 {
				return 0
			}
			quote = b[i]
			b = b[i+1:]
		}
		if i = bytes.IndexByte(b, quote); i < 0 {
			return quote
		}
		quote, b = 0, b[i+1:]
	}
}

const blanks = " \t\r\n"

// read takes a tag apart.
func (s *scanner) read(tag []byte) {
	s.kind, s.attrs = startToken, attributes{}
	if bytes.HasPrefix(tag, []byte("/")) {
		s.kind, tag = endToken, tag[1:]
	} else if bytes.HasSuffix(tag, []byte("/")) {
		s.kind, tag = emptyToken, tag[:len(tag)-1]
	}
	i := bytes.IndexAny(tag, blanks)
	if i < 0 {
		i = len(tag)
	}
	if string(tag[:i]) != s.name {
		s.name = strings.ToLower(string(tag[:i]))
	}
	for tag = bytes.TrimLeft(tag[i:], blanks); s.kind != endToken && len(tag) > 0; tag = bytes.TrimLeft(tag, blanks) {
		eq := bytes.IndexByte(tag, '=')
		if eq < 0 {
			return
		}
		name := bytes.TrimRight(tag[:eq], blanks)
		tag = bytes.TrimLeft(tag[eq+1:], blanks)
		if len(tag) == 0 || (tag[0] != '"' && tag[0] != '\'') {
			continue
		}
		end := bytes.IndexByte(tag[1:], tag[0])
		if end < 0 {
			return
		}
		if to := s.attrs.of(bytes.ToLower(name)); to != nil {
			*to = plain(tag[1:min(1+end, 1+maxText)], false)
		}
		tag = tag[end+2:]
	}
}

// plain is a text as people read it: references followed, and without characters that XML does not allow.
func plain(b []byte, raw bool) string {
	s := string(b)
	if !raw && strings.Contains(s, "&") {
		s = html.UnescapeString(s)
	}
	return clean(s)
}

// isChar says whether XML 1.0 allows a character (section 2.2, Char).
func isChar(r rune) bool {
	return r == '\t' || r == '\n' || r == '\r' || (r >= 0x20 && r <= 0xD7FF) || (r >= 0xE000 && r <= 0xFFFD) || (r >= 0x10000 && r <= 0x10FFFF)
}
