// Package foreign makes texts from outside safe to store and to show.
//
// Apps, scripts, programs, runners and hosts write texts of any length and with any bytes. Fit and Name turn them into what the database
// takes, and say what was cut. Shown turns them into what a terminal shows but does not obey. In: a text. Out: a harmless one.
package foreign

import (
	"fmt"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Fit gives a text as UTF-8 without NUL, of at most so many bytes. Where it was cut it ends with a mark, within that bound, that says how long it was: also where
// it was cut before, to more.
func Fit(s string, most int) string {
	if !utf8.ValidString(s) || strings.IndexByte(s, 0) >= 0 {
		s = strings.ReplaceAll(strings.ToValidUTF8(s, "\uFFFD"), "\x00", "\uFFFD")
	}
	if len(s) <= most {
		return s
	}
	had := len(s)
	if at := strings.LastIndex(s, cutMark); at >= 0 {
		if digits, ok := strings.CutSuffix(s[at+len(cutMark):], cutEnd); ok {
			if n, err := strconv.Atoi(digits); err == nil && n > 0 {
				had = n
			}
		}
	}
	mark := cutMark + strconv.Itoa(had) + cutEnd
	if len(mark) > most {
		return whole(s, most)
	}
	return whole(s, most-len(mark)) + mark
}

const (
	cutMark = "… (cut: it had "
	cutEnd  = " bytes)"
)

// Name gives a name as one line of UTF-8, of at most so many bytes, an ellipsis among them where it was cut.
func Name(s string, most int) string {
	s = strings.Map(func(r rune) rune {
		if unicode.IsControl(r) {
			return ' '
		}
		return r
	}, strings.ToValidUTF8(s, "\uFFFD"))
	if len(s) <= most {
		return s
	}
	return whole(s, most-len("…")) + "…"
}

// whole gives the first bytes of a text that end with a whole character.
func whole(s string, most int) string {
	for most > 0 && !utf8.RuneStart(s[most]) {
		most--
	}
	return s[:most]
}

// Shown gives a text as a terminal may have it: what would move its cursor, change its colours or turn its lines round is written out. Line ends and tabs stay.
func Shown(s string) string {
	if !strings.ContainsFunc(s, commands) && utf8.ValidString(s) {
		return s
	}
	var b strings.Builder
	for i, r := range s {
		switch {
		case r == utf8.RuneError && !strings.HasPrefix(s[i:], "\uFFFD"):
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case !commands(r):
			b.WriteRune(r)
		case r < 0x80:
			fmt.Fprintf(&b, `\x%02x`, r)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
	}
	return b.String()
}

// commands says whether a terminal obeys a character, or lays out its line otherwise for it (Unicode Standard Annex 9, section 2: directional formatting characters).
func commands(r rune) bool {
	switch {
	case r == '\n' || r == '\t':
		return false
	case unicode.IsControl(r), r == '\u200e', r == '\u200f', r == '\u061c', r >= '\u202a' && r <= '\u202e', r >= '\u2066' && r <= '\u2069', r == '\u2028', r == '\u2029':
		return true
	}
	return false
}
