package service_test

import (
	"encoding/base64"
	"os"
	"path/filepath"
	"testing"

	"github.com/jmoiron/sqlx"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/envelope"
	"tessellant/internal/housetest"
	"tessellant/internal/service/secrets"
	"tessellant/internal/store"
)

func TestSecretsAreSealedSealedAnewAndLostOnlyWithTheirKey(t *testing.T) {
	d := set(t, "d-1")
	db, err := sqlx.Open("mysql", d.dsn)
	require.NoError(t, err)
	defer db.Close()
	run := d.start().ID
	keep := func(name, value string) {
		_, err := db.Exec("INSERT INTO run_secrets (run_id, name, value) VALUES (?, ?, ?)", run, name, value)
		require.NoError(t, err)
	}
	file := filepath.Join(t.TempDir(), "secrets.key")
	open := func() *secrets.Secrets {
		t.Helper()
		s, err := secrets.New(d.Store, housetest.Log(), file, "")
		require.NoError(t, err)
		return s
	}
	s := open()
	sealed, err := s.Seal(run, map[string]string{"code": "ebb-and-flow"})
	require.NoError(t, err)
	keep("code", sealed["code"])
	keep("before", "as an earlier version kept it")
	both := map[string]string{"code": "ebb-and-flow", "before": "as an earlier version kept it"}
	got, err := s.Of(ctx, run)
	require.NoError(t, err)
	assert.Equal(t, both, got)
	require.NoError(t, s.Agree(ctx, true)) // the house of this test has agreed upon another
	kept := func() (all []store.KeptSecret) {
		all, err := d.Store.AllSecrets(ctx)
		require.NoError(t, err)
		for _, x := range all {
			assert.True(t, envelope.Sealed(x.Value), "nothing is kept as it is")
		}
		return all
	}
	first := kept()
	for range 3 { // each time, another process finds the key
		r, err := s.Rotate(ctx)
		require.NoError(t, err)
		assert.Equal(t, 2, r.Secrets)
		got, err := open().Of(ctx, run)
		require.NoError(t, err)
		assert.Equal(t, both, got)
	}
	assert.NotEqual(t, first, kept())
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Len(t, raw, 2*(len(base64.StdEncoding.EncodeToString(make([]byte, envelope.KeySize)))+1), "the one that seals, and the one before")
	require.NoError(t, os.Chmod(file, 0o644))
	_, err = secrets.New(d.Store, housetest.Log(), file, "")
	require.ErrorContains(t, err, "can be read by others: chmod 600")
	// Another process with a key of its own is not one of this service.
	other, err := secrets.New(d.Store, housetest.Log(), filepath.Join(t.TempDir(), "secrets.key"), "")
	require.NoError(t, err)
	require.ErrorContains(t, other.Agree(ctx, false), "sealed with another key")
	_, err = other.Of(ctx, run)
	require.ErrorIs(t, err, secrets.ErrLost)
	require.NoError(t, other.Agree(ctx, true), "its key is given up")
	_, err = secrets.New(d.Store, housetest.Log(), "", "c2hvcnQ=")
	require.ErrorContains(t, err, "must be 32 bytes in Base64")
	given := base64.StdEncoding.EncodeToString(envelope.NewKey())
	_, err = secrets.New(d.Store, housetest.Log(), "", given+","+given)
	require.NoError(t, err)
}
