// Package testpkg reads a test package and finds what is wrong with it.
//
// A package is a folder, or a zip of one, with tessellant.yaml at its root. Of
// the kind "script" it holds Starlark files, whose functions named test_… are
// the cases; of the kind "program" anything that a command of its own runs. The same reading serves the check on the engineer's machine, the
// upload, and the host that runs the cases. In: an fs.FS. Out: the name, the
// cases with file and line, the sources, and findings with file and line.
package testpkg

import (
	"archive/zip"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"path"
	"regexp"
	"slices"
	"sort"
	"strings"

	"go.yaml.in/yaml/v3"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/zipdir"
)

// Entry is the name of the file that makes a folder a package.
const Entry = "tessellant.yaml"

// Kinds of packages.
const (
	Scripts  = "script"
	Programs = "program"
)

const (
	maxFiles  = 2000     // of the kind script
	maxTotal  = 64 << 20 // bytes unpacked, of the kind script
	maxScript = 256 << 10
	maxEntry  = 64 << 10

	// Programs bring along what they need.
	maxProgramFiles = 50_000
	maxProgramTotal = 1 << 30
	maxDirectory    = 32 << 20 // bytes of the zip's directory
	// MaxZip is how many bytes a packed package may have.
	MaxZip = 512 << 20
)

// Finding is one thing wrong or worth knowing with a package.
type Finding struct {
	Level  string `json:"level"` // blocks, warns or notes
	File   string `json:"file,omitempty"`
	Line   int    `json:"line,omitempty"`
	What   string `json:"what"`
	Remedy string `json:"remedy"`
}

// Case is one test case that was discovered.
type Case struct {
	Name  string   `json:"name"` // file without its ending, a dot, the function: send.test_total
	File  string   `json:"file"`
	Line  int      `json:"line"`
	Func  string   `json:"func"`
	About string   `json:"about,omitempty"` // the function's docstring, its first line
	Tags  []string `json:"tags,omitempty"`
	Needs []string `json:"needs,omitempty"` // of a device: patterns
	// Row is the row of a table that this case is for; its name follows the function's after a slash.
	Row map[string]any `json:"-"`
}

// Package is what was read.
type Package struct {
	Name     string            `json:"name"`
	Kind     string            `json:"kind"`
	About    string            `json:"about,omitempty"`
	Cases    []Case            `json:"cases"`
	Findings []Finding         `json:"findings"`
	Inputs   []Input           `json:"inputs"`
	Program  *Program          `json:"program,omitempty"` // of the kind program
	Needs    []string          `json:"needs,omitempty"`   // of a device: patterns
	Scripts  map[string]string `json:"-"`                 // file name → source

	files   fs.FS
	scripts map[string]*script
}

// Has says whether a file defines one of the Hooks.
func (p *Package) Has(file, hook string) bool {
	return p.scripts[file] != nil && p.scripts[file].hooks[hook]
}

// KeepsData says whether the app keeps its data between the cases of a file.
func (p *Package) KeepsData(file string) bool { return p.scripts[file] != nil && p.scripts[file].keep }

func (p *Package) scriptNames() []string {
	names := make([]string, 0, len(p.scripts))
	for n := range p.scripts {
		names = append(names, n)
	}
	sort.Strings(names)
	return names
}

// Blocked returns the findings for which the package can't be used.
func (p *Package) Blocked() []Finding {
	var out []Finding
	for _, f := range p.Findings {
		if f.Level == "blocks" {
			out = append(out, f)
		}
	}
	return out
}

func (p *Package) blocks(file string, line int, remedy, format string, args ...any) {
	p.Findings = append(p.Findings, Finding{"blocks", file, line, fmt.Sprintf(format, args...), remedy})
}

type entryFile struct {
	Name   string `yaml:"name"`
	Kind   string `yaml:"kind"`
	About  string `yaml:"about"`
	Inputs map[string]struct {
		About   string  `yaml:"about"`
		Default *string `yaml:"default"`
		Secret  bool    `yaml:"secret"`
	} `yaml:"inputs"`
	Needs       []string `yaml:"needs"`
	programKeys `yaml:",inline"`
}

// isName says whether a package may be called so.
func isName(s string) bool {
	for i, c := range s {
		if !(c >= 'a' && c <= 'z') && (i == 0 || !(c >= '0' && c <= '9' || c == '-')) {
			return false
		}
	}
	return s != "" && len(s) <= 63
}

// Read reads the package in f. What is wrong with the package becomes findings;
// the error is for an f that can't be read.
func Read(f fs.FS) (*Package, error) {
	p := &Package{Scripts: map[string]string{}, Findings: []Finding{}, Cases: []Case{}, Inputs: []Input{}, files: f, scripts: map[string]*script{}}
	raw, err := readFile(f, Entry, maxEntry)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		p.blocks("", 0, "put a tessellant.yaml with name: and kind: script at the root of the folder", "there is no %s at the root", Entry)
		return p, nil
	case err != nil:
		return nil, err
	}
	p.readEntry(raw)
	if p.Kind == Programs {
		return p, nil
	}
	var names []string
	count, total := 0, int64(0)
	err = fs.WalkDir(f, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if i, err := d.Info(); err == nil && i.Mode().IsRegular() {
			count, total = count+1, total+i.Size()
		}
		if d.IsDir() && strings.HasPrefix(d.Name(), ".") && name != "." {
			return fs.SkipDir
		}
		if !d.IsDir() && path.Ext(name) == ".star" {
			names = append(names, name)
		}
		return nil
	})
	if err != nil {
		return nil, fmt.Errorf("list the package's files: %w", err)
	}
	if count > maxFiles || total > maxTotal {
		p.blocks("", 0, "leave out what the scripts do not need; packages of the kind program may be larger", "it holds %d files of %d bytes; a package of scripts has %d files and %d bytes at most", count, total, maxFiles, maxTotal)
		return p, nil
	}
	sort.Strings(names)
	for _, name := range names {
		src, err := readFile(f, name, maxScript)
		if err != nil {
			var big *tooBig
			if errors.As(err, &big) {
				p.blocks(name, 0, "split the file", "the script is longer than %d bytes", maxScript)
				continue
			}
			return nil, err
		}
		p.Scripts[name] = string(src)
		p.readScript(name, src)
	}
	p.checkLoads()
	if len(names) == 0 {
		p.blocks("", 0, "add a file such as cases.star with a function test_something(phone)", "the package holds no .star file")
	} else if len(p.Cases) == 0 && len(p.Blocked()) == 0 {
		p.blocks("", 0, "name a function test_something(phone)", "no file defines a function whose name starts with test_")
	}
	return p, nil
}

func (p *Package) readEntry(raw []byte) {
	var e entryFile
	dec := yaml.NewDecoder(bytes.NewReader(raw))
	dec.KnownFields(true)
	err := dec.Decode(&e)
	if errors.Is(err, io.EOF) {
		p.blocks(Entry, 0, "write name: and kind: script, or kind: program", "it is empty")
		return
	}
	if err != nil {
		what := strings.ReplaceAll(strings.TrimPrefix(err.Error(), "yaml: "), " in type testpkg.entryFile", "")
		p.blocks(Entry, yamlLine(err.Error()), "it has the keys name, kind, about, needs and inputs, and of the kind program also run, prepare, results and limits", "it can't be read: %s", strings.ReplaceAll(what, "\n  ", " "))
		return
	}
	p.Name, p.Kind, p.About = e.Name, e.Kind, e.About
	if !isName(e.Name) {
		p.blocks(Entry, 0, "such as name: shore-suite", "name is %q; it needs small letters, digits and dashes, a letter first, 63 at most", e.Name)
	}
	runtimes := p.readNeeds(e.Needs, e.Kind == Programs)
	switch e.Kind {
	case Scripts:
		if e.programKeys.any() {
			p.blocks(Entry, 0, "write kind: program, or leave them out", "run, prepare, results and limits are for the kind program")
		}
	case Programs:
		p.readProgram(e.programKeys, runtimes)
	default:
		p.blocks(Entry, 0, "write kind: script, or kind: program", "kind is %q; the kinds are script and program", e.Kind)
	}
	for name, in := range e.Inputs {
		if !isName(name) {
			p.blocks(Entry, 0, "such as observer-code", "the input %q needs small letters, digits and dashes, a letter first, 63 at most", name)
		}
		if in.Secret && in.Default != nil {
			p.blocks(Entry, 0, "leave the default out; the run gives it with --secret-from-env", "the input %s is secret and has a default: then it is written in the package", name)
		}
		p.Inputs = append(p.Inputs, Input{Name: name, About: in.About, Default: in.Default, Secret: in.Secret})
	}
	sort.Slice(p.Inputs, func(i, j int) bool { return p.Inputs[i].Name < p.Inputs[j].Name })
}

// readNeeds takes from what a package needs that of a device, and gives that of a host.
func (p *Package) readNeeds(all []string, program bool) (runtimes []string) {
	for _, n := range all {
		word := n[:len(n)-len(strings.TrimLeft(n, "abcdefghijklmnopqrstuvwxyz0123456789_.+-"))]
		_, err := devices.ParsePattern(n)
		var no *devices.Mistake
		switch {
		case err == nil && strings.HasPrefix(n, devices.OfPool):
			p.blocks(Entry, 0, "write what the device must have, such as os>=10", "needs: a package can't need a pool")
		case err == nil:
			p.Needs = append(p.Needs, n)
		case program && (!slices.Contains(devices.Names, word) || !errors.As(err, &no)):
			runtimes = append(runtimes, n)
		default:
			p.blocks(Entry, 0, "such as needs: [os>=10, form=phone]", "needs: %v", err)
		}
	}
	return runtimes
}

var yamlLineForm = regexp.MustCompile(`line (\d+)`)

func yamlLine(s string) int {
	n := 0
	if m := yamlLineForm.FindStringSubmatch(s); m != nil {
		fmt.Sscan(m[1], &n)
	}
	return n
}

type tooBig struct{ name string }

func (t *tooBig) Error() string { return t.name + " is too long" }

func readFile(f fs.FS, name string, max int64) ([]byte, error) {
	file, err := f.Open(name)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	raw, err := io.ReadAll(io.LimitReader(file, max+1))
	if err != nil {
		return nil, fmt.Errorf("read %s: %w", name, err)
	}
	if int64(len(raw)) > max {
		return nil, &tooBig{name}
	}
	return raw, nil
}

// Open checks a packed package and gives it as a file system, read in place.
// Names that lead outside, links, and archives that unpack to too much are refused.
func Open(r io.ReaderAt, size int64) (fs.FS, error) {
	if size > MaxZip {
		return nil, fmt.Errorf("the package is %d bytes long; %d is the most", size, int64(MaxZip))
	}
	dir, err := zipdir.Find(r, size)
	if err != nil {
		return nil, fmt.Errorf("the package is not a zip file: %w", err)
	}
	if dir.Size > maxDirectory {
		return nil, fmt.Errorf("the package's zip directory is %d bytes long; %d is the most", dir.Size, maxDirectory)
	}
	z, err := zip.NewReader(r, size)
	if err != nil {
		return nil, fmt.Errorf("the package is not a zip file: %w", err)
	}
	if len(z.File) > maxProgramFiles {
		return nil, fmt.Errorf("the package holds %d files; %d is the most", len(z.File), maxProgramFiles)
	}
	total, seen := uint64(0), map[string]bool{}
	for _, f := range z.File {
		name := strings.TrimSuffix(f.Name, "/")
		if !fs.ValidPath(name) || strings.ContainsAny(name, "\\\x00") {
			return nil, fmt.Errorf("the package holds a file named %q, which leads outside of it", f.Name)
		}
		if seen[name] {
			return nil, fmt.Errorf("the package holds two files named %q", f.Name)
		}
		seen[name] = true
		if m := f.Mode(); !m.IsRegular() && !m.IsDir() {
			return nil, fmt.Errorf("the package holds %q, which is a link or a device; only plain files can be packed", f.Name)
		}
		if total += f.UncompressedSize64; total > maxProgramTotal || f.UncompressedSize64 > maxProgramTotal {
			return nil, fmt.Errorf("the package unpacks to more than %d bytes", maxProgramTotal)
		}
	}
	return z, nil
}

// Pack packs the folder f as a zip. The same folder gives the same bytes: names are
// sorted and times left out.
func Pack(f fs.FS, w io.Writer) error {
	z := zip.NewWriter(w)
	count, total := 0, int64(0)
	err := fs.WalkDir(f, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if strings.HasPrefix(d.Name(), ".") && name != "." {
			if d.IsDir() {
				return fs.SkipDir
			}
			return nil
		}
		if d.IsDir() {
			return nil
		}
		if !d.Type().IsRegular() {
			return fmt.Errorf("%s is a link or a device; only plain files can be packed", name)
		}
		in, err := f.Open(name)
		if err != nil {
			return err
		}
		defer in.Close()
		out, err := z.CreateHeader(&zip.FileHeader{Name: name, Method: zip.Deflate})
		if err != nil {
			return err
		}
		n, err := io.Copy(out, io.LimitReader(in, maxProgramTotal+1))
		if count, total = count+1, total+n; err == nil && (count > maxProgramFiles || total > maxProgramTotal) {
			return fmt.Errorf("the folder holds more than %d files or %d bytes", maxProgramFiles, maxProgramTotal)
		}
		return err
	})
	if err != nil {
		return fmt.Errorf("pack the package: %w", err)
	}
	return z.Close()
}
