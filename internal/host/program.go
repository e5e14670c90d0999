package host

// A package of the kind program: prepared and run in a sandbox, with a WebDriver URL that means this leg's device.
// How its cases came out is read from what it reported: results.go.

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

	"tessellant/internal/core/devices"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/testpkg"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/tracks"
	"tessellant/internal/core/w3c"
	"tessellant/internal/guard"
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

// about says what the host can do for programs.
func (h *Host) about() hostlink.About {
	if h.Box == nil || (h.Box.Level != sandbox.Tight && !h.OpenBox) {
		a := hostlink.About{}
		if h.Box != nil {
			a.Why = h.Box.Why
		}
		return a
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	return hostlink.About{Isolation: string(h.Box.Level), Why: h.Box.Why, Runtimes: h.runtimes}
}

// findRuntimes looks once for what programs find here.
func (h *Host) findRuntimes(ctx context.Context) {
	found := h.Box.Runtimes(ctx)
	h.mu.Lock()
	h.runtimes = found
	h.mu.Unlock()
	h.Log.Info("programs run here", "isolation", h.Box.Level, "why", h.Box.Why, "runtimes", found)
	h.lookAndTell(ctx)
}

// program is the run of one.
type program struct {
	a      *attempt
	spec   *testpkg.Program
	box    *sandbox.Box
	dir    sandbox.Folders
	out    *output
	began  time.Time
	opened int      // sessions; one at a time is
	excess bool     // its reports have more cases than are read
	empty  []string // report files without a case, and what is in them
}

// program prepares and runs the package's program, and reads what it reports.
func (a *attempt) program(ctx context.Context) error {
	limit := a.hold.Spec.Limits.Whole.Duration()
	ctx, cancel := context.WithTimeoutCause(ctx, limit, errLegTime)
	defer cancel()
	box := a.h.Box
	if about := a.h.about(); about.Isolation == "" {
		return fmt.Errorf("this host runs no programs: they can't be kept apart from it (%s); install bubblewrap there, or start it with --open-box if you trust all packages", about.Why)
	}
	if missing := testpkg.Missing(a.pkg.Program.Needs, a.h.about().Runtimes); len(missing) > 0 {
		return fmt.Errorf("this host lacks %s", strings.Join(missing, ", "))
	}
	dir, err := box.Make()
	if err != nil {
		return &unready{fmt.Errorf("the host can't make a folder for the program: %w", err)}
	}
	defer box.Remove(dir)
	p := &program{a: a, spec: a.pkg.Program, box: box, dir: dir}
	if err := unpack(a.files, dir.Work); err != nil {
		return &unready{fmt.Errorf("the host can't unpack the package: %w", err)}
	}
	if err := box.Give(dir); err != nil {
		return &unready{err}
	}
	if p.out, err = newOutput(a); err != nil {
		return &unready{err}
	}
	defer p.out.close()
	stop, err := p.serve(ctx)
	if err != nil {
		return &unready{fmt.Errorf("the host can't open the program's way to the device: %w", err)}
	}
	defer stop()
	if len(p.spec.Prepare) > 0 {
		if err := p.prepare(ctx); err != nil {
			return err
		}
	}
	a.stage("running")
	var watch sync.WaitGroup
	watching, stopWatching := context.WithCancel(ctx)
	watch.Go(func() {
		_ = guard.Run(a.log, guard.Hold, func() { a.outside.watchCrashes(watching) })
	})
	p.began = time.Now()
	end, runErr := box.Run(ctx, p.sandboxed(p.spec.Run))
	p.out.flush()
	a.book.settle(context.WithoutCancel(ctx), "end of the program")
	stopWatching()
	watch.Wait()
	a.outside.endOpen(ctx)
	a.rec.note(timeline.Event{Kind: timeline.Marker, Name: "the program ended", Answer: howEnded(end, runErr)})
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
		Network: p.a.hold.Network, Output: p.out}
}

func (p *program) socket() string { return filepath.Join(p.dir.Run, "webdriver.sock") }

// env is the program's environment, besides the URL.
func (p *program) env() map[string]string {
	f := p.a.unit.facts
	facts, _ := json.Marshal(f.Traits())
	env := map[string]string{"TESSELLANT_DEVICE": string(facts), "TESSELLANT_DEVICE_SERIAL": f.Serial, "TESSELLANT_BUILD": p.a.hold.Spec.App.Ref, "TESSELLANT_APP": p.a.hold.Spec.App.ID, "TESSELLANT_PACKAGE": p.a.hold.Spec.Content.Ref,
		"TESSELLANT_RUN": p.a.hold.RunID, "TESSELLANT_LEG": p.a.hold.WorkID, "TESSELLANT_KEEP": p.box.KeepPath(p.dir)}
	for name, v := range p.a.hold.Inputs() {
		env["TESSELLANT_INPUT_"+strings.ToUpper(strings.ReplaceAll(name, "-", "_"))] = v
	}
	return env
}

func (p *program) prepare(ctx context.Context) error {
	ctx, cancel := context.WithTimeoutCause(ctx, p.spec.Limits.Prepare, fmt.Errorf("preparing took longer than %s", p.spec.Limits.Prepare))
	defer cancel()
	p.a.rec.note(timeline.Event{Kind: timeline.Marker, Name: "prepare"})
	s := p.sandboxed(p.spec.Prepare)
	s.Socket = "" // there is no test yet
	end, err := p.box.Run(ctx, s)
	p.out.flush()
	var lost *unready
	switch cause := context.Cause(ctx); {
	case err != nil && errors.Is(cause, errStopped), err != nil && errors.Is(cause, errLegTime), errors.As(cause, &lost):
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
	web := &http.Server{Handler: &remoteend.Handler{Open: p.open, Waits: p.waits}, BaseContext: func(net.Listener) context.Context { return ctx }, ReadHeaderTimeout: time.Minute}
	var served sync.WaitGroup
	served.Go(func() { _ = web.Serve(l) })
	return func() { _ = web.Close(); served.Wait() }, nil
}

// open gives the program a session on its leg's device. The run has chosen device and build: what the suite asks for of them when it runs
// from outside does not count here, but of several sets the one that fits is taken.
func (p *program) open(ctx context.Context, sets []w3c.Capabilities) (*remoteend.Session, *w3c.Error) {
	a, f := p.a, p.a.unit.facts
	var why []string
	var wanted *remoteend.Wanted
	fits := false
	for _, c := range sets {
		if no := c.Unmatched(f.Platform); no != "" {
			why = append(why, no)
			continue
		}
		w, err := remoteend.Read(c)
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
		a.rec.note(timeline.Event{Kind: timeline.Marker, Name: "the suite asked for another device", Answer: fmt.Sprintf("%s; the run has chosen %s", devices.Filter{Where: wanted.Filter.Where}, f.Serial)})
	}
	timeouts, bad := wanted.Standard.Timeouts()
	if bad != nil {
		return nil, bad
	}
	if err := p.fresh(ctx); err != nil {
		return nil, w3c.Fail(w3c.SessionNotCreated, "the app could not be started anew: %v", err)
	}
	p.opened++
	answer := wanted.Standard.Answer(f.Platform, timeouts, remoteend.Told(a.hold.WorkID, a.hold.Spec.App.Ref, f))
	return remoteend.New(remoteend.Config{ID: fmt.Sprintf("%s-%d", strings.ToLower(a.hold.AttemptID), p.opened), Answer: answer, Timeouts: timeouts, Idle: wanted.Idle,
		Phone: a.unit.device, App: a.app, Builds: a.anyBuild, Facts: f, Notes: a.outside}), nil
}

// waits notes that the suite asks for a session while it has one.
func (p *program) waits(id string) {
	p.a.rec.note(timeline.Event{Kind: timeline.Marker, Name: "a session waits for the one before", Answer: id + " has not been ended yet; a device has one at a time"})
}

// fresh starts the run's build from a clean state, as it is at the beginning of a session from outside.
func (p *program) fresh(ctx context.Context) error {
	if err := p.a.restore(ctx); err != nil {
		return err
	}
	return p.a.phone.Launch(ctx, p.a.app)
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
			ok, _ := path.Match(pattern, name)
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
		p.a.log.Warn("what a program kept can't be read", "err", err)
		return
	}
	defer kept.Close()
	for i, name := range files(p.dir.Keep, nil) {
		if i >= maxKept || left <= 0 {
			p.a.rec.note(timeline.Event{Kind: timeline.Marker, Name: "not all files were kept", Error: fmt.Sprintf("%d files and %d MB are the most", maxKept, maxKeptBytes>>20)})
			return
		}
		left -= p.take(kept, name, "kept/"+p.keptName(i, p.a.mask.Text(name)), left)
	}
}

// keptName is what the i-th file is kept as: under its own name where that is short, and text.
func (p *program) keptName(i int, name string) string {
	if most := tracks.MaxKeptName - len("kept/"); len(name) > most || name != foreign.Name(name, most) {
		ext := foreign.Name(path.Ext(name), 20)
		short := fmt.Sprintf("%03d-%s%s", i+1, foreign.Name(strings.TrimSuffix(path.Base(name), path.Ext(name)), 60), ext)
		p.a.rec.note(timeline.Event{Kind: timeline.Marker, Name: "a file was renamed", Answer: foreign.Name(name, 1000) + " is kept as " + short})
		return short
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
	if err != nil || !i.Mode().IsRegular() || i.Size() > most || p.a.share().room(i.Size()) != nil {
		p.a.rec.note(timeline.Event{Kind: timeline.Marker, Name: "a file was not kept", Error: foreign.Name(name, 200) + ": it is too long, or there is no room for it"})
		return 0
	}
	to := filepath.Join(p.a.dir, filepath.FromSlash(name))
	if err = os.MkdirAll(filepath.Dir(to), 0o700); err == nil {
		err = fillWhole(to, func(w io.Writer) error { return p.a.hiding(w, io.LimitReader(in, i.Size())) })
	}
	if err != nil {
		p.a.rec.note(timeline.Event{Kind: timeline.Marker, Name: "a file was not kept", Error: name + ": " + err.Error()})
	}
	return i.Size()
}

// textLine is how long a line of a text file may be for a secret to be found wherever it stands in it.
const textLine = 1 << 20

// hiding copies a file. Where it is text, as its beginning says, secrets are hidden in each line.
func (a *attempt) hiding(to io.Writer, from io.Reader) error {
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
		if _, bad := io.WriteString(to, a.mask.Text(string(line))); bad != nil {
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
	a     *attempt
	mu    sync.Mutex
	file  *os.File
	bytes int64
	lines int
	part  []byte // a line without its end
	tail  []byte
}

func newOutput(a *attempt) (*output, error) {
	f, err := os.Create(filepath.Join(a.dir, tracks.Output))
	return &output{a: a, file: f}, err
}

// Write implements io.Writer.
func (o *output) Write(b []byte) (int, error) {
	o.mu.Lock()
	defer o.mu.Unlock()
	o.part = append(o.part, b...)
	for {
		i := bytes.IndexByte(o.part, '\n')
		if i < 0 && len(o.part) < hostlink.MaxText {
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
	text = o.a.mask.Text(strings.ToValidUTF8(text, "\uFFFD"))
	if o.tail = append(o.tail, text...); len(o.tail) > 2*lastOutput {
		o.tail = append([]byte(nil), o.tail[len(o.tail)-lastOutput:]...)
	}
	if o.bytes += int64(len(text)); o.bytes <= maxOutput && o.a.share().room(int64(len(text))) == nil {
		_, _ = o.file.WriteString(text)
	}
	if o.lines++; o.lines <= maxSaidLines && strings.TrimSpace(text) != "" {
		o.a.rec.note(timeline.Event{Kind: timeline.Log, Name: "output", Answer: strings.TrimRight(text, "\r\n")})
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
