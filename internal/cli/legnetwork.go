package cli

// The network log of a leg: a list of exchanges, and one of them whole.

import (
	"context"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/har"
)

// networkChoice is what of a network log is asked for.
type networkChoice struct {
	text, order string
	failed      bool
	most        int
	curl        bool
}

func (a *App) legNetworkCmd() *cobra.Command {
	var q networkChoice
	c := &cobra.Command{Use: "network LEG [N]", Short: "Show what the app asked of servers, and what came back", Args: between(1, 2),
		Long: "Show the network log of a leg: what the app asked of servers through the host's proxy, with times from the start of the attempt.\n" +
			"With N, show one exchange with its headers and bodies. A connection whose HTTPS was not opened has no status.\n" +
			"The file network.har, which leg fetch downloads, opens in any viewer of HAR.\n\n" + legHelp,
		Example: "  tessellant leg network newest/orr-01\n  tessellant leg network newest/orr-01 --order worst --most 5\n  tessellant leg network newest/orr-01 1\n  tessellant leg network newest/orr-01 1 --curl",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 1 {
				if q.curl {
					return usage(c, "--curl needs the number of an exchange")
				}
				return a.legNetwork(c.Context(), args[0], q)
			}
			n, err := strconv.Atoi(args[1])
			if err != nil || n < 1 {
				return usage(c, fmt.Sprintf("%q is no number of an exchange; they are counted from 1", args[1]))
			}
			return a.legExchange(c.Context(), args[0], n, q.curl)
		}}
	c.Flags().StringVar(&q.text, "text", "", "only exchanges with this text in method, address, status, type or error")
	c.Flags().BoolVar(&q.failed, "failed", false, "only exchanges without an answer, or with a status from 400 on")
	c.Flags().StringVar(&q.order, "order", "time", "time, worst (failed ones first, then the slowest) or size")
	c.Flags().IntVar(&q.most, "most", 200, "show at most this many")
	c.Flags().BoolVar(&q.curl, "curl", false, "write the request as a command for curl")
	return c
}

func (a *App) legNetwork(ctx context.Context, id string, q networkChoice) error {
	client, l, err := a.getLeg(ctx, id)
	if err != nil {
		return err
	}
	w, err := a.exchanges(ctx, client, l.Id, q)
	if err != nil {
		return err
	}
	rows := w.Items
	if a.JSON {
		return a.Show(w, nil)
	}
	if len(rows) == 0 {
		fmt.Fprintln(a.Out, "There are no exchanges. "+whyNoNetwork(l, w, q))
		return nil
	}
	t := NewTable(a.Out, "n", "at", "took", "status", "method", "address", "type", "sent", "received")
	for _, r := range rows {
		t.AppendRow(table.Row{r.N, clock(r.At), tookMS(r.Took), statusOf(r), r.Method, foreign.Name(r.Url, 70), foreign.Name(Deref(r.Type), 24), BytesText(r.Sent), BytesText(r.Received)})
	}
	t.Render()
	if len(rows) < w.Rows {
		fmt.Fprintf(a.Out, "\n%d more; show them with --most %d\n", w.Rows-len(rows), w.Rows)
	}
	for _, r := range rows {
		if r.Status == 0 && r.Error == nil && string(r.Kind) == har.Connection {
			fmt.Fprintln(a.Out, "\nclosed: HTTPS that was not opened. How to see its contents: docs/7-evidence.md")
			break
		}
	}
	fmt.Fprintf(a.Out, "\nShow one with: tessellant leg network %s %d\n", id, rows[0].N)
	return nil
}

// exchanges asks for the exchanges of a leg that are chosen, and how many there are.
func (a *App) exchanges(ctx context.Context, client *api.ClientWithResponses, leg string, q networkChoice) (*api.NetworkWindow, error) {
	order := api.GetNetworkParamsOrder(q.order)
	var rows []api.NetworkRow
	var w *api.NetworkWindow
	for w == nil || len(rows) < min(q.most, w.Rows) {
		from, limit := len(rows), min(max(q.most-len(rows), 1), 1000)
		r, err := client.GetNetworkWithResponse(ctx, leg, &api.GetNetworkParams{Text: given(q.text), Failed: &q.failed, Order: &order, From: &from, Limit: &limit})
		if err != nil || r.JSON200 == nil {
			return nil, a.Failed("read the network log", err, r)
		}
		w = r.JSON200
		rows = append(rows, w.Items...)
		if len(w.Items) == 0 {
			break
		}
	}
	w.Items = rows
	return w, nil
}

// statusOf is the status of an exchange, or what there is in its place.
func statusOf(r api.NetworkRow) string {
	switch {
	case r.Status > 0:
		return strconv.Itoa(r.Status)
	case r.Error != nil:
		return "failed"
	case string(r.Kind) == har.Connection:
		return "closed" // what is in it was not seen
	}
	return "0"
}

// whyNoNetwork says why a network log is empty.
func whyNoNetwork(l *api.Leg, w *api.NetworkWindow, q networkChoice) string {
	switch {
	case q.text != "" || q.failed:
		return "None is as you chose."
	case l.Recording["network"] == "off":
		return "The network log was switched off (recording network:off)."
	case w.Attempt == 0:
		return "The leg still waits for its device."
	case w.Live:
		return "None have come yet; try again in a few seconds."
	}
	return "The app asked nothing of the network, or does not mind the device's proxy; leg show --timeline says more."
}

// tookMS writes a time in ms.
func tookMS(ms float64) string {
	switch {
	case ms < 10:
		return fmt.Sprintf("%.1f ms", ms)
	case ms < 1000:
		return fmt.Sprintf("%.0f ms", ms)
	}
	return TookText(time.Duration(ms * float64(time.Millisecond)))
}

func (a *App) legExchange(ctx context.Context, id string, n int, curl bool) error {
	client, l, err := a.getLeg(ctx, id)
	if err != nil {
		return err
	}
	r, err := client.GetExchangeWithResponse(ctx, l.Id, n, nil)
	if err != nil || r.JSON200 == nil {
		return a.Failed("show the exchange", err, r)
	}
	e := *r.JSON200
	if curl {
		fmt.Fprintln(a.Out, Curl(e))
		return nil
	}
	return a.Show(e, func() { a.exchange(e) })
}

func (a *App) exchange(e har.Entry) {
	clean := func(s string) string { return foreign.Fit(s, 64<<10) }
	fmt.Fprintf(a.Out, "%s %s\n", e.Request.Method, clean(e.Request.URL))
	status := ""
	if e.Response.Status > 0 {
		status = strings.TrimSpace(fmt.Sprintf("%d %s", e.Response.Status, clean(e.Response.StatusText)))
	}
	facts(a.Out, "status", status, "failed", clean(e.Error), "note", clean(e.Note), "at", clock(e.At), "took", tookMS(e.Time), "of it", times(e.Timings), "server", e.Server,
		"protocol", strings.TrimSpace(e.Response.HTTPVersion+" "+e.TLS), "sent", BytesText(e.Sent), "received", BytesText(e.Received))
	part := func(title string, headers []har.Pair, c *har.Content) {
		if len(headers) == 0 && c == nil {
			return
		}
		fmt.Fprintf(a.Out, "\n%s\n", title)
		for _, h := range headers {
			fmt.Fprintf(a.Out, "    %s: %s\n", clean(h.Name), clean(h.Value))
		}
		if c == nil || c.Size == 0 {
			return
		}
		fmt.Fprintln(a.Out)
		indented(a.Out, 4, clean(c.Text))
		if c.Comment != "" {
			fmt.Fprintf(a.Out, "    (%s)\n", c.Comment)
		}
	}
	part("Asked", e.Request.Headers, e.Request.Post)
	part("Answered", e.Response.Headers, &e.Response.Content)
}

// times says how long each part of an exchange took.
func times(t har.Timings) string {
	var said []string
	for _, x := range []struct {
		name string
		ms   float64
	}{{"name", t.DNS}, {"connecting", t.Connect}, {"sending", t.Send}, {"waiting", t.Wait}, {"receiving", t.Receive}} {
		if x.ms > 0.05 {
			said = append(said, x.name+" "+tookMS(x.ms))
		}
	}
	return strings.Join(said, ", ")
}

// Curl writes a request as a command for curl.
func Curl(e har.Entry) string {
	quote := func(s string) string { return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'" }
	parts := []string{"curl " + quote(e.Request.URL)}
	if e.Request.Method != "GET" {
		parts = append(parts, "-X "+quote(e.Request.Method))
	}
	for _, h := range e.Request.Headers {
		switch strings.ToLower(h.Name) {
		case "content-length", "connection", "proxy-connection", "accept-encoding":
			continue
		}
		parts = append(parts, "-H "+quote(h.Name+": "+h.Value))
	}
	if e.Request.Post != nil && e.Request.Post.Text != "" {
		parts = append(parts, "--data-raw "+quote(e.Request.Post.Text))
	}
	return strings.Join(parts, " \\\n  ")
}
