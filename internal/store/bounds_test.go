package store_test

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/work"
	"tessellant/internal/housetest"
	"tessellant/internal/store"
)

// raw opens a database beside the store, for what the store does not do.
func raw(t *testing.T, dsn string) *sql.DB {
	t.Helper()
	cfg, err := mysql.ParseDSN(dsn)
	require.NoError(t, err)
	cfg.MultiStatements = true
	db, err := sql.Open("mysql", cfg.FormatDSN())
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return db
}

func TestADatabaseThatDoesNotTellCapitalsApartIsSetRightOrRefused(t *testing.T) {
	dsn := housetest.DSN(t)
	db := raw(t, dsn)
	cfg, err := mysql.ParseDSN(dsn)
	require.NoError(t, err)
	_, err = db.Exec("ALTER DATABASE " + cfg.DBName + " COLLATE utf8mb4_general_ci")
	require.NoError(t, err)
	s, err := store.Open(t.Context(), dsn)
	require.NoError(t, err, "an empty one is set right")
	require.NoError(t, s.Close())
	var is string
	require.NoError(t, db.QueryRow("SELECT table_collation FROM information_schema.tables WHERE table_schema = database() AND table_name = 'artifacts'").Scan(&is))
	assert.Equal(t, "utf8mb4_nopad_bin", is)

	_, err = db.Exec("ALTER DATABASE " + cfg.DBName + " COLLATE utf8mb4_general_ci")
	require.NoError(t, err)
	_, err = store.Open(t.Context(), dsn)
	assert.ErrorContains(t, err, "collation utf8mb4_general_ci")
	assert.ErrorContains(t, err, "CREATE DATABASE")
}

func TestMigrationsCanBeRunAgainAfterACut(t *testing.T) {
	dsn := housetest.DSN(t)
	s, err := store.Open(t.Context(), dsn)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	db := raw(t, dsn)
	tables := func() (n int) {
		require.NoError(t, db.QueryRow("SELECT count(*) FROM information_schema.columns WHERE table_schema = database()").Scan(&n))
		return n
	}
	before := tables()
	// The statements of all migrations have been carried out, and none of them was noted.
	_, err = db.Exec("DELETE FROM goose_db_version WHERE version_id > 0")
	require.NoError(t, err)
	s, err = store.Open(t.Context(), dsn)
	require.NoError(t, err)
	require.NoError(t, s.Close())
	assert.Equal(t, before, tables())
}

func TestProcessesThatStartTogetherMigrateOneAfterTheOther(t *testing.T) {
	dsn := housetest.DSN(t)
	var all sync.WaitGroup
	errs := make([]error, 6)
	for i := range errs {
		all.Go(func() {
			s, err := store.Open(t.Context(), dsn)
			if err == nil {
				_ = s.Close()
			}
			errs[i] = err
		})
	}
	all.Wait()
	for _, err := range errs {
		assert.NoError(t, err)
	}
}

// crowd writes legs that wait: so many of each run of each workspace.
func (d *desk) crowd(t *testing.T, dsn string, workspaces, runs, legs int) {
	t.Helper()
	db := raw(t, dsn)
	for w := range workspaces {
		_, err := db.Exec(fmt.Sprintf("SET @w = '%026d'; INSERT INTO workspaces (id, name, created) VALUES (@w, 'crowd-%d', now())", w, w))
		require.NoError(t, err)
		for r := range runs {
			run := fmt.Sprintf("R%012d%013d", w, r)
			var q strings.Builder
			fmt.Fprintf(&q, "INSERT INTO runs (id, workspace_id, build_id, package_id, request, findings, limit_seconds, created) SELECT '%s', '%026d', build_id, package_id, '{}', '[]', 60, now() FROM runs LIMIT 1;", run, w)
			q.WriteString("INSERT INTO work (id, run_id, workspace_id, device_id, stage, message, cases_total, created) VALUES ")
			for l := range legs {
				if l > 0 {
					q.WriteString(",")
				}
				fmt.Fprintf(&q, "('A%06d%06d%013d', '%s', '%026d', (SELECT id FROM devices LIMIT 1), 'waiting', '', 1, now())", w, r, l, run, w)
			}
			_, err := db.Exec(q.String())
			require.NoError(t, err)
		}
	}
}

func TestNobodysBacklogHidesAnothers(t *testing.T) {
	d := open(t)
	_, _ = d.run(t, 1)
	d.crowd(t, d.dsn, 2, 3, 300)
	legs, err := d.Waiting(context.Background(), 50)
	require.NoError(t, err)
	assert.Len(t, legs, 50)
	of, runs := map[string]int{}, map[string]int{}
	for _, l := range legs {
		of[l.WorkspaceID]++
		runs[l.RunID]++
	}
	assert.Len(t, of, 3, "the workspace with one leg is among them")
	assert.Len(t, runs, 7)
	for run, n := range runs {
		assert.LessOrEqual(t, n, 9, run)
	}
	start := time.Now()
	_, err = d.Waiting(context.Background(), 50)
	require.NoError(t, err)
	assert.Less(t, time.Since(start), 2*time.Second)
	n, err := d.CountWaiting(context.Background(), fmt.Sprintf("%026d", 1), work.Leg)
	require.NoError(t, err)
	assert.Equal(t, 900, n)
}

func TestAppsOfOneLabelGetSlugsOfTheirOwnHoweverManyComeAtOnce(t *testing.T) {
	d := open(t)
	var all sync.WaitGroup
	slugs := make([]string, 12)
	for i := range slugs {
		all.Go(func() {
			b := store.Build{ID: store.NewID(), WorkspaceID: d.ws, Platform: "android", AppID: fmt.Sprint("org.app", i), SHA256: fmt.Sprint("x", i), Created: time.Now()}
			slug, err := d.AddBuild(context.Background(), b, "reef")
			assert.NoError(t, err)
			slugs[i] = slug
		})
	}
	all.Wait()
	plain := 0
	for i, s := range slugs {
		if s == "reef" {
			plain++
		} else {
			assert.Equal(t, fmt.Sprint("org.app", i), s)
		}
	}
	assert.Equal(t, 1, plain)
}

func TestASessionThatNobodyAwaitsIsFound(t *testing.T) {
	d := open(t)
	x := d.session(t, "tides")
	rows, err := d.Unawaited(context.Background(), time.Hour)
	require.NoError(t, err)
	assert.Empty(t, rows)
	require.NoError(t, d.AwaitSession(context.Background(), x.ID, -time.Second))
	rows, err = d.Unawaited(context.Background(), time.Hour)
	require.NoError(t, err)
	require.Len(t, rows, 1)
	assert.Equal(t, x.ID, rows[0].ID)
}
