// Package cli is the command line: the client's commands, on the client that
// is generated from api/openapi.yaml. Commands that serve or run devices are in the other program, tessellantd, which it starts.
//
// Answers go to standard output, as tables for people or with --json as the
// API's own objects; progress and errors go to standard error. Exit codes are
// those of core/verdict.
//
// It is one large package with a file for each group of commands; they share how things are shown.
package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"tessellant/api"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/verdict"
)

// Version of the program.
const Version = "0.1.0"

// DefaultURL is where a service listens unless told otherwise.
const DefaultURL = "http://127.0.0.1:7480"

// Exit is an error with an exit code; without an Err it says nothing more.
type Exit struct {
	Code int
	Err  error
}

func (e *Exit) Error() string {
	if e.Err == nil {
		return ""
	}
	return e.Err.Error()
}

func (e *Exit) Unwrap() error { return e.Err }

// Main runs a command line of the client's commands and more, and answers its exit code.
func Main(args []string, stdout, stderr io.Writer, more ...func(*App, *cobra.Command)) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	context.AfterFunc(ctx, stop) // a second Ctrl-C ends the process at once; at the end it ends anyway
	a := &App{Out: stdout, Err: stderr}
	root := Root(a)
	for _, add := range more {
		add(a, root)
	}
	return Run(ctx, root, args, stderr)
}

// Run runs a command line on a tree of commands, says what went wrong, and answers the exit code.
func Run(ctx context.Context, root *cobra.Command, args []string, stderr io.Writer) int {
	root.SetArgs(args)
	err := root.ExecuteContext(ctx)
	if err == nil {
		return verdict.ExitPassed
	}
	if text := err.Error(); text != "" {
		fmt.Fprintln(stderr, foreign.Shown(text))
	}
	var e *Exit
	if errors.As(err, &e) {
		return e.Code
	}
	return verdict.ExitUsage
}

// App is what commands share: where they write, and which service they ask.
type App struct {
	Out, Err io.Writer
	URL, Key string
	JSON     bool // answer with the API's JSON
}

// Root gives the client's commands.
func Root(a *App) *cobra.Command {
	root := &cobra.Command{
		Use:   "tessellant",
		Short: "Run a test package on many devices at once",
		Long: `Tessellant runs a test package on many devices at once and says what broke and where.

Your first run, with a running service:
  tessellant login http://127.0.0.1:7480
  tessellant build add app.apk
  tessellant package add my-tests/
  tessellant run start --build kelpline/android@newest --package my-tests@newest --where platform=android --watch

Exit codes: 0 passed or flaky; 1 the app failed on some device; 2 wrong usage;
3 nothing worse than invalid, lost or stopped; 4 the service can't be reached, or it refused.`,
		Args: commandsAlone, RunE: func(c *cobra.Command, _ []string) error { return c.Help() },
		SilenceErrors: true, SilenceUsage: true,
		CompletionOptions: cobra.CompletionOptions{HiddenDefaultCmd: true},
	}
	root.SetOut(a.Out)
	root.SetErr(a.Err)
	root.SetFlagErrorFunc(func(c *cobra.Command, err error) error {
		return usage(c, c.CommandPath()+": "+err.Error())
	})
	root.Version = Version
	root.SetVersionTemplate("tessellant {{.Version}}\n")
	f := root.PersistentFlags()
	f.StringVar(&a.URL, "url", "", "address of the service (default: TESSELLANT_URL, then what login saved, then "+DefaultURL+")")
	f.BoolVar(&a.JSON, "json", false, "print the API's JSON")
	root.AddCommand(a.loginCmd(), a.logoutCmd(), a.whoamiCmd(), a.keyCmd(), a.secretsCmd(), a.workspaceCmd(), a.consoleCmd(), a.buildCmd(), a.packageCmd(), a.scriptCmd(), a.deviceCmd(), a.poolCmd(), a.labCmd(), a.hostCmd(), a.runCmd(), a.legCmd(), a.referenceCmd(), a.caseCmd(), a.bisectionCmd(), a.sessionCmd(), a.holdCmd(), a.routeCmd(), a.snippetCmd(), a.backupCmd())
	return root
}

func envOr(name, otherwise string) string {
	if v := os.Getenv(name); v != "" {
		return v
	}
	return otherwise
}

// Exactly takes n arguments, which the command's usage names. What is wrong with others is said with an example.
func Exactly(n int) cobra.PositionalArgs { return between(n, n) }

// UpTo takes up to n arguments.
func UpTo(n int) cobra.PositionalArgs { return between(0, n) }

// Nothing takes no arguments.
func Nothing(c *cobra.Command, args []string) error { return between(0, 0)(c, args) }

func between(least, most int) cobra.PositionalArgs {
	return func(c *cobra.Command, args []string) error {
		var names []string
		for _, name := range strings.Fields(c.Use)[1:] {
			if strings.HasPrefix(name, "-") {
				break
			}
			names = append(names, strings.Trim(name, "[]"))
		}
		what := ""
		switch {
		case len(args) < least:
			what = fmt.Sprintf("%s needs %s", c.CommandPath(), strings.Join(names[len(args):least], " and "))
		case len(args) <= most:
			return nil
		case most == 0:
			what = fmt.Sprintf("%s takes no arguments; %q is one too many", c.CommandPath(), args[0])
		default:
			takes := "only " + strings.Join(names[:min(most, len(names))], " and ")
			if most > len(names) { // several of the last
				takes = fmt.Sprintf("at most %d arguments", most)
			}
			what = fmt.Sprintf("%s takes %s; %q is one too many", c.CommandPath(), takes, args[most])
		}
		return usage(c, what)
	}
}

// required says which flags a command can't do without.
func required(c *cobra.Command, names ...string) {
	c.PreRunE = func(c *cobra.Command, _ []string) error {
		var missing []string
		for _, name := range names {
			if !c.Flags().Changed(name) {
				missing = append(missing, "--"+name)
			}
		}
		if len(missing) > 0 {
			return usage(c, c.CommandPath()+" needs "+strings.Join(missing, " and "))
		}
		return nil
	}
}

// usage says what is wrong with a command line, with an example of a right one.
func usage(c *cobra.Command, what string) error {
	if example, _, _ := strings.Cut(strings.TrimSpace(c.Example), "\n"); example != "" {
		what += "\nexample: " + example
	}
	return fmt.Errorf("%s\nsee: %s --help", what, c.CommandPath())
}

// group is a command that only holds others.
func group(use, short string, cmds ...*cobra.Command) *cobra.Command {
	c := &cobra.Command{Use: use, Short: short, Args: commandsAlone, RunE: func(c *cobra.Command, _ []string) error {
		_ = c.Help()
		return &Exit{verdict.ExitUsage, nil}
	}}
	c.AddCommand(cmds...)
	return c
}

// commandsAlone takes nothing but the commands below.
func commandsAlone(c *cobra.Command, args []string) error {
	if len(args) > 0 {
		return fmt.Errorf("%s has no command %q\nsee: %s --help", c.CommandPath(), args[0], c.CommandPath())
	}
	return nil
}

// Client gives the API's client: address and key come from flags, else from the
// environment, else from what login kept.
func (a *App) Client() (*api.ClientWithResponses, error) {
	kept, err := ReadLogin()
	if err != nil {
		return nil, err
	}
	if a.URL == "" {
		a.URL = envOr("TESSELLANT_URL", kept.URL)
	}
	if a.URL == "" {
		a.URL = DefaultURL
	}
	if a.Key == "" {
		a.Key = os.Getenv("TESSELLANT_KEY")
	}
	if a.Key == "" && a.URL == kept.URL { // a key is for the service that it was given for
		a.Key = kept.Key
	}
	if a.Key == "" {
		return nil, fmt.Errorf("no key for %s: sign in with: tessellant login, or set TESSELLANT_KEY to a key of your workspace (the service printed the first one when it was first started)", a.URL)
	}
	u, err := url.Parse(a.URL)
	if err != nil || u.Host == "" || (u.Scheme != "http" && u.Scheme != "https") {
		return nil, fmt.Errorf("%q is no address of a service; write it as %s", a.URL, DefaultURL)
	}
	way := http.DefaultTransport
	if !a.JSON { // JSON has its own escapes, and is for programs
		way = plainly{way}
	}
	return api.NewClientWithResponses(a.base(), api.WithHTTPClient(&http.Client{Transport: way}), api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
		r.Header.Set("Authorization", "Bearer "+a.Key)
		return nil
	}))
}

// base is where the API begins, once Client has found the address.
func (a *App) base() string { return strings.TrimSuffix(a.URL, "/") + api.Prefix }

// Failed is the error of an answer that is none of the good ones.
func (a *App) Failed(doing string, err error, r answer) error {
	return a.Problem(doing, err, status(r), problemOf(r), bodyOf(r))
}

// Problem gives the error of an answer that is none of the good ones.
func (a *App) Problem(doing string, err error, status int, p *api.Problem, body []byte) error {
	if err != nil {
		var ue *url.Error
		if errors.As(err, &ue) {
			err = ue.Err
		}
		return &Exit{verdict.ExitUnreachable, fmt.Errorf("could not %s: the service at %s can't be reached: %w\n  what to do: start it with: tessellant serve, or set TESSELLANT_URL", doing, a.URL, err)}
	}
	if p == nil {
		return &Exit{verdict.ExitUnreachable, fmt.Errorf("could not %s: what answers at %s is no Tessellant service (status %d: %s)", doing, a.URL, status, clip(string(body)))}
	}
	return &Exit{verdict.ExitUnreachable, errors.New(problemText(p))}
}

func problemText(p *api.Problem) string {
	s := p.Title
	if p.Detail != nil {
		s += ": " + *p.Detail
	}
	if p.Findings != nil {
		for _, f := range *p.Findings {
			if f.Device == nil && p.Detail != nil && f.What == *p.Detail {
				continue // that is said already, and what to do follows
			}
			s += "\n  " + findingText(f)
		}
	}
	if p.Remedy != nil {
		s += "\n  what to do: " + *p.Remedy
	}
	return s
}

func findingText(f api.Finding) string {
	where := ""
	switch {
	case f.Device != nil:
		where = strings.TrimSpace(*f.Device+" "+Deref(f.Variant)) + ": "
	case f.File != nil && f.Line != nil:
		where = fmt.Sprintf("%s:%d: ", *f.File, *f.Line)
	case f.File != nil:
		where = *f.File + ": "
	}
	return fmt.Sprintf("%s (%s; %s)", where+f.What, f.Level, f.Remedy)
}

func clip(s string) string {
	return foreign.Name(strings.Join(strings.Fields(s), " "), 120)
}

// Show writes v as JSON where that was asked for; else what f writes.
func (a *App) Show(v any, f func()) error {
	if !a.JSON {
		f()
		return nil
	}
	enc := json.NewEncoder(a.Out)
	enc.SetIndent("", "  ")
	return enc.Encode(v)
}

// terminal reports whether w is a terminal, and how wide.
func terminal(w io.Writer) (width int, ok bool) {
	f, isFile := w.(*os.File)
	if !isFile || !term.IsTerminal(int(f.Fd())) || os.Getenv("TERM") == "dumb" {
		return 0, false
	}
	width, _, err := term.GetSize(int(f.Fd()))
	return width, err == nil
}

// given is nil where nothing was said.
func given(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// listed is a list, or nil where it is empty.
func listed[T any](all []T) *[]T {
	if len(all) == 0 {
		return nil
	}
	return &all
}

// mapped is a map, or nil where it is empty.
func mapped[M ~map[string]string](m M) *map[string]string {
	if len(m) == 0 {
		return nil
	}
	plain := map[string]string(m)
	return &plain
}

// Deref is what a pointer points to, or nothing.
func Deref[T any](p *T) T {
	var zero T
	if p == nil {
		return zero
	}
	return *p
}

// ago says how long ago something was, roughly.
func ago(t time.Time) string {
	d := time.Since(t)
	switch {
	case d < time.Minute:
		return "just now"
	case d < time.Hour:
		return fmt.Sprintf("%d min ago", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h ago", int(d.Hours()))
	}
	return t.Local().Format("2 Jan 2006")
}

// BytesText writes a size for people.
func BytesText(n int64) string {
	switch {
	case n < 10_000:
		return fmt.Sprintf("%d B", n)
	case n < 1_000_000:
		return fmt.Sprintf("%.1f kB", float64(n)/1e3)
	case n < 10_000_000_000:
		return fmt.Sprintf("%.1f MB", float64(n)/1e6)
	}
	return fmt.Sprintf("%.1f GB", float64(n)/1e9)
}

// TookText writes a duration for people.
func TookText(d time.Duration) string {
	switch {
	case d < 10*time.Second:
		return fmt.Sprintf("%.1f s", d.Seconds())
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	}
	return fmt.Sprintf("%d:%02d min", int(d.Minutes()), int(d.Seconds())%60)
}

func (a *App) whoamiCmd() *cobra.Command {
	return &cobra.Command{Use: "whoami", Short: "Show which workspace your key belongs to", Args: Nothing,
		Example: "  tessellant whoami",
		RunE: func(c *cobra.Command, _ []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.GetMeWithResponse(c.Context())
			if err != nil || r.JSON200 == nil {
				return a.Failed("ask who you are", err, r)
			}
			return a.Show(r.JSON200, func() {
				fmt.Fprintf(a.Out, "workspace %s, role %s, key %q, at %s (version %s)\n", r.JSON200.Workspace, r.JSON200.Role, r.JSON200.Key, a.URL, r.JSON200.Version)
			})
		}}
}
