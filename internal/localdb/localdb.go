// Package localdb runs a MariaDB server of our own on loopback, in a folder of
// our own, from Debian's package.
//
// In: a folder. Out: a data source name, and a Close. The server listens on a
// free port of 127.0.0.1; its password lies in the folder, which nobody else may
// open. When the process that started it dies, it ends too.
package localdb

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"

	"tessellant/internal/child"
)

// Database is the name of the database that Start makes.
const Database = "tessellant"

// Instance is a running server.
type Instance struct {
	DSN string // for go-sql-driver/mysql; it stays when the server is started again. Its user has the one database
	// Root is the DSN of the one who may all, by a socket in the folder, which nobody else may open. Where the folder's path is long, it can't be reached.
	Root string
	*child.Kept
}

// Fleeting are options for a database that nobody wants to have again: it does not wait until the disk has what it writes.
var Fleeting = []string{"--innodb-flush-method=nosync", "--innodb-flush-log-at-trx-commit=0", "--innodb-doublewrite=0", "--sync-frm=0"}

// Start starts the server whose files lie in dir, making them the first time; more are options of the server's.
func Start(ctx context.Context, dir string, more ...string) (*Instance, error) {
	server, err := exec.LookPath("mariadbd")
	if err != nil {
		if server = "/usr/sbin/mariadbd"; !exists(server) {
			return nil, errors.New("MariaDB's server is not installed; on Debian: apt-get install mariadb-server, or use a server that is there with --database")
		}
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("make the database's folder: %w", err)
	}
	if err := os.Chmod(dir, 0o700); err != nil {
		return nil, err
	}
	me, err := user.Current()
	if err != nil {
		return nil, err
	}
	// Servers that share a folder for temporary tables overwrite one another's.
	tmp := filepath.Join(dir, "tmp")
	if err := os.MkdirAll(tmp, 0o700); err != nil {
		return nil, err
	}
	environment := child.Environment(nil, "TMPDIR="+tmp)
	data := filepath.Join(dir, "data")
	if !exists(data) {
		fresh := data + ".new" // half a database is none: it gets its name when it is whole
		if err := os.RemoveAll(fresh); err != nil {
			return nil, err
		}
		install := exec.CommandContext(ctx, "mariadb-install-db", "--no-defaults", "--datadir="+fresh, "--auth-root-authentication-method=normal",
			"--skip-test-db", "--skip-name-resolve", "--force", // also on a machine that does not know its own name
			"--user="+me.Username)
		install.Env = environment
		if out, err := install.CombinedOutput(); err != nil {
			return nil, fmt.Errorf("make the database: %w: %s", err, out)
		}
		if err := os.Rename(fresh, data); err != nil {
			return nil, err
		}
	}
	password := rand.Text()
	init := filepath.Join(dir, "init.sql")
	// Each start makes a new password; root can come in by the socket alone.
	statements := fmt.Sprintf("CREATE DATABASE IF NOT EXISTS %[1]s CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin;\n"+
		"CREATE OR REPLACE USER %[1]s@'127.0.0.1' IDENTIFIED BY '%[2]s';\nGRANT ALL ON %[1]s.* TO %[1]s@'127.0.0.1';\n"+
		"DELETE FROM mysql.global_priv WHERE User IN ('root', '') AND Host <> 'localhost';\nFLUSH PRIVILEGES;\n", Database, password)
	if err := os.WriteFile(init, []byte(statements), 0o600); err != nil {
		return nil, err
	}
	port, err := child.FreePort()
	if err != nil {
		return nil, err
	}
	cfg := mysql.NewConfig()
	cfg.User, cfg.Passwd, cfg.Net, cfg.Addr, cfg.DBName = Database, password, "tcp", "127.0.0.1:"+strconv.Itoa(port), Database
	cfg.Logger = &mysql.NopLogger{}
	root := mysql.NewConfig()
	root.User, root.Net, root.Addr = "root", "unix", filepath.Join(dir, "data", "db.sock")
	i := &Instance{DSN: cfg.FormatDSN(), Root: root.FormatDSN()}
	i.Kept, err = child.Keep(ctx, "MariaDB", 30*time.Second, func(ctx context.Context) (*child.Process, error) {
		return i.start(ctx, server, dir, me.Username, environment, port, more)
	})
	if err != nil {
		return nil, err
	}
	slog.Debug("database started", "port", port, "folder", dir)
	return i, nil
}

// start starts the server and waits until it answers.
func (i *Instance) start(ctx context.Context, server, dir, user string, environment []string, port int, more []string) (*child.Process, error) {
	logPath := filepath.Join(dir, "server.log")
	logFile, err := os.OpenFile(logPath, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	defer logFile.Close()
	// The socket's path must be short (108 bytes), so it is given from within the folder.
	cmd := exec.Command(server, "--no-defaults", "--datadir="+filepath.Join(dir, "data"), "--socket=./db.sock", "--pid-file="+filepath.Join(dir, "db.pid"),
		"--bind-address=127.0.0.1", "--port="+strconv.Itoa(port), "--skip-name-resolve", "--init-file="+filepath.Join(dir, "init.sql"), "--user="+user,
		"--max-connections=200", "--innodb-buffer-pool-size=128M", "--character-set-server=utf8mb4", "--default-time-zone=+00:00")
	cmd.Args = append(cmd.Args, more...)
	cmd.Dir, cmd.Env = dir, environment
	cmd.Stdout, cmd.Stderr = logFile, logFile
	started, err := child.Start(cmd, syscall.SIGTERM)
	if err != nil {
		return nil, fmt.Errorf("start MariaDB: %w", err)
	}
	db, err := sql.Open("mysql", i.DSN)
	if err == nil {
		defer db.Close()
		err = started.Ready(ctx, 60*time.Second, func() error { return db.PingContext(ctx) })
	}
	if err != nil {
		started.Stop(30 * time.Second)
		return nil, fmt.Errorf("MariaDB did not start: %w: %s", err, lastLines(logPath))
	}
	return started, nil
}

func exists(path string) bool {
	_, err := os.Stat(path)
	return err == nil
}

func lastLines(path string) string {
	raw, _ := os.ReadFile(path)
	lines := strings.Split(strings.TrimSpace(string(raw)), "\n")
	return strings.Join(lines[max(0, len(lines)-5):], " | ")
}
