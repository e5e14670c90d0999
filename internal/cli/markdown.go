package cli

// A run as Markdown (CommonMark 0.31 with tables as most readers know them), for the summary of a pipeline.

import (
	"fmt"
	"io"
	"strings"

	"tessellant/api"
)

const markdownLegs = 100 // rows of the table

func markdownOf(out io.Writer, r *api.Run, x *api.Answer) {
	fmt.Fprintf(out, "### %s\n\n", escaped(r.Sentence))
	builds := code(r.Build)
	for _, b := range Deref(r.OtherBuilds) {
		builds += ", " + code(b)
	}
	fmt.Fprintf(out, "Run %s: %s with %s.\n", escaped(calledText(r)), builds, code(r.Package))
	for _, f := range x.Families {
		fmt.Fprintf(out, "\n**%s**: %s\n\n", escaped(f.Head), escaped(f.Title))
		for _, s := range append(f.Says, f.Where) {
			fmt.Fprintf(out, "- %s\n", escaped(s))
		}
	}
	for _, g := range x.Gone {
		fmt.Fprintf(out, "\n%s\n", escaped(g.Says))
	}
	fmt.Fprint(out, "\n| device | system | verdict | cases | took |\n|---|---|---|---|---|\n")
	for i, l := range r.Legs {
		if i == markdownLegs {
			fmt.Fprintf(out, "\n%d more.\n", len(r.Legs)-i)
			break
		}
		fmt.Fprintf(out, "| %s | %s | %s | %s | %s |\n", escaped(legText(l)), escaped(l.System), escaped(verdictText(l)), escaped(caseText(l)), escaped(legTook(l)))
	}
}

// marks are the characters that mean something in Markdown.
var marks = strings.NewReplacer(`\`, `\\`, "`", "\\`", "*", `\*`, "_", `\_`, "[", `\[`, "]", `\]`, "<", "&lt;", ">", "&gt;", "#", `\#`, "|", `\|`, "~", `\~`, "&", "&amp;", "!", `\!`)

// escaped is a text in one line that means nothing in Markdown.
func escaped(s string) string { return marks.Replace(strings.Join(strings.Fields(s), " ")) }

// code is a reference as code.
func code(s string) string { return "`" + strings.ReplaceAll(s, "`", "'") + "`" }
