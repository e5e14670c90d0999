package housetest

import (
	"context"
	"database/sql"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/go-sql-driver/mysql"
	"github.com/stretchr/testify/require"

	"tessellant/internal/adb"
	"tessellant/internal/host"
	"tessellant/internal/hostlink"
	"tessellant/internal/house"
	"tessellant/internal/lab"
	"tessellant/internal/lab/adblab"
	"tessellant/internal/localdb"
	"tessellant/internal/sandbox"
	"tessellant/internal/script"
	"tessellant/internal/service"
)

var database struct {
	once sync.Once
	db   *localdb.Instance
	dir  string
	err  error
	n    int
	mu   sync.Mutex
}

// DSN gives a fresh database, in a MariaDB that the test binary's tests share.
// Main must end it.
func DSN(t testing.TB) string {
	t.Helper()
	database.once.Do(func() {
		if database.dir, database.err = os.MkdirTemp("", "tsl-db-"); database.err == nil {
			database.db, database.err = localdb.Start(context.Background(), database.dir, localdb.Fleeting...)
		}
	})
	require.NoError(t, database.err)
	database.mu.Lock()
	defer database.mu.Unlock()
	database.n++
	cfg, err := mysql.ParseDSN(database.db.DSN)
	require.NoError(t, err)
	db, err := sql.Open("mysql", database.db.Root)
	require.NoError(t, err)
	defer db.Close()
	cfg.DBName = fmt.Sprintf("%s_%d", localdb.Database, database.n)
	_, err = db.Exec("CREATE DATABASE " + cfg.DBName + " CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin")
	require.NoError(t, err)
	_, err = db.Exec("GRANT ALL ON `" + cfg.DBName + "`.* TO " + localdb.Database + "@'127.0.0.1'")
	require.NoError(t, err)
	return cfg.FormatDSN()
}

// Main runs a package's tests and ends what they share. Started again as a
// script's process, the test binary is one.
func Main(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == sandbox.ChildArg {
		sandbox.Child()
		return
	}
	if len(os.Args) == 2 && os.Args[1] == script.ChildArg {
		script.Child()
		return
	}
	if len(os.Args) == 4 && os.Args[1] == phoneArg {
		phoneProcess(os.Args[2], os.Args[3])
		return
	}
	os.Exit(Tests{m}.Run())
}

// Tests are a package's tests with the end of what they share.
type Tests struct{ M *testing.M }

// Run runs the tests and answers their exit code.
func (x Tests) Run() int {
	code := x.M.Run()
	endShared()
	if database.db != nil {
		database.db.Close()
	}
	if database.dir != "" {
		_ = os.RemoveAll(database.dir)
	}
	return code
}

// HostName is what a host of tests is called, that runs inside the service.
const HostName = "built-in"

// Service is a whole service on loopback.
type Service struct {
	*house.House
	DSN string // of its database
	Who service.Identity
	Dir string
}

// StartService starts a service without a host.
func StartService(t testing.TB, dsn string) *Service { return StartServiceOn(t, dsn, "") }

// StartServiceOn starts one with the bus at this address; "": one of its own.
func StartServiceOn(t testing.TB, dsn, bus string) *Service {
	return startIn(t, t.TempDir(), dsn, bus)
}

// Anew closes a service, does something meanwhile, and starts it again with its folder.
func (s *Service) Anew(t testing.TB, meanwhile func()) *Service {
	t.Helper()
	s.Close()
	meanwhile()
	return startIn(t, s.Dir, s.DSN, "")
}

func startIn(t testing.TB, dir, dsn, bus string) *Service {
	t.Helper()
	ctx := context.Background()
	s := &Service{DSN: dsn, Dir: dir}
	var err error
	s.House, err = house.Start(ctx, house.Config{Listen: "127.0.0.1:0", Data: s.Dir, Database: dsn, Bus: bus, NoHost: true, Workspace: "tests", FirstKey: "tsl_a_key_for_the_tests_alone", Version: "test", Log: Log()})
	require.NoError(t, err)
	t.Cleanup(s.Close)
	s.Key = "tsl_a_key_for_the_tests_alone"
	s.Who, err = s.Enter(ctx, s.Key)
	require.NoError(t, err)
	return s
}

// Host sets a host beside the service to work until stop is called, or the test ends.
func (s *Service) Host(t testing.TB, server *adb.Server, connect ...string) (stop func()) {
	t.Helper()
	return s.HostWith(t, host.Config{Labs: ADBLab(adblab.Config{Server: server, Connect: connect})})
}

// ADBLab is the lab of an adb server, for a host's configuration.
func ADBLab(c adblab.Config) []lab.Maker {
	c.Log = Log()
	return []lab.Maker{adblab.Maker(c)}
}

// HostWith sets a host with more of a configuration to work.
func (s *Service) HostWith(t testing.TB, c host.Config) (stop func()) {
	t.Helper()
	c.Name, c.Dir, c.Log = HostName, filepath.Join(s.Dir, "host"), Log()
	if over, ok := c.Link.(interface{ Over(hostlink.Link) }); ok { // a link of the test's own, over the real one
		over.Over(s.HostLink())
	} else {
		c.Link = s.HostLink()
	}
	h := host.New(c)
	require.NoError(t, h.Begin())
	ctx, cancel := context.WithCancel(context.Background())
	var all sync.WaitGroup
	all.Go(func() { _ = h.Run(ctx) })
	stop = func() { cancel(); all.Wait() }
	t.Cleanup(stop)
	return stop
}

// Log is where tests log to: nowhere, or standard error with TESSELLANT_TEST_LOG set.
func Log() *slog.Logger {
	if os.Getenv("TESSELLANT_TEST_LOG") != "" {
		return slog.New(slog.NewTextHandler(os.Stderr, &slog.HandlerOptions{Level: slog.LevelDebug}))
	}
	return slog.New(slog.NewTextHandler(io.Discard, nil))
}
