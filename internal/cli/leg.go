package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/conditions"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/timeline"
)

const legHelp = "LEG is an id, or RUN/SERIAL such as newest/orr-01."

func (a *App) legCmd() *cobra.Command {
	var withTimeline, follow bool
	show := &cobra.Command{Use: "show LEG", Short: "Show what happened on one device", Args: Exactly(1),
		Long:    "Show what happened on one device: cases, failures with expected and actual values, files.\nWith --timeline it also shows every command, every exchange with a server, step and check, with times from the start of the attempt. With --follow it shows them as they come, until the leg has ended.\n\n" + legHelp,
		Example: "  tessellant leg show newest/orr-01\n  tessellant leg show newest/orr-01 --timeline\n  tessellant leg show newest/orr-01 --follow",
		RunE: func(c *cobra.Command, args []string) error {
			if follow {
				return a.legFollow(c.Context(), args[0])
			}
			return a.legShow(c.Context(), args[0], withTimeline)
		}}
	show.Flags().BoolVar(&follow, "follow", false, "show every command, step and check as it comes, until the leg has ended")
	show.Flags().BoolVar(&withTimeline, "timeline", false, "show every command, step, check and exchange with a server")
	var level, tag string
	var followLog bool
	log := &cobra.Command{Use: "log LEG", Short: "Show the device log", Args: Exactly(1),
		Long:    "Show the device log, with times from the start of the attempt. With --follow, also what comes, until the leg has ended. " + legHelp,
		Example: "  tessellant leg log newest/orr-01 --level W\n  tessellant leg log newest/orr-01 --tag AndroidRuntime\n  tessellant leg log newest/orr-01 --follow",
		RunE: func(c *cobra.Command, args []string) error {
			return a.legLog(c.Context(), args[0], logChoice{level, tag, followLog})
		}}
	log.Flags().BoolVar(&followLog, "follow", false, "go on with what comes, until the leg has ended")
	log.Flags().StringVar(&level, "level", "V", "lowest level to show: V, D, I, W, E or F")
	log.Flags().StringVar(&tag, "tag", "", "only lines with this tag")
	fetch := &cobra.Command{Use: "fetch LEG DIR|FILE.zip", Short: "Download all files of a leg", Args: Exactly(2),
		Long:    "Download all files of a leg, as one zip or into DIR, which is created: leg.json, and for each attempt timeline.jsonl, device.log, video.mp4, screenshots/ and trees/.\nFiles of the last attempt are at the top; files of earlier attempts are in attempt-N.\n" + fetchHelp + "\n\n" + legHelp,
		Example: "  tessellant leg fetch newest/orr-01 evidence/\n  tessellant leg fetch newest/orr-01 evidence.zip",
		RunE: func(c *cobra.Command, args []string) error {
			return a.fetchTo(c.Context(), args[0], args[1])
		}}
	return group("leg", "Show results and evidence of one device in a run", show, log, a.legGaugesCmd(), a.legNetworkCmd(), a.legCompareCmd(), fetch)
}

func (a *App) getLeg(ctx context.Context, id string) (*api.ClientWithResponses, *api.Leg, error) {
	client, err := a.Client()
	if err != nil {
		return nil, nil, err
	}
	r, err := client.GetLegWithResponse(ctx, id)
	if err != nil || r.JSON200 == nil {
		return nil, nil, a.Failed("show the leg", err, r)
	}
	return client, r.JSON200, nil
}

func (a *App) legShow(ctx context.Context, id string, withTimeline bool) error {
	client, l, err := a.getLeg(ctx, id)
	if err != nil {
		return err
	}
	if a.JSON {
		return a.Show(l, nil)
	}
	v := l.Stage
	if l.Verdict != nil {
		v = string(*l.Verdict)
	}
	d := l.Device
	facts(a.Out, "leg", l.Id, "run", l.RunId, "device", fmt.Sprintf("%s: %s %s, %s, %s (%s)", d.Serial, d.Maker, d.Model, systemText(d), strings.TrimSuffix(widthText(d)+" wide, "+d.Language, ", "), kind(d)),
		"variant", Deref(l.Variant), "conditions", conditions.Set(Deref(l.Conditions)).String(), "build", l.Build, "package", l.Package, "verdict", v, "because", clipTo(Deref(l.Message), 200))
	return a.attempts(ctx, client, l, withTimeline, "tessellant leg fetch "+l.Id+" DIR")
}

// attempts writes what happened in the attempts of a leg, and how its files are fetched.
func (a *App) attempts(ctx context.Context, client *api.ClientWithResponses, l *api.Leg, withTimeline bool, fetch string) error {
	for i, at := range l.Attempts {
		last := i == len(l.Attempts)-1
		if len(l.Attempts) > 1 {
			fmt.Fprintf(a.Out, "\nAttempt %d on %s: %s %s\n", at.Number, at.Serial, Deref(at.Verdict), Deref(at.Message))
		}
		fmt.Fprintln(a.Out)
		t := NewTable(a.Out, "case", "verdict", "began", "took")
		for _, c := range at.Cases {
			cv, took := string(Deref(c.Verdict)), TookText(time.Duration(c.TookMs)*time.Millisecond)
			if cv == "" {
				cv, took = "running", ""
				if at.Stage == "done" {
					cv = "cut off"
				}
			}
			t.AppendRow(table.Row{c.Name, cv, clock(c.StartMs), took})
		}
		t.Render()
		for _, c := range at.Cases {
			a.failure(c)
		}
		if withTimeline && last {
			if err := a.timeline(ctx, client, l.Id, at.Number); err != nil {
				return err
			}
		}
		if at.EvidenceRemoved != nil {
			fmt.Fprintf(a.Out, "\nEvidence was removed %s, for its age or for want of room.\n", ago(*at.EvidenceRemoved))
		}
		if last && len(at.Artifacts) > 0 {
			count, size := map[string]int{}, int64(0)
			for _, f := range at.Artifacts {
				count[string(f.Kind)]++
				size += f.Size
			}
			var kinds []string
			if n := count["screenshot"]; n > 0 {
				kinds = append(kinds, Plural(n, "screenshot"))
			}
			for _, k := range []string{"video", "device-log", "gauges", "network", "looks", "remote-end-log", "output", "results", "timeline"} {
				if count[k] > 0 {
					kinds = append(kinds, strings.ReplaceAll(k, "-", " "))
				}
			}
			fmt.Fprintf(a.Out, "\n%s, %s: %s", Plural(len(at.Artifacts), "file"), BytesText(size), strings.Join(kinds, ", "))
			fmt.Fprintf(a.Out, "\nDownload them with: %s\n", fetch)
		}
	}
	return nil
}

// failure writes why a case did not pass.
func (a *App) failure(c api.CaseResult) {
	v := Deref(c.Verdict)
	if v == "" || v == api.Passed || v == api.Skipped {
		return
	}
	fmt.Fprintf(a.Out, "\n%s %s", c.Name, v)
	if c.Line != nil {
		fmt.Fprintf(a.Out, " at %s", *c.Line)
	}
	fmt.Fprintln(a.Out)
	if c.Tries != nil {
		for i, t := range *c.Tries {
			indented(a.Out, 4, fmt.Sprintf("try %d at %s: %s %s", i+1, clock(t.StartMs), t.Verdict, clipTo(Deref(t.Message), 200)))
		}
	}
	if c.Expected != nil {
		if about, _, ok := strings.Cut(Deref(c.Message), ": expected "); ok && about != "" {
			indented(a.Out, 4, about)
		}
		labelled(a.Out, 4, "expected", *c.Expected)
		labelled(a.Out, 4, "actual", *c.Actual)
	} else {
		indented(a.Out, 4, clipTo(Deref(c.Message), 400))
	}
	if v == api.Crashed && c.Trace != nil {
		// The first lines of the trace say again what was said.
		_, rest, _ := strings.Cut(*c.Trace, Deref(c.Message))
		lines := strings.Split(strings.TrimSpace(rest), "\n")
		for i, l := range lines {
			if i == 8 {
				fmt.Fprintf(a.Out, "        … %d lines more\n", len(lines)-i)
				break
			}
			fmt.Fprintln(a.Out, "        "+strings.TrimSpace(l))
		}
	}
	if c.Shot != nil {
		labelled(a.Out, 4, "screen", *c.Shot)
	}
}

// clock writes a moment on an attempt's clock.
func clock(ms int64) string {
	sign := ""
	if ms < 0 {
		sign, ms = "-", -ms
	}
	return fmt.Sprintf("%s%d:%02d.%03d", sign, ms/60000, ms/1000%60, ms%1000)
}

// Bytes gives the body of an answer that is no JSON, or the problem that came in its place.
func (a *App) Bytes(doing string, r *http.Response, err error) (io.ReadCloser, error) {
	if err != nil {
		return nil, a.Problem(doing, err, 0, nil, nil)
	}
	if r.StatusCode != http.StatusOK {
		defer r.Body.Close()
		body, _ := io.ReadAll(io.LimitReader(r.Body, 64<<10))
		p := &api.Problem{}
		if json.Unmarshal(body, p) != nil || p.Title == "" {
			p = nil
		}
		return nil, a.Problem(doing, nil, r.StatusCode, p, body)
	}
	return r.Body, nil
}

// events calls f with each event of an attempt's timeline, as far as it has come, and says whether more is to come. Behind: of one that goes on, only
// those behind this number.
func (a *App) events(ctx context.Context, client *api.ClientWithResponses, leg string, attempt, behind int, f func(timeline.Event)) (live bool, err error) {
	q := &api.GetTimelineParams{Attempt: &attempt}
	if behind > 0 {
		q.From = given(strconv.Itoa(behind))
	}
	for {
		r, err := client.GetTimelineWithResponse(ctx, leg, q)
		if err != nil || r.JSON200 == nil {
			return false, a.Failed("read the timeline", err, r)
		}
		for _, e := range r.JSON200.Events {
			if !a.JSON {
				for _, s := range []*string{&e.Case, &e.Name, &e.Answer, &e.Error, &e.Expected, &e.Actual, &e.Line, &e.Verdict, &e.File} {
					*s = foreign.Shown(*s)
				}
				for k, v := range e.Args {
					e.Args[k] = foreign.Shown(v)
				}
			}
			f(e)
		}
		if r.JSON200.Next == nil {
			return r.JSON200.Live, nil
		}
		q.From = r.JSON200.Next
	}
}

// timeline shows everything that happened in an attempt, the last of its leg, and what the app asked of servers meanwhile.
func (a *App) timeline(ctx context.Context, client *api.ClientWithResponses, leg string, attempt int) error {
	fmt.Fprintln(a.Out)
	t := NewTable(a.Out, "at", "what", "", "took", "script")
	w, err := a.exchanges(ctx, client, leg, networkChoice{order: "time", most: onTimeline})
	if err != nil {
		return err
	}
	asked := w.Items // of the last attempt, as is the timeline
	before := func(at int64) {
		for ; len(asked) > 0 && asked[0].At <= at; asked = asked[1:] {
			r := asked[0]
			t.AppendRow(table.Row{clock(r.At), "network", clipTo(r.Method+" "+foreign.Shown(r.Url)+" "+statusOf(r), 90), tookMS(r.Took), ""})
		}
	}
	_, err = a.events(ctx, client, leg, attempt, 0, func(e timeline.Event) {
		before(e.At)
		what, detail := eventText(e)
		took := ""
		if e.Kind == timeline.Command {
			took = fmt.Sprintf("%d ms", e.Took)
		}
		t.AppendRow(table.Row{clock(e.At), what, clipTo(detail, 90), took, e.Line})
	})
	if err != nil {
		return err
	}
	before(math.MaxInt64)
	t.Render()
	if w.Rows > onTimeline {
		fmt.Fprintf(a.Out, "\nOnly the first %d of %d exchanges are shown here; show them all with: tessellant leg network %s --most %d\n", onTimeline, w.Rows, leg, w.Rows)
	}
	return nil
}

const onTimeline = 1000 // exchanges

// eventText says in two words, or many, what an event is.
func eventText(e timeline.Event) (what, detail string) {
	what, detail = string(e.Kind), e.Name
	switch e.Kind {
	case timeline.Command:
		what, detail = e.Name, argText(e.Name, e.Args)
		if e.Answer != "" {
			detail = strings.TrimSpace(detail + " → " + e.Answer)
		}
	case timeline.Case:
		if n := e.Args["try"]; n != "" {
			detail += ", try " + n
		}
		if e.Verdict != "" {
			detail += " " + e.Verdict
		}
	case timeline.Check:
		detail = strings.TrimSpace(detail + " " + e.Actual)
	case timeline.Log:
		detail = e.Answer
	case timeline.Marker:
		if detail += " " + argText(e.Name, e.Args); e.Answer != "" {
			detail = strings.TrimSpace(detail) + ": " + e.Answer
		}
	}
	if e.Error != "" && e.Kind != timeline.Case {
		detail = strings.TrimSpace(detail + " ✗ " + e.Error)
	}
	if e.File != "" && e.Kind == timeline.Step {
		detail += "  [" + e.File + "]"
	}
	return what, detail
}

// argText says what a command was given, the locator first. An argument that its name ends with ("launch app") is not named again.
func argText(name string, args map[string]string) string {
	order := []string{"element", "on", "app", "x", "y", "from", "to", "text", "key", "times", "ms"}
	rank := func(key string) int {
		if i := slices.Index(order, key); i >= 0 {
			return i
		}
		return len(order)
	}
	keys := slices.SortedFunc(maps.Keys(args), func(a, b string) int { return cmp.Or(rank(a)-rank(b), strings.Compare(a, b)) })
	var parts []string
	for _, k := range keys {
		if k == "element" || k == "on" || strings.HasSuffix(name, " "+k) {
			parts = append(parts, args[k])
			continue
		}
		parts = append(parts, k+"="+args[k])
	}
	return strings.Join(parts, " ")
}
