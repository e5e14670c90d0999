package service_test

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/pools"
	"tessellant/internal/service"
)

// A catalogue of ten thousand devices is filtered, chosen from, checked and run on; what is said of it stays short.
func TestTenThousandDevices(t *testing.T) {
	d := set(t, "first")
	db, err := sqlx.Connect("mysql", d.dsn)
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	for from := 0; from < 10_000; from += 1000 {
		var rows []map[string]any
		for i := from; i < from+1000; i++ {
			f, err := json.Marshal(devices.Facts{Serial: fmt.Sprintf("d-%05d", i), Platform: "android", Maker: fmt.Sprint("Maker ", i%11), Model: fmt.Sprint("M", i%97), API: 26 + i%10, ABIs: []string{"arm64-v8a"}, Language: "en"})
			require.NoError(t, err)
			rows = append(rows, map[string]any{"id": fmt.Sprintf("%026d", i+1), "serial": fmt.Sprintf("d-%05d", i), "facts": f})
		}
		_, err := db.NamedExec("INSERT INTO devices (id, serial, unit, lab, host_id, state, why, seen, facts) VALUES (:id, :serial, :serial, 'adb', (SELECT id FROM hosts LIMIT 1), 'ready', '', now(3), :facts)", rows)
		require.NoError(t, err)
	}
	ctx, cancel := context.WithTimeout(ctx, time.Minute)
	defer cancel()
	page, next, err := d.Devices(ctx, d.Who, []string{"serial=d-0*", "maker=/^(?i:maker) [12]$/", "api>=30"}, "", 100)
	require.NoError(t, err)
	assert.Len(t, page, 100)
	assert.NotEmpty(t, next)
	pool, err := d.AddPool(ctx, d.Who, "different", pools.Definition{Take: pools.Differ, N: 50})
	require.NoError(t, err)
	assert.Equal(t, 10_001, pool.Matches)
	q := service.RunRequest{Build: "kelpline/android@newest", Package: "suite@1", Pool: "different", Variants: []conditions.Variant{{Name: "plain"}, {Name: "de", Conditions: conditions.Set{conditions.Language: "de"}}}}
	started, _, err := d.StartRun(ctx, d.Who, q)
	require.NoError(t, err)
	run, err := d.Run(ctx, d.Who, started.ID)
	require.NoError(t, err)
	plain := 0
	for _, l := range run.Legs {
		if l.Variant == "plain" {
			plain++
		}
	}
	assert.Equal(t, 50, plain)
	assert.Greater(t, len(run.Legs), 50, "those from API level 33 on can be set to German")
	// All of them, with a variant that most refuse: the plan is whole, and what is said of them has an end.
	q.Pool = ""
	p, err := d.CheckRun(ctx, d.Who, q)
	require.NoError(t, err)
	assert.Len(t, p.Devices, 10_001)
	assert.Greater(t, len(p.Legs), 10_001)
	assert.Less(t, len(p.Findings), 500)
	assert.True(t, strings.Contains(fmt.Sprint(p.Findings), "can't be set to language:de"), "%v", p.Findings)
	assert.Positive(t, p.Forecast.Whole.Low)
}
