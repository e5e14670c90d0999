package testpkg

// Packages of the kind program: what they declare, and what a host must have for them.

import (
	"fmt"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"go.yaml.in/yaml/v3"

	"tessellant/internal/core/versions"
)

// Program is what a package of the kind program declares.
type Program struct {
	Run     []string      `json:"run"`               // the command and its arguments
	Prepare []string      `json:"prepare,omitempty"` // run before, without a device
	Needs   []Need        `json:"needs,omitempty"`   // what the host must have
	Results []string      `json:"results"`           // patterns of the JUnit XML files it writes, from the package's root
	Limits  ProgramLimits `json:"limits"`
}

// ProgramLimits bound a program. Its time is the leg's.
type ProgramLimits struct {
	Prepare   time.Duration `json:"prepare"`
	MemoryMB  int           `json:"memory_mb"` // of each process
	Processes int           `json:"processes"` // and threads, at once
	DiskMB    int           `json:"disk_mb"`   // that it may write
}

// Need is a runtime, with the lowest version that will do; "": any.
type Need struct {
	Name    string `json:"name"`
	AtLeast string `json:"at_least,omitempty"`
}

func (n Need) String() string {
	if n.AtLeast == "" {
		return n.Name
	}
	return n.Name + ">=" + n.AtLeast
}

// Runtimes are those that hosts look for, and how each says its version.
var Runtimes = []struct {
	Name    string
	Command []string
}{
	{"node", []string{"node", "--version"}}, {"python3", []string{"python3", "--version"}}, {"java", []string{"java", "-version"}}, {"ruby", []string{"ruby", "--version"}},
	{"perl", []string{"perl", "-e", "print $^V"}}, {"php", []string{"php", "--version"}}, {"dotnet", []string{"dotnet", "--version"}}, {"go", []string{"go", "version"}}, {"bash", []string{"bash", "--version"}},
	{"sh", []string{"sh", "-c", "echo 1"}},
}

var versionForm = regexp.MustCompile(`\d+(?:\.\d+)*`)

// Version finds the version in what a runtime says of itself; "": there is none.
func Version(said string) string { return versionForm.FindString(said) }

// Missing lists those of the needs that a host with these runtimes (name → version) does not meet.
func Missing(needs []Need, has map[string]string) (out []string) {
	for _, n := range needs {
		v, ok := has[n.Name]
		switch {
		case !ok:
			out = append(out, n.String())
		case n.AtLeast != "":
			if order, ok := versions.Compare(v, n.AtLeast); !ok || order < 0 {
				out = append(out, fmt.Sprintf("%s (it has %s)", n, v))
			}
		}
	}
	return out
}

// programKeys are what tessellant.yaml may say of a program.
type programKeys struct {
	Run     command  `yaml:"run"`
	Prepare command  `yaml:"prepare"`
	Results []string `yaml:"results"`
	Limits  struct {
		Prepare   string `yaml:"prepare"`
		MemoryMB  int    `yaml:"memory-mb"`
		Processes int    `yaml:"processes"`
		DiskMB    int    `yaml:"disk-mb"`
	} `yaml:"limits"`
}

func (k programKeys) any() bool {
	return len(k.Run)+len(k.Prepare)+len(k.Results) > 0 || k.Limits.Prepare != "" || k.Limits.MemoryMB+k.Limits.Processes+k.Limits.DiskMB != 0
}

// command is a list of arguments, or a line for the shell.
type command []string

// UnmarshalYAML implements yaml.Unmarshaler.
func (c *command) UnmarshalYAML(n *yaml.Node) error {
	if n.Kind == yaml.ScalarNode {
		*c = command{"sh", "-c", n.Value}
		return nil
	}
	var list []string
	if err := n.Decode(&list); err != nil {
		return fmt.Errorf("line %d: a command is a line for the shell, or a list of arguments", n.Line)
	}
	*c = list
	return nil
}

// Bounds of what a program may ask for, and what it has when it does not say.
const (
	defaultPrepare = 2 * time.Minute
	maxPrepare     = 10 * time.Minute
	defaultMemory  = 2048
	maxMemory      = 16384
	defaultProcs   = 256
	maxProcs       = 2048
	defaultDisk    = 1024
	maxDisk        = 16384
)

var needForm = regexp.MustCompile(`^([a-z][a-z0-9]*)(?:\s*>=\s*(\d+(?:\.\d+){0,3}))?$`)

func (p *Package) readProgram(k programKeys, needs []string) {
	prog := &Program{Run: k.Run, Prepare: k.Prepare, Results: k.Results, Limits: ProgramLimits{defaultPrepare, defaultMemory, defaultProcs, defaultDisk}}
	p.Program = prog
	if len(k.Run) == 0 || k.Run[0] == "" {
		p.blocks(Entry, 0, "such as run: [python3, -m, unittest]", "a program needs a command that runs it")
	}
	if len(k.Results) == 0 {
		p.blocks(Entry, 0, "such as results: [results/*.xml]", "results: is missing: the service reads the results of the cases from the JUnit XML that it names")
	}
	for _, r := range k.Results {
		if !doublestar.ValidatePattern(r) || path.IsAbs(r) || slices.Contains(strings.Split(r, "/"), "..") {
			p.blocks(Entry, 0, "such as results/**/*.xml", "results: %q is no pattern of files below the package's root", r)
		}
	}
	known := ""
	for _, r := range Runtimes {
		known += " " + r.Name
	}
	for _, n := range needs {
		m := needForm.FindStringSubmatch(strings.TrimSpace(n))
		switch {
		case m == nil:
			p.blocks(Entry, 0, "such as needs: [python3>=3.9, os>=10]", "needs: %q can't be read", n)
		case !strings.Contains(known+" ", " "+m[1]+" "):
			p.blocks(Entry, 0, "hosts look for"+known+"; anything else must be in the package", "needs: no host looks for %q", m[1])
		default:
			prog.Needs = append(prog.Needs, Need{m[1], m[2]})
		}
	}
	if d := k.Limits.Prepare; d != "" {
		v, err := time.ParseDuration(d)
		if err != nil || v <= 0 || v > maxPrepare {
			p.blocks(Entry, 0, "such as prepare: 90s; 10m is the most", "limits: %q is no time that preparing may take", d)
		}
		prog.Limits.Prepare = v
	}
	for _, l := range []struct {
		name string
		said int
		to   *int
		most int
	}{{"memory-mb", k.Limits.MemoryMB, &prog.Limits.MemoryMB, maxMemory}, {"processes", k.Limits.Processes, &prog.Limits.Processes, maxProcs}, {"disk-mb", k.Limits.DiskMB, &prog.Limits.DiskMB, maxDisk}} {
		if l.said < 0 || l.said > l.most {
			p.blocks(Entry, 0, fmt.Sprintf("%d is the most", l.most), "limits: %s can't be %d", l.name, l.said)
		} else if l.said > 0 {
			*l.to = l.said
		}
	}
	for i, arg := range prog.Run { // a script that is named must be there
		if i > 0 && !strings.HasPrefix(arg, "-") && slices.Contains([]string{".py", ".js", ".mjs", ".rb", ".pl", ".sh", ".jar", ".php", ".java"}, path.Ext(arg)) && fs.ValidPath(arg) && !strings.ContainsAny(arg, " *") && prog.Run[0] != "sh" {
			if _, err := fs.Stat(p.files, arg); err != nil && len(prog.Prepare) == 0 {
				p.blocks(Entry, 0, "add the file to the package, or fix the name under run:", "run names %s, which is not in the package", arg)
			}
		}
	}
}
