package cli

// Sessions opened from outside: lists, marks, reports, and programs to begin with.

import (
	"context"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/bidi"
	"tessellant/internal/core/conditions"
	"tessellant/internal/core/ours"
	"tessellant/internal/core/w3c"
)

const sessionHelp = "SESSION is an id, or newest."

func (a *App) sessionCmd() *cobra.Command {
	var inGroup, device string
	var going bool
	var after string
	list := &cobra.Command{Use: "list", Short: "List sessions, the newest first", Args: Nothing,
		Long:    "List the sessions that W3C WebDriver clients opened at /webdriver, newest first. Also shows how many are open and how many wait for a device.",
		Example: "  tessellant session list\n  tessellant session list --group nightly\n  tessellant session list --going --device orr-01",
		RunE: func(c *cobra.Command, _ []string) error {
			return a.sessionList(c.Context(), inGroup, device, going, after)
		}}
	list.Flags().StringVar(&inGroup, "group", "", "only sessions of this group (the capability tessellant:group)")
	list.Flags().StringVar(&device, "device", "", "only sessions on the device with this serial")
	list.Flags().BoolVar(&going, "going", false, "only sessions that have not ended")
	list.Flags().StringVar(&after, "after", "", "continue after this session; an earlier list printed the id")
	var withTimeline bool
	show := &cobra.Command{Use: "show SESSION", Short: "Show what happened in a session", Args: Exactly(1),
		Long:    "Show what happened in a session: cases, failures, files. With --timeline it also shows every command.\n\n" + sessionHelp,
		Example: "  tessellant session show newest\n  tessellant session show newest --timeline",
		RunE:    func(c *cobra.Command, args []string) error { return a.sessionShow(c.Context(), args[0], withTimeline) }}
	show.Flags().BoolVar(&withTimeline, "timeline", false, "show every command, step and case")
	stop := &cobra.Command{Use: "stop SESSION", Short: "Stop a session", Args: Exactly(1),
		Long:    "Stop a session. A waiting session ends at once. A running session ends within seconds and keeps its evidence.\n\n" + sessionHelp,
		Example: "  tessellant session stop newest",
		RunE:    func(c *cobra.Command, args []string) error { return a.sessionStop(c.Context(), args[0]) }}
	fetch := &cobra.Command{Use: "fetch SESSION DIR|FILE.zip", Short: "Download all files of a session", Args: Exactly(2),
		Long:    "Download all files of a session, as one zip or into DIR, which is created: leg.json, timeline.jsonl, device.log, remote-end.log, video.mp4, screenshots/ and trees/.\n\n" + sessionHelp,
		Example: "  tessellant session fetch newest evidence/\n  tessellant session fetch newest evidence.zip",
		RunE: func(c *cobra.Command, args []string) error {
			s, err := a.getSession(c.Context(), args[0])
			if err != nil {
				return err
			}
			return a.fetchTo(c.Context(), s.Id, args[1])
		}}
	var caseName, message string
	mark := &cobra.Command{Use: "mark SESSION VERDICT", Short: "Set the verdict of a session, or of a case in it", Args: Exactly(2),
		Long:    "Set the verdict of a session: passed or failed. With --case, set the verdict of one case, which can also be skipped.\nYou can do this while the session runs and afterwards, and you can change it.\n\n" + sessionHelp,
		Example: "  tessellant session mark newest passed\n  tessellant session mark newest failed --case 'opens a shore' --message 'the chart was empty'",
		RunE: func(c *cobra.Command, args []string) error {
			return a.sessionMark(c.Context(), args[0], args[1], caseName, message)
		}}
	mark.Flags().StringVar(&caseName, "case", "", "name of the case; default: the whole session")
	mark.Flags().StringVar(&message, "message", "", "why")
	var of string
	report := &cobra.Command{Use: "report FILE", Short: "Upload the test runner's JUnit XML", Args: Exactly(1),
		Long:    "Upload the JUnit XML that the test runner wrote. Its cases become the cases of the session, each at its own time.\nThey replace the cases of an earlier report.\n\n" + strings.Replace(sessionHelp, "SESSION", "--session", 1),
		Example: "  tessellant session report results.xml\n  tessellant session report results.xml --session 01HZY3V7Q2M4T8K6N9R5S1W0XB",
		RunE:    func(c *cobra.Command, args []string) error { return a.sessionReport(c.Context(), of, args[0]) }}
	report.Flags().StringVar(&of, "session", "newest", "session that the report belongs to")
	var markdown bool
	commands := &cobra.Command{Use: "commands [WORD]", Short: "List the commands and capabilities of /webdriver", Args: UpTo(1),
		Long:    "List every command of W3C WebDriver and of WebDriver BiDi with what it does here, our own commands, and our capabilities.\nWith WORD, list only those with WORD in their name or path.",
		Example: "  tessellant session commands\n  tessellant session commands element\n  tessellant session commands --markdown > webdriver-commands.md",
		RunE: func(_ *cobra.Command, args []string) error {
			if markdown {
				fmt.Fprint(a.Out, ours.Reference())
				return nil
			}
			return a.sessionCommands(strings.ToLower(strings.Join(args, "")))
		}}
	commands.Flags().BoolVar(&markdown, "markdown", false, "print the documentation page")
	return group("session", "List and manage WebDriver sessions", commands, list, show, stop, fetch, mark, report)
}

func (a *App) sessionCommands(word string) error {
	type line struct {
		Name  string `json:"name"`
		How   string `json:"how"`
		About string `json:"about"`
	}
	var out []line
	add := func(name, how, about string) {
		if word == "" || strings.Contains(strings.ToLower(name+" "+how), word) {
			out = append(out, line{name, how, about})
		}
	}
	for _, list := range [][]w3c.Command{w3c.Commands, w3c.Extensions} {
		for _, c := range list {
			about := c.About
			if why := c.Reason(w3c.Native); why != "" {
				about = "unsupported operation: " + why
			}
			add(c.Name, c.Method+" "+strings.Replace(c.Path, "/session/{session id}", "…", 1), about)
		}
	}
	for _, v := range bidi.Verbs {
		add(v.Name, "BiDi", v.Here())
	}
	for _, x := range ours.Extensions {
		add(w3c.Prefix+":"+x.Name, x.Takes, x.About)
	}
	return a.Show(map[string]any{"items": out}, func() {
		if len(out) == 0 {
			fmt.Fprintln(a.Out, "Nothing has that in its name or path.")
			return
		}
		t := NewTable(a.Out, "command or capability", "how", "what it does here")
		for _, l := range out {
			t.AppendRow(table.Row{l.Name, l.How, l.About})
		}
		t.Render()
	})
}

func (a *App) getSession(ctx context.Context, id string) (*api.Session, error) {
	client, err := a.Client()
	if err != nil {
		return nil, err
	}
	r, err := client.GetSessionWithResponse(ctx, id)
	if err != nil || r.JSON200 == nil {
		return nil, a.Failed("show the session", err, r)
	}
	return r.JSON200, nil
}

func (a *App) sessionList(ctx context.Context, group, device string, going bool, after string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	p := api.ListSessionsParams{}
	if group != "" {
		p.Group = &group
	}
	if device != "" {
		p.Device = &device
	}
	if going {
		p.Going = &going
	}
	if after != "" {
		p.After = &after
	}
	r, err := client.ListSessionsWithResponse(ctx, &p)
	if err != nil || r.JSON200 == nil {
		return a.Failed("list the sessions", err, r)
	}
	return a.Show(r.JSON200, func() {
		if len(r.JSON200.Items) == 0 {
			fmt.Fprintln(a.Out, "No session here. See how to open one with: tessellant snippet python")
			return
		}
		fmt.Fprintf(a.Out, "%s, %d waiting for a device\n\n", Plural(r.JSON200.Open, "session")+" open", r.JSON200.Waiting)
		t := NewTable(a.Out, "session", "group", "name", "device", "verdict", "cases", "opened")
		for _, s := range r.JSON200.Items {
			device := ""
			if s.Device != nil {
				device = s.Device.Serial
			}
			t.AppendRow(table.Row{s.Id, clipTo(s.Group, 24), clipTo(s.Name, 32), device, sessionState(s), sessionCases(s), ago(s.Created)})
		}
		t.Render()
		a.more(r.JSON200.Next)
	})
}

// sessionState says how a session stands, in a word or two.
func sessionState(s api.Session) string {
	switch {
	case s.Verdict != nil && s.Inferred:
		return string(*s.Verdict) + " (inferred)"
	case s.Verdict != nil:
		return string(*s.Verdict)
	case s.Place != nil:
		return fmt.Sprintf("waiting, number %d", *s.Place)
	case s.Stopping != nil:
		return "stopping"
	}
	return string(s.Stage)
}

// sessionCases counts a session's cases by verdict.
func sessionCases(s api.Session) string {
	var out []string
	for _, v := range []string{"passed", "failed", "crashed", "expired", "flaky", "skipped"} {
		if n := s.Cases[v]; n > 0 {
			out = append(out, fmt.Sprintf("%d %s", n, v))
		}
	}
	return strings.Join(out, ", ")
}

func (a *App) sessionShow(ctx context.Context, id string, withTimeline bool) error {
	s, err := a.getSession(ctx, id)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.Show(s, nil)
	}
	client, l, err := a.getLeg(ctx, s.Id)
	if err != nil {
		return err
	}
	a.sessionText(s, "conditions", conditions.Set(Deref(l.Conditions)).String())
	return a.attempts(ctx, client, l, withTimeline, "tessellant session fetch "+s.Id+" DIR")
}

var endings = map[string]string{"client": "ended by its client", "idle": "its client sent nothing any more", "limit": "its time limit was reached", "lost": "its device or host went away", "stopped": "stopped by a person", "never": "it did not begin"}

// sessionText writes what a session is, and what else is known of it: names and values.
func (a *App) sessionText(s *api.Session, more ...string) {
	device, took := "none yet", ""
	if s.Device != nil {
		device = s.Device.Serial + ": " + s.Device.Model + ", " + s.Device.System
		if s.Device.Simulated {
			device += " (simulated)"
		}
	} else if s.Ended != nil {
		device = "none"
	}
	if s.Started != nil && s.Ended != nil {
		took = TookText(s.Ended.Sub(*s.Started))
	}
	standing := "stage"
	if s.Verdict != nil {
		standing = "verdict"
	}
	facts(a.Out, append([]string{"session", s.Id, "group", s.Group, "name", s.Name, "build", s.Build, "where", strings.Join(s.Where, " "), "device", device, standing, sessionState(*s), "because", clipTo(Deref(s.Message), 200),
		"ended", endings[Deref(s.How)], "took", took}, more...)...)
}

func (a *App) sessionStop(ctx context.Context, id string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.StopSessionWithResponse(ctx, id)
	if err != nil || r.JSON200 == nil {
		return a.Failed("stop the session", err, r)
	}
	return a.Show(r.JSON200, func() { fmt.Fprintf(a.Out, "session %s is ended\n", r.JSON200.Id) })
}

func (a *App) sessionMark(ctx context.Context, id, v, caseName, message string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	m := api.Mark{Verdict: api.Verdict(v)}
	if caseName != "" {
		m.Case = &caseName
	}
	if message != "" {
		m.Message = &message
	}
	r, err := client.MarkSessionWithResponse(ctx, id, m)
	if err != nil || r.JSON200 == nil {
		return a.Failed("mark the session", err, r)
	}
	return a.Show(r.JSON200, func() { a.sessionText(r.JSON200) })
}

func (a *App) sessionReport(ctx context.Context, id, file string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	f, err := os.Open(file)
	if err != nil {
		return err
	}
	defer f.Close()
	ctx, cancel := context.WithTimeout(ctx, 10*time.Minute)
	defer cancel()
	r, err := client.ReportSessionWithBodyWithResponse(ctx, id, "application/xml", f)
	if err != nil || r.JSON200 == nil {
		return a.Failed("hand in the report", err, r)
	}
	return a.Show(r.JSON200, func() { a.sessionText(r.JSON200) })
}

func (a *App) snippetCmd() *cobra.Command {
	var p api.GetSnippetParams
	var build, group, name, where = "", "", "", []string{}
	c := &cobra.Command{Use: "snippet LANGUAGE", Short: "Print a program that opens a WebDriver session", Args: Exactly(1),
		ValidArgs: []string{"shell", "python", "node", "go", "java"},
		Long: "Print a program that opens a session on a device, reads its screen and ends the session. It needs only the standard library of the language.\n" +
			"LANGUAGE is shell, python, node, go or java. The program reads the key from TESSELLANT_KEY.",
		Example: "  tessellant snippet python --build kelpline/android@newest --where 'os>=12' > session.py\n  tessellant snippet shell --where maker=Orrery --group nightly",
		RunE: func(c *cobra.Command, args []string) error {
			for _, x := range []struct {
				from *string
				to   **string
			}{{&build, &p.Build}, {&group, &p.Group}, {&name, &p.Name}} {
				if *x.from != "" {
					*x.to = x.from
				}
			}
			if len(where) > 0 {
				p.Where = &where
			}
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.GetSnippetWithResponse(c.Context(), args[0], &p)
			if err != nil || r.JSON200 == nil {
				return a.Failed("write the snippet", err, r)
			}
			return a.Show(r.JSON200, func() {
				fmt.Fprint(a.Out, r.JSON200.Program)
				hint := fmt.Sprintf("\nSave it as %s and run it with: %s\n%s would do for it now.", r.JSON200.File, r.JSON200.Run, Plural(r.JSON200.Devices, "device"))
				if r.JSON200.Devices == 0 {
					hint = "\nNo device here would do for it; choose others with --where."
				}
				fmt.Fprintln(a.Err, hint)
			})
		}}
	f := c.Flags()
	f.StringVar(&build, "build", "", "the build to install")
	f.StringArrayVar(&where, "where", nil, "which devices are allowed, such as 'os>=12' or maker=Orrery; repeat for more")
	f.StringVar(&group, "group", "", "group to list its sessions in")
	f.StringVar(&name, "name", "", "name of the session")
	return c
}
