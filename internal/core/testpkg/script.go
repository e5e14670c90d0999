package testpkg

// Reading one Starlark file: its cases, and what can be known to be wrong
// before it runs.

import (
	"errors"
	"path"
	"strings"

	"go.starlark.net/resolve"
	"go.starlark.net/starlark"
	"go.starlark.net/syntax"

	"tessellant/internal/core/uitree"
)

// Dialect is the Starlark that scripts are written in: with while loops and sets, at the top
// level definitions and loops; no recursion.
var Dialect = &syntax.FileOptions{While: true, Set: true, TopLevelControl: true}

const maxNesting = 200

func (p *Package) readScript(name string, src []byte) {
	if line := nestedTooDeep(src); line > 0 {
		p.blocks(name, line, "break the expression up", "brackets or signs are nested more than %d deep", maxNesting)
		return
	}
	file, err := Dialect.Parse(name, src, 0)
	if err != nil {
		var se syntax.Error
		if errors.As(err, &se) {
			p.blocks(name, int(se.Pos.Line), "mend the line", "%s", se.Msg)
		} else {
			p.blocks(name, 0, "mend the file", "%v", err)
		}
		return
	}
	// The cases are found before names are resolved, so that they are listed even when a name is wrong.
	for _, stmt := range file.Stmts {
		switch s := stmt.(type) {
		case *syntax.DefStmt:
			p.readFunction(name, s)
		case *syntax.LoadStmt:
			p.blocks(name, int(s.Load.Line), "put what is shared into the same file", "load: files of a package can't load one another")
		}
	}
	if err := resolve.File(file, func(n string) bool { return Globals[n] != "" }, starlark.Universe.Has); err != nil {
		var list resolve.ErrorList
		if errors.As(err, &list) {
			for _, e := range list {
				p.blocks(name, int(e.Pos.Line), "define it, or correct its spelling", "%s", e.Msg)
			}
		}
	}
}

func (p *Package) readFunction(file string, def *syntax.DefStmt) {
	line := int(def.Name.NamePos.Line)
	isCase := strings.HasPrefix(def.Name.Name, "test_")
	phone := ""
	for _, param := range def.Params {
		if id, ok := param.(*syntax.Ident); ok && (id.Name == "phone" || isCase) {
			phone = id.Name
			break
		}
	}
	if isCase {
		if len(def.Params) != 1 || phone == "" {
			p.blocks(file, line, "write def "+def.Name.Name+"(phone):", "%s must take exactly one parameter, the phone", def.Name.Name)
		}
		name := strings.TrimSuffix(file, path.Ext(file)) + "." + def.Name.Name
		for _, c := range p.Cases {
			if c.Name == name {
				p.blocks(file, line, "give one of them another name", "%s is defined twice, first in line %d", def.Name.Name, c.Line)
			}
		}
		p.Cases = append(p.Cases, Case{Name: name, File: file, Line: line, Func: def.Name.Name, About: docstring(def)})
	}
	if phone == "" {
		return
	}
	syntax.Walk(def, func(n syntax.Node) bool {
		switch x := n.(type) {
		case *syntax.DotExpr:
			if id, ok := x.X.(*syntax.Ident); ok && id.Name == phone && PhoneWords[x.Name.Name] == "" {
				p.blocks(file, int(x.Name.NamePos.Line), "the words are "+strings.Join(words(PhoneWords), ", "), "a phone has no %s", x.Name.Name)
			}
			if id, ok := x.X.(*syntax.Ident); ok && id.Name == "check" && CheckWords[x.Name.Name] == "" {
				p.blocks(file, int(x.Name.NamePos.Line), "the words are "+strings.Join(words(CheckWords), ", "), "check has no %s", x.Name.Name)
			}
		case *syntax.CallExpr:
			p.checkLocator(file, phone, x)
		}
		return true
	})
}

// checkLocator looks at a locator that is written out in the call.
func (p *Package) checkLocator(file, phone string, call *syntax.CallExpr) {
	dot, ok := call.Fn.(*syntax.DotExpr)
	if !ok || len(call.Args) == 0 || !TakesLocator[dot.Name.Name] {
		return
	}
	id, ok := dot.X.(*syntax.Ident)
	lit, ok2 := call.Args[0].(*syntax.Literal)
	if !ok || !ok2 || id.Name != phone || lit.Token != syntax.STRING {
		return
	}
	if err := uitree.CheckLocator(lit.Value.(string)); err != nil {
		p.blocks(file, int(lit.TokenPos.Line), "write CSS such as #send or button[text=\"Send\"], or XPath", "%v", err)
	}
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
// nested deeper than any person writes: the parser recurses once a level.
func nestedTooDeep(src []byte) int {
	depth, run, line := 0, 0, 1
	for _, c := range src {
		switch c {
		case '\n':
			line++
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
