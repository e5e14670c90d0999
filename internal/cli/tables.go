package cli

import (
	"io"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"
)

// newTable gives an empty table in our look: no lines, headings in small letters.
func newTable(out io.Writer, headings ...any) table.Writer {
	t := table.NewWriter()
	t.SetOutputMirror(out)
	s := table.StyleDefault
	s.Box.PaddingLeft, s.Box.PaddingRight = "", "   "
	s.Options = table.Options{}
	s.Format.Header = text.FormatDefault
	t.SetStyle(s)
	t.SuppressTrailingSpaces()
	if len(headings) > 0 {
		t.AppendHeader(headings)
	}
	return t
}

// facts writes names and values under each other.
func facts(out io.Writer, pairs ...string) {
	t := newTable(out)
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			t.AppendRow(table.Row{pairs[i], pairs[i+1]})
		}
	}
	t.Render()
}
