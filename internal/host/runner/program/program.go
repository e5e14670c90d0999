// Package program is the runner of packages of the kind program: prepared and run in a sandbox, with a WebDriver URL that means this leg's device.
//
// The results of its cases are read from what it reported: results.go.
package program

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"
	"unicode/utf8"

	"github.com/bmatcuk/doublestar/v4"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/masking"
	"tessellant/internal/core/ours"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/tracks"
	"tessellant/internal/core/verdict"
	"tessellant/internal/core/w3c"
	"tessellant/internal/guard"
	"tessellant/internal/host/casebook"
	"tessellant/internal/host/runner"
	"tessellant/internal/host/runner/beside"
	"tessellant/internal/host/spool"
	"tessellant/internal/hostlink"
	"tessellant/internal/remoteend"
	"tessellant/internal/sandbox"
)

const (
	urlName = "TESSELLANT_WEBDRIVER_URL"

	maxOutput    = 64 << 20 // bytes kept
	maxSaidLines = 5000     // of the output that stand on the timeline
	lastOutput   = 2000     // bytes of it that are said when it ends without results
	maxResults   = 100      // files
	maxKept      = 500      // files that a program keeps
	maxKeptBytes = 512 << 20
)

// program implements runner.Runner.
type program struct {
	*runner.Kit
	outside *runner.Outside
	spec    *testpkg.Program
	dir     sandbox.Folders
	out     *output
	began   time.Time
	opened  int      // sessions; one at a time is
	excess  bool     // its reports have more cases than are read
	empty   []string // report files without a case, and what is in them
}

// New makes the runner.
func New(k *runner.Kit) (runner.Runner, error) {
	outside, err := runner.NewOutside(k, true)
	return &program{Kit: k, outside: outside, spec: k.Package.Program}, err
}

// Prepare implements runner.Runner: what the host can't do is said before anything is run.
func (p *program) Prepare(context.Context) error {
	about := p.About()
	if about.Isolation == "" {
		return fmt.Errorf("this host runs no programs: they can't be kept apart from it (%s); install bubblewrap there, or start it with --open-box if you trust all packages", about.Why)
	}
	if missing := testpkg.Missing(p.spec.Needs, about.Runtimes); len(missing) > 0 {
		return fmt.Errorf("this host lacks %s", strings.Join(missing, ", "))
	}
	return nil
}

// Judge implements runner.Runner.
func (p *program) Judge(err error) (verdict.Verdict, string) { return p.Book.Judge(err) }

// Close implements runner.Runner.
func (p *program) Close(*hostlink.Closing) { p.outside.Close() }

func unready(format string, args ...any) error {
	return &casebook.Unready{Err: fmt.Errorf(format, args...)}
}

// Run implements runner.Runner: it prepares and runs the program, and reads what it reports.
func (p *program) Run(ctx context.Context) error {
	ctx, cancel := p.Turns.Within(ctx, p.Hold.Spec.Limits.Whole.Duration(), casebook.ErrTime)
	defer cancel()
	dir, err := p.Box.Make()
	if err != nil {
		return unready("the host can't make a folder for the program: %w", err)
	}
	defer p.Box.Remove(dir)
	p.dir = dir
	if err := unpack(p.Package.Files, dir.Work); err != nil {
		return unready("the host can't unpack the package: %w", err)
	}
	if err := p.Box.Give(dir); err != nil {
		return &casebook.Unready{Err: err}
	}
	if p.out, err = newOutput(p.Kit); err != nil {
		return &casebook.Unready{Err: err}
	}
	defer p.out.close()
	stop, err := p.serve(ctx)
	if err != nil {
		return unready("the host can't open the program's way to the device: %w", err)
	}
	defer stop()
	if len(p.spec.Prepare) > 0 {
		if err := p.prepare(ctx); err != nil {
			return err
		}
	}
	p.Stage("running")
	stopPeople, err := beside.Serve(ctx, p.Kit)
	if err != nil {
		return err
	}
	defer stopPeople()
	var watch sync.WaitGroup
	watching, stopWatching := context.WithCancel(ctx)
	watch.Go(func() {
		_ = guard.Run(p.Log, guard.Hold, func() { p.outside.WatchCrashes(watching) })
	})
	p.began = time.Now()
	end, runErr := p.Box.Run(ctx, p.sandboxed(p.spec.Run))
	p.out.flush()
	p.DeviceLog.Settle(context.WithoutCancel(ctx), "end of the program")
	stopWatching()
	watch.Wait()
	p.outside.EndOpen(ctx)
	p.Timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "the program ended", Answer: howEnded(end, runErr)})
	p.keep()
	return p.results(ctx, end, runErr)
}

func howEnded(end sandbox.Ended, err error) string {
	switch {
	case end.Killed != "":
		return "it was ended: " + end.Killed
	case err != nil:
		return "it was ended: " + err.Error()
	}
	return fmt.Sprintf("with exit code %d", end.Code)
}

// sandboxed is what is needed to run a command of the package.
func (p *program) sandboxed(command []string) sandbox.Spec {
	l := p.spec.Limits
	return sandbox.Spec{Work: p.dir.Work, Keep: p.dir.Keep, Socket: p.socket(), URLName: urlName, Command: command, Env: p.env(), MemoryMB: l.MemoryMB, Processes: l.Processes, DiskMB: l.DiskMB,
		CPU: processors * p.Hold.Spec.Limits.Whole.Duration(), Network: p.Hold.Network, Output: p.out}
}

// processors are as many as a program may keep busy all the time that it has.
const processors = 4

func (p *program) socket() string { return filepath.Join(p.dir.Run, "webdriver.sock") }

// env is the program's environment, besides the URL.
func (p *program) env() map[string]string {
	f := p.Unit.Known
	facts, _ := json.Marshal(f.Traits())
	env := map[string]string{"TESSELLANT_DEVICE": string(facts), "TESSELLANT_DEVICE_SERIAL": f.Serial, "TESSELLANT_BUILD": p.Hold.Spec.App.Ref, "TESSELLANT_APP": p.Hold.Spec.App.ID, "TESSELLANT_PACKAGE": p.Hold.Spec.Content.Ref,
		"TESSELLANT_RUN": p.Hold.RunID, "TESSELLANT_LEG": p.Hold.WorkID, "TESSELLANT_KEEP": p.Box.KeepPath(p.dir)}
	for name, v := range p.Hold.Inputs() {
		env["TESSELLANT_INPUT_"+strings.ToUpper(strings.ReplaceAll(name, "-", "_"))] = v
	}
	return env
}

func (p *program) prepare(ctx context.Context) error {
	ctx, cancel := context.WithTimeoutCause(ctx, p.spec.Limits.Prepare, fmt.Errorf("preparing took longer than %s", p.spec.Limits.Prepare))
	defer cancel()
	p.Timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "prepare"})
	s := p.sandboxed(p.spec.Prepare)
	s.Socket = "" // there is no test yet
	end, err := p.Box.Run(ctx, s)
	p.out.flush()
	var lost *casebook.Unready
	switch cause := context.Cause(ctx); {
	case err != nil && errors.Is(cause, casebook.ErrStopped), err != nil && errors.Is(cause, casebook.ErrTime), errors.As(cause, &lost):
		return cause
	case err != nil, end.Killed != "", end.Code != 0:
		return fmt.Errorf("the package could not be prepared: %s%s", howEnded(end, err), p.out.last())
	}
	return nil
}

// serve opens the remote end for the program, behind a socket.
func (p *program) serve(ctx context.Context) (stop func(), err error) {
	l, err := net.Listen("unix", p.socket())
	if err != nil {
		return nil, err
	}
	if err := os.Chmod(p.socket(), 0o666); err != nil { // the folder above is the program's alone
		return nil, err
	}
	door := &remoteend.Handler{Open: p.open, Waits: p.waits}
	web := &http.Server{Handler: door, BaseContext: func(net.Listener) context.Context { return ctx }, ReadHeaderTimeout: time.Minute}
	var served sync.WaitGroup
	served.Go(func() { _ = web.Serve(l) })
	return func() { _ = web.Close(); served.Wait(); door.End() }, nil
}

// open gives the program a session on its leg's device. The run has chosen device and build: what the suite asks for of them when it runs
// from outside does not count here, but of several sets the one that fits is taken.
func (p *program) open(ctx context.Context, sets []w3c.Capabilities) (*remoteend.Session, *w3c.Error) {
	f := p.Unit.Known
	var why []string
	var wanted *ours.Wanted
	fits := false
	for _, c := range sets {
		if no := c.Unmatched(f.Platform); no != "" {
			why = append(why, no)
			continue
		}
		w, err := ours.Read(c)
		if err != nil {
			return nil, w3c.Fail(w3c.InvalidArgument, "%v", err)
		}
		if fits = w.Filter.Match(f); fits || wanted == nil {
			wanted = &w
		}
		if fits {
			break
		}
	}
	if wanted == nil {
		return nil, w3c.Fail(w3c.SessionNotCreated, "%s", strings.Join(why, "; or "))
	}
	if !fits {
		p.Timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "the suite asked for another device", Answer: fmt.Sprintf("%s; the run has chosen %s", devices.Filter{Where: wanted.Filter.Where}, f.Serial)})
	}
	timeouts, bad := wanted.Standard.Timeouts()
	if bad != nil {
		return nil, bad
	}
	if err := p.fresh(ctx); err != nil {
		return nil, w3c.Fail(w3c.SessionNotCreated, "the app could not be restarted: %v", err)
	}
	p.opened++
	answer := wanted.Standard.Answer(f.Platform, timeouts, ours.Told(p.Hold.WorkID, p.Hold.Spec.App.Ref, f))
	config := p.RemoteEnd(fmt.Sprintf("%s-%d", strings.ToLower(p.Hold.AttemptID), p.opened), answer, timeouts, p.outside)
	config.Idle, config.Turns = wanted.Idle, p.Turns
	return remoteend.New(config), nil
}

// waits notes that the suite asks for a session while it has one.
func (p *program) waits(id string) {
	p.Timeline.Note(timeline.Event{Kind: timeline.Marker, Name: "a session waits for the one before", Answer: id + " has not been ended yet; a device has one at a time"})
}

// fresh starts the run's build from a clean state, as it is at the beginning of a session from outside.
func (p *program) fresh(ctx context.Context) error {
	if err := p.Apps.Restore(ctx); err != nil {
		return err
	}
	return p.Phone.Launch(ctx, p.App)
}

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

// output keeps what a program writes: in a file, and line by line on the timeline.
type output struct {
	k     *runner.Kit
	mu    sync.Mutex
	file  *os.File
	bytes int64
	lines int
	part  []byte // a line without its end
	tail  []byte
}

func newOutput(k *runner.Kit) (*output, error) {
	f, err := os.Create(filepath.Join(k.Dir, tracks.Output))
	return &output{k: k, file: f}, err
}

// Write implements io.Writer.
func (o *output) Write(b []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.part = append(o.part, b...)
	for {
		i := bytes.IndexByte(o.part, '\n')
		if i < 0 && len(o.part) < verdict.MaxText {
			break
		}
		if i < 0 {
			i = len(o.part) - 1
		}
		o.line(string(o.part[:i+1]))
		o.part = append([]byte(nil), o.part[i+1:]...)
	}
	return len(b), nil
}

// line takes one line, under mu. Secrets are hidden line by line.
func (o *output) line(text string) {
	text = o.k.Mask.Text(strings.ToValidUTF8(text, "\uFFFD"))
	if o.tail = append(o.tail, text...); len(o.tail) > 2*lastOutput {
		o.tail = append([]byte(nil), o.tail[len(o.tail)-lastOutput:]...)
	}
	if o.bytes += int64(len(text)); o.bytes <= maxOutput && o.k.Room.Room(int64(len(text))) == nil {
		_, _ = o.file.WriteString(text)
	}
	if o.lines++; o.lines <= maxSaidLines && strings.TrimSpace(text) != "" {
		o.k.Timeline.Note(timeline.Event{Kind: timeline.Log, Name: "output", Answer: strings.TrimRight(text, "\r\n")})
	}
}

func (o *output) flush() {
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(o.part) > 0 {
		o.line(string(o.part) + "\n")
		o.part = nil
	}
}

// last gives the last that was written, to be said after a sentence.
func (o *output) last() string {
	o.flush()
	o.mu.Lock()
	defer o.mu.Unlock()
	tail := strings.TrimSpace(strings.ToValidUTF8(string(o.tail[max(0, len(o.tail)-lastOutput):]), ""))
	if tail == "" {
		return "; it wrote nothing"
	}
	return "; its last output:\n" + tail
}

func (o *output) close() {
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.bytes > maxOutput {
		_, _ = fmt.Fprintf(o.file, "… %d bytes more were left out\n", o.bytes-maxOutput)
	}
	_ = o.file.Close()
}
