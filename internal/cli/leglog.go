package cli

// The device log of a leg, from its file or, while the leg runs, from what has come so far.

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"tessellant/api"
	"tessellant/internal/core/devicelog"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
)

// logSoFar writes the log of a leg that runs, as far as it was uploaded.
func (a *App) logSoFar(ctx context.Context, client *api.ClientWithResponses, id, level, tag string) error {
	least, page, from := api.LogLevel(strings.ToUpper(level)), 500, 0
	q := &api.GetLogParams{Level: &least, From: &from, Limit: &page}
	if tag != "" {
		q.Tag = &tag
	}
	enc := json.NewEncoder(a.Out)
	for {
		r, err := client.GetLogWithResponse(ctx, id, q)
		if err != nil || r.JSON200 == nil {
			return a.Failed("read the log", err, r)
		}
		for _, l := range r.JSON200.Items {
			if a.JSON {
				_ = enc.Encode(map[string]any{"at": l.At, "pid": l.Pid, "level": l.Level, "tag": l.Tag, "text": l.Text})
				continue
			}
			fmt.Fprintf(a.Out, "%10s %s %-20s %s\n", clock(l.At), l.Level, l.Tag, l.Text)
		}
		if from += len(r.JSON200.Items); len(r.JSON200.Items) == 0 || from >= r.JSON200.Rows {
			return nil
		}
	}
}

func (a *App) legLog(ctx context.Context, id, level, tag string) error {
	least := strings.Index(devicelog.Levels, strings.ToUpper(level))
	if least < 0 || len(level) != 1 {
		return fmt.Errorf("--level is %q; it can be one of V D I W E F", level)
	}
	client, l, err := a.getLeg(ctx, id)
	if err != nil {
		return err
	}
	if len(l.Attempts) == 0 {
		return &Exit{verdict.ExitUnreachable, errors.New("there is no log yet: the leg still waits for its device")}
	}
	at := l.Attempts[len(l.Attempts)-1]
	file, ok := find(at, "device-log")
	if !ok {
		return a.logSoFar(ctx, client, id, level, tag)
	}
	zero := int64(0)
	if err := a.events(ctx, client, at, func(e timeline.Event) error {
		if e.Kind == timeline.Marker && e.Name == "clock" {
			zero, _ = strconv.ParseInt(e.Args["device_zero_ms"], 10, 64)
		}
		return nil
	}); err != nil {
		return err
	}
	r, err := a.artifact(ctx, client, file)
	if err != nil {
		return err
	}
	defer r.Close()
	lines := bufio.NewScanner(r)
	lines.Buffer(make([]byte, 64<<10), 4<<20)
	enc := json.NewEncoder(a.Out)
	for lines.Scan() {
		x, ok := devicelog.Parse(lines.Text(), at.Started.Year())
		if !ok || strings.IndexByte(devicelog.Levels, x.Level) < least || (tag != "" && x.Tag != tag) {
			continue
		}
		ms := x.At.UnixMilli() - zero
		if a.JSON {
			_ = enc.Encode(map[string]any{"at": ms, "device_time": x.At, "pid": x.PID, "tid": x.TID, "level": string(x.Level), "tag": x.Tag, "text": x.Text})
			continue
		}
		fmt.Fprintf(a.Out, "%10s %c %-20s %s\n", clock(ms), x.Level, x.Tag, x.Text)
	}
	return lines.Err()
}
