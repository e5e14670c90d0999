package main

// Who may do what: what asking costs each request.

import (
	"context"
	"log/slog"
	"path/filepath"
	"time"

	"tessellant/internal/core/access"
	"tessellant/internal/house"
)

// asking measures finding who shows a key, and whether they may, on a running service with its database.
func asking(dir string) error {
	ctx := context.Background()
	h, err := house.Start(ctx, house.Config{Listen: "127.0.0.1:0", Data: filepath.Join(dir, "access"), NoHost: true, Workspace: "bench", FirstKey: "tsl_a_key_for_the_bench_alone", Version: "bench", Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		return err
	}
	defer h.Close()
	const checks = 1000
	var took []time.Duration
	for end := time.Now().Add(12 * time.Second); time.Now().Before(end); { // long enough that the database is asked again
		start := time.Now()
		for range checks {
			who, err := h.Enter(ctx, "tsl_a_key_for_the_bench_alone")
			if err == nil {
				err = h.Allow(who, access.Test)
			}
			if err != nil {
				return err
			}
		}
		took = append(took, time.Since(start)/checks)
	}
	var sum time.Duration
	for _, d := range took {
		sum += d
	}
	mean, mid := sum/time.Duration(len(took)), median(took)
	return say("an authorisation check ÷ 20 µs", float64(mean)/float64(20*time.Microsecond), 1, "mean of %d thousand, the database's part included: %s; median %s", len(took), mean, mid)
}
