package cli

import (
	"fmt"
	"io"
	"strings"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/jedib0t/go-pretty/v6/text"

	"tessellant/internal/core/foreign"
)

// NewTable gives an empty table in our look: no lines, headings in small letters.
func NewTable(out io.Writer, headings ...any) table.Writer {
	t := table.NewWriter()
	t.SetOutputMirror(out)
	s := table.StyleDefault
	s.Box.PaddingLeft, s.Box.PaddingRight = "", "   "
	s.Options = table.Options{}
	s.Format.Header = text.FormatDefault
	if _, ok := terminal(out); ok {
		s.Color.Header = text.Colors{text.Faint}
	}
	t.SetStyle(s)
	t.SuppressTrailingSpaces()
	if len(headings) > 0 {
		t.AppendHeader(headings)
	}
	return t
}

// indented writes a text so many columns in, broken at the terminal's width
// between words.
func indented(out io.Writer, columns int, s string) {
	pad := strings.Repeat(" ", columns)
	if width, ok := terminal(out); ok && width > columns+20 {
		s = text.WrapSoft(s, width-columns-1)
	}
	fmt.Fprintln(out, pad+strings.ReplaceAll(s, "\n", "\n"+pad))
}

// labelled does the same with a label before the first line.
func labelled(out io.Writer, indent int, label, s string) {
	const column = 10
	width, ok := terminal(out)
	if ok && width > indent+column+20 {
		s = text.WrapSoft(s, width-indent-column-1)
	}
	pad := strings.Repeat(" ", indent)
	fmt.Fprintf(out, "%s%-*s%s\n", pad, column, label, strings.ReplaceAll(s, "\n", "\n"+pad+strings.Repeat(" ", column)))
}

// facts writes names and values under each other.
func facts(out io.Writer, pairs ...string) {
	t := NewTable(out)
	if width, ok := terminal(out); ok && width > 60 {
		t.SetColumnConfigs([]table.ColumnConfig{{Number: 2, WidthMax: width - 16, WidthMaxEnforcer: text.WrapSoft}})
	}
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			t.AppendRow(table.Row{pairs[i], foreign.Shown(pairs[i+1])})
		}
	}
	t.Render()
}
