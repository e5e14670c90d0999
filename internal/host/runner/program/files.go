package program

// The program's files: its package's, and those that it leaves to be kept.

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/bmatcuk/doublestar/v4"

	"tessellant/internal/core/foreign"
	"tessellant/internal/core/masking"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/tracks"
	"tessellant/internal/host/spool"
)

const (
	maxKept      = 500 // files that a program keeps
	maxKeptBytes = 512 << 20
)

// unpack writes a package's files into a folder. Their names were seen to be inside.
func unpack(f fs.FS, dir string) error {
	root, err := os.OpenRoot(dir)
	if err != nil {
		return err
	}
	defer root.Close()
	return fs.WalkDir(f, ".", func(name string, d fs.DirEntry, err error) error {
		if err != nil || name == "." {
			return err
		}
		if d.IsDir() {
			return root.MkdirAll(name, 0o755)
		}
		if err := root.MkdirAll(path.Dir(name), 0o755); err != nil {
			return err
		}
		return unpackFile(f, root, name)
	})
}

// unpackFile writes one. Scripts and binaries can be started, whatever the zip says of their modes.
func unpackFile(f fs.FS, root *os.Root, name string) error {
	packed, err := f.Open(name)
	if err != nil {
		return err
	}
	defer packed.Close()
	in := bufio.NewReader(packed)
	mode := fs.FileMode(0o644)
	if head, _ := in.Peek(4); bytes.HasPrefix(head, []byte("#!")) || bytes.Equal(head, []byte("\x7fELF")) {
		mode = 0o755
	}
	out, err := root.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, mode)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	return errors.Join(err, out.Close())
}

// files lists the plain files below a folder that fit one of the patterns; none: all. Links are passed over: they lead where the program chose.
func files(dir string, patterns []string) (out []string) {
	_ = filepath.WalkDir(dir, func(p string, d os.DirEntry, err error) error {
		if err != nil || !d.Type().IsRegular() {
			return nil
		}
		name, err := filepath.Rel(dir, p)
		name = filepath.ToSlash(name)
		fits := len(patterns) == 0
		for _, pattern := range patterns {
			ok, _ := doublestar.Match(pattern, name)
			fits = fits || ok
		}
		if err == nil && fits && len(out) < 10_000 {
			out = append(out, name)
		}
		return nil
	})
	slices.Sort(out)
	return out
}

// keep takes over what the program left in its folder for that.
func (p *program) keep() {
	left := int64(maxKeptBytes)
	kept, err := os.OpenRoot(p.dir.Keep)
	if err != nil {
		p.Log.Warn("what a program kept can't be read", "err", err)
		return
	}
	defer kept.Close()
	for i, name := range files(p.dir.Keep, nil) {
		if i >= maxKept || left <= 0 {
			p.Timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "not all files were kept", Error: fmt.Sprintf("%d files and %d MB are the most", maxKept, maxKeptBytes>>20)})
			return
		}
		left -= p.take(kept, name, "kept/"+p.keptName(i, p.Mask.Text(name)), left)
	}
}

// keptName is what the i-th file is kept as: under its own name where that is short, and text.
func (p *program) keptName(i int, name string) string {
	if _, fits := tracks.Named("kept/" + name); !fits {
		ext := foreign.Name(path.Ext(name), 20)
		short := fmt.Sprintf("%03d-%s%s", i+1, foreign.Name(strings.TrimSuffix(path.Base(name), path.Ext(name)), 60), ext)
		p.Timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "a file was renamed", Answer: foreign.Name(name, 1000) + " is kept as " + short})
		return strings.ReplaceAll(short, "\\", "_")
	}
	return name
}

// take copies a file of the program's into the attempt's folder, and answers how long it is.
func (p *program) take(dir *os.Root, from, name string, most int64) int64 {
	in, err := dir.Open(from)
	if err != nil {
		return 0
	}
	defer in.Close()
	i, err := in.Stat()
	if err != nil || !i.Mode().IsRegular() || i.Size() > most || p.Room.Room(i.Size()) != nil {
		p.Timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "a file was not kept", Error: foreign.Name(name, 200) + ": it is too long, or there is no room for it"})
		return 0
	}
	to := filepath.Join(p.Dir, filepath.FromSlash(name))
	if err = os.MkdirAll(filepath.Dir(to), 0o700); err == nil {
		err = spool.FillWhole(to, func(w io.Writer) error { return hiding(p.Mask, w, io.LimitReader(in, i.Size())) })
	}
	if err != nil {
		p.Timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "a file was not kept", Error: name + ": " + err.Error()})
	}
	return i.Size()
}

// textLine is how long a line of a text file may be for a secret to be found wherever it stands in it.
const textLine = 1 << 20

// hiding copies a file. Where it is text, as its beginning says, secrets are hidden in each line.
func hiding(mask *masking.Mask, to io.Writer, from io.Reader) error {
	in := bufio.NewReaderSize(from, textLine)
	head, _ := in.Peek(8 << 10)
	for cut := 0; cut < utf8.UTFMax && !utf8.Valid(head); cut++ { // a character may stand across the end
		head = head[:max(len(head)-1, 0)]
	}
	if !utf8.Valid(head) || bytes.IndexByte(head, 0) >= 0 {
		_, err := io.Copy(to, in)
		return err
	}
	for {
		line, err := in.ReadSlice('\n')
		if _, bad := io.WriteString(to, mask.Text(string(line))); bad != nil {
			return bad
		}
		switch {
		case errors.Is(err, io.EOF):
			return nil
		case err != nil && !errors.Is(err, bufio.ErrBufferFull):
			return err
		}
	}
}
