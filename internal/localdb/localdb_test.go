package localdb_test

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/localdb"
)

func connect(t *testing.T, dsn string) *sql.DB {
	t.Helper()
	db, err := sql.Open("mysql", dsn)
	require.NoError(t, err)
	t.Cleanup(func() { _ = db.Close() })
	return db
}

func TestDataOutlivesTheServerAndOnlyWeComeIn(t *testing.T) {
	ctx, dir := context.Background(), filepath.Join(t.TempDir(), "db")
	one, err := localdb.Start(ctx, dir)
	require.NoError(t, err)
	db := connect(t, one.DSN)
	_, err = db.Exec("CREATE TABLE shells (name varchar(20))")
	require.NoError(t, err)
	_, err = db.Exec("INSERT INTO shells VALUES ('limpet')")
	require.NoError(t, err)

	cfg, err := mysql.ParseDSN(one.DSN)
	require.NoError(t, err)
	assert.True(t, strings.HasPrefix(cfg.Addr, "127.0.0.1:"))
	for _, user := range []struct{ name, password string }{{"root", ""}, {"tessellant", ""}, {"", ""}} {
		other := *cfg
		other.User, other.Passwd = user.name, user.password
		assert.Error(t, connect(t, other.FormatDSN()).Ping(), "%q without its password", user.name)
	}
	st, err := os.Stat(dir)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), st.Mode().Perm(), "nobody else can reach the socket")
	one.Close()
	assert.Error(t, db.Ping(), "it has gone")

	start := time.Now()
	two, err := localdb.Start(ctx, dir)
	require.NoError(t, err)
	defer two.Close()
	assert.Less(t, time.Since(start), 30*time.Second)
	var name string
	require.NoError(t, connect(t, two.DSN).QueryRow("SELECT name FROM shells").Scan(&name))
	assert.Equal(t, "limpet", name)
	assert.NotEqual(t, one.DSN, two.DSN, "each start has a password of its own")
}

func TestStartSaysWhyItCannot(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "db")
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "data", "mysql"), 0o700)) // as if there were a database
	_, err := localdb.Start(context.Background(), dir)
	require.ErrorContains(t, err, "MariaDB did not start: it ended at once")
	file := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	_, err = localdb.Start(context.Background(), file)
	require.ErrorContains(t, err, "make the database's folder")
}

func TestTheServicesUserHasItsDatabaseAndNoOther(t *testing.T) {
	i, err := localdb.Start(t.Context(), t.TempDir())
	require.NoError(t, err)
	defer i.Close()
	db := connect(t, i.DSN)
	_, err = db.Exec("CREATE TABLE t (x int)")
	require.NoError(t, err)
	for _, query := range []string{"SELECT * FROM mysql.user", "CREATE DATABASE another", "SELECT load_file('/etc/passwd') INTO OUTFILE '/tmp/x'", "CREATE USER x", "SET GLOBAL max_connections = 1", "SHUTDOWN", "INSTALL SONAME 'x'"} {
		_, err := db.Exec(query)
		assert.Error(t, err, query)
	}
}
