// Package snippet writes the beginning of a test that drives a device from outside: a program that
// works when pasted, with nothing but what its language brings along.
//
// In: a language, the service's address and what the session should ask for. Out: the program. The key is not in it: it
// is read from the environment.
package snippet

import (
	"bytes"
	"embed"
	"encoding/json"
	"fmt"
	"strings"
	"text/template"
)

// Language is one in which snippets are written.
type Language struct {
	Name, Title string
	File        string // what the program may be called
	Run         string // how it is run, once it is in that file
}

// Languages are all of them.
var Languages = []Language{
	{"shell", "Shell, with curl", "session.sh", "sh session.sh"},
	{"python", "Python 3", "session.py", "python3 session.py"},
	{"node", "Node.js 18 and later", "session.mjs", "node session.mjs"},
	{"go", "Go", "session.go", "go run session.go"},
	{"java", "Java 11 and later", "Session.java", "java Session.java"},
}

// Choice is what the session asks for.
type Choice struct {
	URL   string // of the service
	Build string
	Where []string
	Group string
	Name  string
}

//go:embed templates
var templates embed.FS

// Write gives the program in a language.
func Write(language string, c Choice) (Language, string, error) {
	for _, l := range Languages {
		if l.Name != language {
			continue
		}
		raw, err := templates.ReadFile("templates/" + l.File + ".txt")
		if err != nil {
			return l, "", err
		}
		t, err := template.New(l.Name).Delims("<<", ">>").Parse(string(raw))
		if err != nil {
			return l, "", err
		}
		var out bytes.Buffer
		err = t.Execute(&out, map[string]string{"URL": strings.TrimRight(c.URL, "/") + "/webdriver", "Capabilities": c.capabilities(), "JavaCapabilities": javaText(c.capabilities()), "ShellCapabilities": strings.ReplaceAll(c.capabilities(), "'", `'\''`)})
		return l, out.String(), err
	}
	var names []string
	for _, l := range Languages {
		names = append(names, l.Name)
	}
	return Language{}, "", fmt.Errorf("there is no snippet in %q; there are %s", language, strings.Join(names, ", "))
}

// capabilities is the body of the request for a session, as JSON, which is also a value of Python, JavaScript and Go.
func (c Choice) capabilities() string {
	type set struct {
		Platform string   `json:"platformName"`
		Build    string   `json:"tessellant:build,omitempty"`
		Where    []string `json:"tessellant:where,omitempty"`
		Group    string   `json:"tessellant:group,omitempty"`
		Name     string   `json:"tessellant:name,omitempty"`
	}
	var out bytes.Buffer
	enc := json.NewEncoder(&out)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	_ = enc.Encode(map[string]any{"capabilities": map[string]any{"alwaysMatch": set{"android", c.Build, c.Where, c.Group, c.Name}}})
	return strings.TrimSpace(strings.ReplaceAll(out.String(), "`", `\u0060`)) // it would end Go's raw text
}

// javaText is a text as a Java expression: a line of it on each line.
func javaText(s string) string {
	var lines []string
	for _, l := range strings.Split(s, "\n") {
		raw, _ := json.Marshal(l)
		text := strings.NewReplacer(`\u003c`, "<", `\u003e`, ">", `\u0026`, "&").Replace(string(raw))
		lines = append(lines, text)
	}
	return strings.Join(lines, "\n            + ")
}
