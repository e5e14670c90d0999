package store

// MariaDB's own client programs, on this database.

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"time"

	"github.com/go-sql-driver/mysql"
)

// Client gives a command of MariaDB's client programs that knows how to reach the database. The password is in a
// file of its own, which cleanup removes; it is in no process list.
func (s *Store) Client(ctx context.Context, program string, args ...string) (cmd *exec.Cmd, cleanup func(), err error) {
	path, err := exec.LookPath(program)
	if err != nil {
		return nil, nil, fmt.Errorf("%s is not installed; on Debian: apt-get install mariadb-client", program)
	}
	cfg, err := mysql.ParseDSN(s.dsn)
	if err != nil {
		return nil, nil, err
	}
	host, port := splitAddress(cfg.Addr)
	f, err := os.CreateTemp("", "tessellant-client-*")
	if err != nil {
		return nil, nil, err
	}
	_, err = fmt.Fprintf(f, "[client]\nuser=%q\npassword=%q\nhost=%s\nport=%s\nprotocol=tcp\n", cfg.User, cfg.Passwd, host, port)
	if cerr := f.Close(); err == nil {
		err = cerr
	}
	if err != nil {
		_ = os.Remove(f.Name())
		return nil, nil, err
	}
	cmd = exec.CommandContext(ctx, path, append([]string{"--defaults-file=" + f.Name()}, args...)...)
	return cmd, func() { _ = os.Remove(f.Name()) }, nil
}

// Name is the database's name.
func (s *Store) Name() string {
	cfg, err := mysql.ParseDSN(s.dsn)
	if err != nil {
		return ""
	}
	return cfg.DBName
}

// Empty says whether the database has no tables yet. It is asked before Open makes them.
func Empty(ctx context.Context, dsn string) (bool, error) {
	db, err := connect(dsn, 60*time.Second)
	if err != nil {
		return false, err
	}
	defer db.Close()
	var n int
	err = db.GetContext(ctx, &n, "SELECT count(*) FROM information_schema.tables WHERE table_schema = database()")
	return n == 0, err
}
