package testpkg

// Reading one Starlark file: its cases, and what can be known to be wrong
// before it runs.

import (
	"bytes"
	"cmp"
	"errors"
	"fmt"
	"path"
	"strings"

	"go.starlark.net/resolve"
	"go.starlark.net/starlark"
	"go.starlark.net/syntax"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/uitree"
)

// Dialect is the Starlark that scripts are written in: with while loops and sets, at the top
// level definitions and loops; no recursion.
var Dialect = &syntax.FileOptions{While: true, Set: true, TopLevelControl: true}

const maxNesting = 200

// script is what is known of one file.
type script struct {
	name    string
	defines map[string]bool    // at its top level
	loads   []*syntax.LoadStmt // of other files
	hooks   map[string]bool
	keep    bool // the app keeps its data between the file's cases
	defs    map[string]*syntax.DefStmt
	cases   map[string]*declared // by function
	order   []string             // functions that are cases
}

// declared is what case(…) says of a function.
type declared struct {
	line  int
	tags  []string
	needs []string
	rows  []map[string]any
}

func (p *Package) readScript(name string, src []byte) {
	if line := nestedTooDeep(src); line > 0 {
		p.blocks(name, line, "break the expression up", "brackets or signs are nested more than %d deep", maxNesting)
		return
	}
	file, err := Dialect.Parse(name, src, 0)
	if err != nil {
		var se syntax.Error
		if errors.As(err, &se) {
			p.blocks(name, int(se.Pos.Line), "fix the line", "%s", se.Msg)
		} else {
			p.blocks(name, 0, "fix the file", "%v", err)
		}
		return
	}
	s := &script{name: name, defines: map[string]bool{}, hooks: map[string]bool{}, defs: map[string]*syntax.DefStmt{}, cases: map[string]*declared{}}
	p.scripts[name] = s
	// The cases are found before names are resolved, so that they are listed even when a name is wrong.
	for _, stmt := range file.Stmts {
		switch x := stmt.(type) {
		case *syntax.DefStmt:
			p.readFunction(s, x)
		case *syntax.LoadStmt:
			s.loads = append(s.loads, x)
		case *syntax.ExprStmt:
			p.readDeclaration(s, x.X)
		case *syntax.WhileStmt, *syntax.ForStmt:
			from, _ := stmt.Span()
			p.Findings = append(p.Findings, Finding{"notes", name, int(from.Line), "a loop at the top level is only run when a case is: whether it comes to an end is not known before", "put it into a function, where it belongs to one case"})
		}
	}
	if err := resolve.File(file, func(n string) bool { _, ok := byName[""][n]; return ok }, starlark.Universe.Has); err != nil {
		var list resolve.ErrorList
		if errors.As(err, &list) {
			for _, e := range list {
				p.blocks(name, int(e.Pos.Line), "define it, or correct its spelling", "%s", e.Msg)
			}
		}
	}
	if m, ok := file.Module.(*resolve.Module); ok {
		for _, g := range m.Globals {
			s.defines[g.First.Name] = true
		}
	}
	for _, fn := range s.order {
		p.addCases(s, fn)
	}
	for fn, d := range s.cases {
		if s.defs[fn] == nil {
			p.blocks(name, d.line, "name a function of this file that starts with test_", "case: %s is no test function of this file", fn)
		}
	}
}

// addCases lists the case, or cases, of a function.
func (p *Package) addCases(s *script, fn string) {
	def, d := s.defs[fn], s.cases[fn]
	line := int(def.Name.NamePos.Line)
	c := Case{Name: strings.TrimSuffix(s.name, path.Ext(s.name)) + "." + fn, File: s.name, Line: line, Func: fn, About: docstring(def)}
	if d != nil {
		c.Tags, c.Needs = d.tags, d.needs
	}
	params := 1
	if d != nil && d.rows != nil {
		params = 2
	}
	if len(def.Params) != params {
		if params == 2 {
			p.blocks(s.name, line, "write def "+fn+"(phone, row):", "%s has rows, so it must take two parameters, the phone and the row", fn)
		} else {
			p.blocks(s.name, line, "write def "+fn+"(phone):, or give it rows with case("+fn+", rows = …)", "%s must take exactly one parameter, the phone", fn)
		}
	}
	if params == 1 {
		p.Cases = append(p.Cases, c)
		return
	}
	seen := map[string]bool{}
	for i, r := range d.rows {
		one, title := c, fmt.Sprint(i+1)
		if n, ok := r["name"].(string); ok && n != "" {
			title = n
		}
		if seen[title] {
			p.blocks(s.name, d.line, "give each row a name of its own, or none", "two rows of %s are called %q", fn, title)
		}
		seen[title] = true
		one.Name, one.Row = c.Name+"/"+title, r
		p.Cases = append(p.Cases, one)
	}
}

func (p *Package) readFunction(s *script, def *syntax.DefStmt) {
	line, name := int(def.Name.NamePos.Line), def.Name.Name
	isCase, hook := strings.HasPrefix(name, "test_"), Hooks[name] != ""
	phone := ""
	for _, param := range def.Params {
		if id, ok := param.(*syntax.Ident); ok && (id.Name == "phone" || isCase || hook) {
			phone = id.Name
			break
		}
	}
	if isCase {
		if first := s.defs[name]; first != nil {
			p.blocks(s.name, line, "give one of them another name", "%s is defined twice, first in line %d", name, first.Name.NamePos.Line)
		} else {
			s.defs[name] = def
			s.order = append(s.order, name)
		}
	}
	if hook {
		s.hooks[name] = true
		if len(def.Params) != 1 {
			p.blocks(s.name, line, "write def "+name+"(phone):", "%s must take exactly one parameter, the phone", name)
		}
	}
	syntax.Walk(def, func(n syntax.Node) bool {
		switch x := n.(type) {
		case *syntax.DotExpr:
			if id, ok := x.X.(*syntax.Ident); ok {
				p.checkWord(s.name, phone, id.Name, x.Name)
			}
		case *syntax.CallExpr:
			p.checkCall(s.name, phone, x)
		}
		return true
	})
}

// checkWord looks whether there is such a word of the phone, of check or of data.
func (p *Package) checkWord(file, phone, of string, word *syntax.Ident) {
	switch {
	case of == phone && phone != "":
		if _, ok := byName["phone"][word.Name]; !ok {
			p.blocks(file, int(word.NamePos.Line), "the words are "+wordsOf("phone"), "a phone has no %s", word.Name)
		}
	case of == "check" || of == "data":
		if _, ok := byName[of][word.Name]; !ok {
			p.blocks(file, int(word.NamePos.Line), "the words are "+wordsOf(of), "%s has no %s", of, word.Name)
		}
	}
}

// checkCall looks at what is written out in a call: locators, and names of data files.
func (p *Package) checkCall(file, phone string, call *syntax.CallExpr) {
	if id, ok := call.Fn.(*syntax.Ident); ok && byName[""][id.Name].Top {
		p.blocks(file, int(id.NamePos.Line), "move it out of the function, below it", "%s(…) is inside a function", id.Name)
	}
	dot, ok := call.Fn.(*syntax.DotExpr)
	if !ok || len(call.Args) == 0 {
		return
	}
	id, ok := dot.X.(*syntax.Ident)
	lit, ok2 := call.Args[0].(*syntax.Literal)
	if !ok || !ok2 || lit.Token != syntax.STRING {
		return
	}
	text := lit.Value.(string)
	switch {
	case id.Name == "data" && byName["data"][dot.Name.Name].Name != "":
		if err := p.checkData(dot.Name.Name, text); err != nil {
			p.blocks(file, int(lit.TokenPos.Line), "name a file of the package, from its root", "%v", err)
		}
	case phone != "" && id.Name == phone && byName["phone"][dot.Name.Name].Locates:
		if err := uitree.CheckLocator(text); err != nil {
			p.blocks(file, int(lit.TokenPos.Line), "write CSS such as #send or button[text=\"Send\"], or XPath", "%v", err)
		}
	}
}

// readDeclaration takes case(…) and file(…) in, which are read and not run: what they say must
// be known before anything runs, so it must be written out.
func (p *Package) readDeclaration(s *script, e syntax.Expr) {
	call, ok := e.(*syntax.CallExpr)
	if !ok {
		return
	}
	id, ok := call.Fn.(*syntax.Ident)
	if !ok || !byName[""][id.Name].Top {
		return
	}
	line := int(id.NamePos.Line)
	wrong := func(remedy, what string, args ...any) { p.blocks(s.name, line, remedy, id.Name+": "+what, args...) }
	named := map[string]syntax.Expr{}
	var plain []syntax.Expr
	for _, a := range call.Args {
		if b, ok := a.(*syntax.BinaryExpr); ok && b.Op == syntax.EQ {
			named[b.X.(*syntax.Ident).Name] = b.Y
		} else {
			plain = append(plain, a)
		}
	}
	for n := range named {
		if !strings.Contains(byName[""][id.Name].Call, n+"=") {
			wrong("write "+byName[""][id.Name].Call, "there is no %s", n)
		}
	}
	if id.Name == "file" {
		v, err := written(named["clear_between"])
		if on, ok := v.(bool); err == nil && ok && len(plain) == 0 {
			s.keep = !on
		} else {
			wrong("write file(clear_between = False)", "it takes clear_between, True or False")
		}
		return
	}
	fn, ok := (*syntax.Ident)(nil), false
	if len(plain) == 1 {
		fn, ok = plain[0].(*syntax.Ident)
	}
	if !ok {
		wrong("write case(test_something, tags = [\"smoke\"])", "its first argument must be a test function of this file")
		return
	}
	d := &declared{line: line}
	s.cases[fn.Name] = d
	if e := named["tags"]; e != nil {
		v, err := written(e)
		list, ok := v.([]any)
		for _, x := range list {
			t, isText := x.(string)
			ok = ok && isText && isName(t)
			d.tags = append(d.tags, t)
		}
		if err != nil || !ok {
			wrong("write tags = [\"smoke\"]", "tags must be a list of names, written out: small letters, digits and dashes, a letter first")
		}
	}
	if e := named["needs"]; e != nil {
		v, err := written(e)
		list, ok := v.([]any)
		if err != nil || !ok {
			wrong("write needs = [\"form=tablet\"]", "needs must be a list of patterns over a device's traits, written out")
		}
		for _, x := range list {
			n, _ := x.(string)
			if p, err := devices.ParsePattern(n); err != nil || p.Trait == devices.OfPool {
				wrong("write needs = [\"form=tablet\"]", "needs: %v", cmp.Or(err, errors.New("a case can't need a pool")))
			}
			d.needs = append(d.needs, n)
		}
	}
	if e := named["rows"]; e != nil {
		v, err := written(e)
		if err != nil {
			wrong("write the rows out, or name a .csv or .json file", "rows: %v", err)
			return
		}
		switch v := v.(type) {
		case string:
			if d.rows, err = p.Rows(v); err != nil {
				wrong("name a .csv or .json file of the package, from its root", "%v", err)
			}
		case []any:
			d.rows, err = asRows(v)
			if err != nil {
				wrong("write rows = [{\"name\": \"…\", …}, …]", "rows: %v", err)
			}
		case nil:
			return
		default:
			wrong("write the rows out, or name a .csv or .json file", "rows is neither a list nor the name of a file")
		}
		if err == nil && len(d.rows) == 0 {
			wrong("add a row", "there are no rows")
		}
		if len(d.rows) > maxRows {
			wrong("split the table", "there are %d rows; %d is the most", len(d.rows), maxRows)
			d.rows = d.rows[:maxRows]
		}
		if d.rows == nil {
			d.rows = []map[string]any{}
		}
	}
}

// written is the value of an expression that is written out.
func written(e syntax.Expr) (any, error) {
	switch x := e.(type) {
	case *syntax.Literal:
		switch v := x.Value.(type) {
		case string, float64:
			return v, nil
		case int64:
			return float64(v), nil
		}
	case *syntax.Ident:
		switch x.Name {
		case "True":
			return true, nil
		case "False":
			return false, nil
		case "None":
			return nil, nil
		}
	case *syntax.ParenExpr:
		return written(x.X)
	case *syntax.UnaryExpr:
		if v, err := written(x.X); err == nil && x.Op == syntax.MINUS {
			if f, ok := v.(float64); ok {
				return -f, nil
			}
		}
	case *syntax.ListExpr:
		out := []any{}
		for _, i := range x.List {
			v, err := written(i)
			if err != nil {
				return nil, err
			}
			out = append(out, v)
		}
		return out, nil
	case *syntax.DictExpr:
		out := map[string]any{}
		for _, i := range x.List {
			entry := i.(*syntax.DictEntry)
			k, err := written(entry.Key)
			if err != nil {
				return nil, err
			}
			name, ok := k.(string)
			if !ok {
				return nil, errors.New("the keys of a row must be texts")
			}
			if out[name], err = written(entry.Value); err != nil {
				return nil, err
			}
		}
		return out, nil
	}
	return nil, errors.New("it must be written out, without names or calculations: it is read before anything runs")
}

// checkLoads looks whether what files load from one another is there, and goes in no circle.
func (p *Package) checkLoads() {
	for _, name := range p.scriptNames() {
		s := p.scripts[name]
		for _, l := range s.loads {
			module, line := l.ModuleName(), int(l.Load.Line)
			other := p.scripts[module]
			if other == nil {
				if _, there := p.Scripts[module]; !there { // a file with mistakes has said so itself
					p.blocks(name, line, "name a .star file of the package, from its root, such as lib/steps.star", "load: there is no file %s", module)
				}
				continue
			}
			for _, n := range l.From {
				if !other.defines[n.Name] {
					p.blocks(name, int(n.NamePos.Line), "define it there, or correct its spelling", "load: %s does not define %s", module, n.Name)
				}
			}
			if p.reaches(module, name, map[string]bool{}) {
				p.blocks(name, line, "put what both need into a third file", "load: %s and %s load one another", name, module)
			}
		}
	}
}

func (p *Package) reaches(from, to string, seen map[string]bool) bool {
	if from == to {
		return true
	}
	if seen[from] || p.scripts[from] == nil {
		return false
	}
	seen[from] = true
	for _, l := range p.scripts[from].loads {
		if p.reaches(l.ModuleName(), to, seen) {
			return true
		}
	}
	return false
}

func docstring(def *syntax.DefStmt) string {
	if len(def.Body) == 0 {
		return ""
	}
	e, ok := def.Body[0].(*syntax.ExprStmt)
	if !ok {
		return ""
	}
	lit, ok := e.X.(*syntax.Literal)
	if !ok || lit.Token != syntax.STRING {
		return ""
	}
	first, _, _ := strings.Cut(strings.TrimSpace(lit.Value.(string)), "\n")
	return first
}

// nestedTooDeep gives the line where brackets, or signs before a value, are
// nested deeper than any person writes: the parser recurses once a level. What stands in texts and comments does not count.
func nestedTooDeep(src []byte) int {
	depth, run, line := 0, 0, 1
	for i := 0; i < len(src); i++ {
		c := src[i]
		switch c {
		case '\n':
			line++
		case '#':
			for i+1 < len(src) && src[i+1] != '\n' {
				i++
			}
		case '"', '\'':
			end := textEnd(src, i)
			line += bytes.Count(src[i:end], []byte("\n"))
			i, run = end-1, 0
		case '(', '[', '{':
			depth++
			run = 0
		case ')', ']', '}':
			depth = max(depth-1, 0)
			run = 0
		case '-', '+', '~':
			run++
		case ' ', '\t', '\\', '\r':
		default:
			run = 0
		}
		if depth > maxNesting || run > maxNesting {
			return line
		}
	}
	return 0
}

// textEnd is where the text literal that begins at i ends: behind its closing quotes, or at the end of its line where it has none, as the parser sees it too. In raw
// texts a backslash keeps a quote from ending them as well (Starlark's specification, "Literals").
func textEnd(src []byte, i int) int {
	quote := src[i : i+1]
	if triple := bytes.Repeat(quote, 3); bytes.HasPrefix(src[i:], triple) {
		quote = triple
	}
	for j := i + len(quote); j < len(src); j++ {
		switch {
		case src[j] == '\\':
			j++
		case bytes.HasPrefix(src[j:], quote):
			return j + len(quote)
		case src[j] == '\n' && len(quote) == 1:
			return j
		}
	}
	return len(src)
}
