package cli

// Ways from apps on devices to servers on this machine.

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/coder/websocket"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/routes"
	"tessellant/internal/core/verdict"
	"tessellant/internal/tunnel"
)

func (a *App) routeCmd() *cobra.Command {
	var hold, run, of string
	open := &cobra.Command{Use: "open ROUTE...", Short: "Lead apps on a device to servers on your machine", Args: between(1, routes.Most),
		Long: `Lead apps on a device to servers on your machine, for as long as this command runs.

A ROUTE is [NAME:]PORT[=LOCAL]: an app that asks for NAME at PORT reaches the port LOCAL of 127.0.0.1 here. NAME is route.test unless given, LOCAL is PORT.
With 3000, an app reaches your server at http://route.test:3000. Other names than route.test must be allowed by an owner: tessellant workspace set --routes.

Say with --hold on which device: a hold, a session or a leg that runs, by its id or by the serial of its device. With --run, all legs of a run.
Apps reach the route through the device's proxy, as their HTTP library does. Nothing but these ports of your machine can be reached.
The routes end with Ctrl-C, or when the device is given back. A connection to the service that breaks is opened again.`,
		Example: "  tessellant route open 3000 --hold orr-01\n  tessellant route open 3000=8080 api.kelpline.test:443=8443 --hold newest\n  tessellant route open 3000 --run newest",
		RunE: func(c *cobra.Command, args []string) error {
			all, err := routes.ParseAll(args)
			if err != nil {
				return usage(c, err.Error())
			}
			switch {
			case (hold == "") == (run == ""):
				return usage(c, "say on which device with --hold, or on those of which run with --run")
			case run != "":
				r, err := a.getRun(c.Context(), run)
				if err != nil {
					return err
				}
				return a.routeRun(c.Context(), r.Id, all, a.saying())
			}
			return a.routeHold(c.Context(), hold, all)
		}}
	open.Flags().StringVar(&hold, "hold", "", whoseDevice)
	open.Flags().StringVar(&run, "run", "", "all legs of this run: a number, an id, or newest")
	list := &cobra.Command{Use: "list", Short: "List the routes that are open on a device", Args: Nothing, Example: "  tessellant route list --hold orr-01",
		RunE: func(c *cobra.Command, _ []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.ListRoutesWithResponse(c.Context(), of)
			if err != nil || r.JSON200 == nil {
				return a.Failed("list the routes", err, r)
			}
			return a.Show(r.JSON200, func() {
				if len(r.JSON200.Items) == 0 {
					fmt.Fprintln(a.Out, "No route is open. Open one with: tessellant route open 3000 --hold "+of)
					return
				}
				t := NewTable(a.Out, "apps ask for", "leads to the machine of", "open for")
				for _, x := range r.JSON200.Items {
					t.AppendRow([]any{x.At, x.By, leftText(time.Duration(x.Seconds) * time.Second)})
				}
				t.Render()
			})
		}}
	list.Flags().StringVar(&of, "hold", "", whoseDevice)
	required(list, "hold")
	return group("route", "Lead apps on devices to servers on your machine", open, list)
}

const whoseDevice = "a hold, a session or a leg: an id, the serial of its device, or newest"

const (
	routeAgain   = 300 * time.Millisecond // before a way that was cut is opened again, and then longer
	routeWait    = 5 * time.Second
	routeGivesUp = 2 * time.Minute
	routePoll    = time.Second
	routeGiven   = "the device is given back"
	localTakes   = 10 * time.Second
)

// saying prints lines.
func (a *App) saying() func(string, ...any) {
	return func(format string, args ...any) {
		if !a.JSON {
			fmt.Fprintf(a.Out, format+"\n", args...)
		}
	}
}

func (a *App) routeHold(ctx context.Context, ref string, all []routes.Route) error {
	opened := false
	say := a.saying()
	w := &way{a: a, all: all, say: say, opened: func() {
		if opened {
			say("The routes are open again.")
			return
		}
		opened = true
		for _, r := range all {
			say("%s on %s leads to 127.0.0.1:%d here.", addressOf(r), ref, r.Local)
		}
		say("Press Ctrl-C to close.")
	}}
	err := w.carry(ctx, ref)
	if ctx.Err() != nil && opened {
		say("Closed.")
		return nil
	}
	if err == nil {
		say("Closed: %s.", routeGiven)
	}
	return err
}

// addressOf is what an app asks for, as one writes it into an app.
func addressOf(r routes.Route) string {
	switch r.Port {
	case 80:
		return "http://" + r.Host
	case 443:
		return "https://" + r.Host
	}
	return "http://" + r.At()
}

// routeRun opens routes on the devices of all legs of a run, as they come, until the run is over or ctx ends.
func (a *App) routeRun(ctx context.Context, run string, all []routes.Route, say func(string, ...any)) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	var legs sync.WaitGroup
	defer legs.Wait()
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	going := map[string]bool{} // attempts
	for {
		r, err := client.GetRunWithResponse(ctx, run)
		if ctx.Err() != nil {
			return nil
		}
		if err == nil && r.JSON200 != nil { // else the service is away for a moment
			for _, l := range r.JSON200.Legs {
				attempt := fmt.Sprintf("%s/%d", l.Id, l.Attempts)
				if l.Stage != "running" || going[attempt] {
					continue
				}
				going[attempt] = true
				legs.Go(func() {
					w := &way{a: a, all: all, say: say, opened: func() { say("%s: the routes are open.", l.Serial) }}
					if err := w.carry(ctx, l.Id); err != nil && ctx.Err() == nil {
						say("%s: %v", l.Serial, err)
					}
				})
			}
			if r.JSON200.Ended != nil {
				return nil
			}
		}
		select {
		case <-time.After(routePoll):
		case <-ctx.Done():
			return nil
		}
	}
}

// watchRouted follows a run that was started here, with the routes that it wants, until it is over.
func (a *App) watchRouted(ctx context.Context, r *api.Run) error {
	all, err := routes.ParseAll(*r.Routes)
	if err != nil {
		return err
	}
	_, table := terminal(a.Out)
	var mu sync.Mutex
	var later []string
	say := func(format string, args ...any) {
		line := fmt.Sprintf(format, args...)
		mu.Lock()
		defer mu.Unlock()
		if table || a.JSON { // a table is being drawn
			if !slices.Contains(later, line) && len(later) < maxLater {
				later = append(later, line)
			}
			return
		}
		fmt.Fprintln(a.Out, line)
	}
	open, cancel := context.WithCancel(ctx)
	done := make(chan struct{})
	go func() {
		defer close(done)
		if err := a.routeRun(open, r.Id, all, say); err != nil {
			say("%v", err)
		}
	}()
	err = a.watch(ctx, r)
	cancel()
	<-done
	for _, line := range later {
		fmt.Fprintln(a.Err, line)
	}
	if ctx.Err() != nil {
		fmt.Fprintf(a.Err, "Its routes are closed. Open them again with: tessellant route open %s --run %d\n", strings.Join(*r.Routes, " "), r.Number)
	}
	return err
}

// maxLater is how many lines are told when a table is no longer drawn.
const maxLater = 100

// way is routes on one device.
type way struct {
	a      *App
	all    []routes.Route
	say    func(string, ...any)
	opened func() // is called each time that the routes are open

	status  int // of the service's last refusal
	mu      sync.Mutex
	failing map[byte]string // what was said of servers that can't be reached
}

// carry holds the routes open until the device is given back (no error), or ctx ends. A way that is cut is opened again.
func (w *way) carry(ctx context.Context, ref string) error {
	wait, cut, was := routeAgain, time.Now(), false
	for {
		ws, err := w.dial(ctx, ref)
		var refused *Exit
		if err == nil {
			was = true
			w.opened()
			s := &socket{ctx: ctx, ws: ws}
			_ = tunnel.Serve(ctx, s, w.connect)
			why := s.why()
			_ = ws.CloseNow()
			if why == routeGiven {
				return nil
			}
			if why == "it was opened anew" {
				return &Exit{verdict.ExitUnreachable, errors.New("the routes were opened by another terminal of yours, so they are closed here")}
			}
			wait, cut = routeAgain, time.Now()
			if ctx.Err() == nil {
				w.say("The way to the service was cut%s; it is opened again.", strings.TrimSuffix(" ("+why+")", " ()"))
			}
		} else if errors.As(err, &refused) && ctx.Err() == nil && (!was || w.status < http.StatusInternalServerError) {
			if was && (w.status == http.StatusNotFound || w.status == http.StatusUnprocessableEntity) { // it is over
				return nil
			}
			return err
		} else if ctx.Err() == nil && (!was || time.Since(cut) > routeGivesUp) {
			return w.a.Problem("open the route", err, 0, nil, nil)
		}
		select {
		case <-time.After(wait):
			wait = min(2*wait, routeWait)
		case <-ctx.Done():
			return context.Cause(ctx)
		}
	}
}

// dial opens the WebSocket. A refusal of the service is an *Exit.
func (w *way) dial(ctx context.Context, ref string) (*websocket.Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, routeGivesUp)
	defer cancel()
	q := url.Values{}
	for _, r := range w.all {
		q.Add("at", r.At())
	}
	if _, err := w.a.Client(); err != nil { // finds address and key
		return nil, &Exit{verdict.ExitUnreachable, err}
	}
	ws, resp, err := websocket.Dial(ctx, w.a.base()+"/hands/"+url.PathEscape(ref)+"/route?"+q.Encode(),
		&websocket.DialOptions{HTTPHeader: http.Header{"Authorization": {"Bearer " + w.a.Key}}})
	if err == nil {
		return ws, nil
	}
	if resp == nil {
		return nil, err
	}
	defer resp.Body.Close()
	w.status = resp.StatusCode
	raw, _ := io.ReadAll(io.LimitReader(resp.Body, 64<<10))
	var p *api.Problem
	if json.Unmarshal(raw, &p) != nil {
		p = nil
	}
	if resp.StatusCode >= http.StatusInternalServerError && p == nil {
		return nil, err
	}
	return nil, w.a.Problem("open the route", nil, resp.StatusCode, p, raw)
}

// connect connects to a server here.
func (w *way) connect(ctx context.Context, number byte) (net.Conn, error) {
	if int(number) >= len(w.all) {
		return nil, errors.New("there is no such route")
	}
	r := w.all[number]
	d := net.Dialer{Timeout: localTakes}
	c, err := d.DialContext(ctx, "tcp", "127.0.0.1:"+strconv.Itoa(r.Local))
	said := ""
	if err != nil {
		said = err.Error()
		var no *net.OpError
		if errors.As(err, &no) {
			said = no.Err.Error()
		}
		said = fmt.Sprintf("127.0.0.1:%d can't be reached: %s", r.Local, strings.TrimPrefix(said, "connect: "))
		err = errors.New(said)
	}
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.failing == nil {
		w.failing = map[byte]string{}
	}
	if said != w.failing[number] { // once, not for each connection
		w.failing[number] = said
		if said != "" {
			w.say("An app asked for %s, but %s. Is your server running?", r.At(), said)
		}
	}
	return c, err
}

// socket is a WebSocket as a stream of bytes.
type socket struct {
	ctx context.Context
	ws  *websocket.Conn
	r   io.Reader

	mu  sync.Mutex
	err error
}

// Read implements io.Reader.
func (s *socket) Read(b []byte) (int, error) {
	for {
		if s.r == nil {
			_, r, err := s.ws.Reader(s.ctx)
			if err != nil {
				return 0, s.failed(err)
			}
			s.r = r
		}
		n, err := s.r.Read(b)
		if errors.Is(err, io.EOF) {
			s.r, err = nil, nil
		}
		if n > 0 || err != nil {
			return n, s.failed(err)
		}
	}
}

func (s *socket) failed(err error) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.err == nil {
		s.err = err
	}
	return err
}

// why is what the service closed it with; "": it was cut.
func (s *socket) why() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var closed websocket.CloseError
	if errors.As(s.err, &closed) {
		return closed.Reason
	}
	return ""
}

// Write implements io.Writer.
func (s *socket) Write(b []byte) (int, error) {
	if err := s.ws.Write(s.ctx, websocket.MessageBinary, b); err != nil {
		return 0, err
	}
	return len(b), nil
}

// Close implements io.Closer.
func (s *socket) Close() error { return s.ws.CloseNow() }
