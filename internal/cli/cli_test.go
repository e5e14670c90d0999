package cli_test

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/rogpeppe/go-internal/testscript"
	"github.com/stretchr/testify/require"

	"tessellant/internal/cli"
	"tessellant/internal/core/access"
	"tessellant/internal/demo"
	"tessellant/internal/doctor"
	"tessellant/internal/host"
	"tessellant/internal/host/record"
	"tessellant/internal/housetest"
	"tessellant/internal/lab/adblab"
	"tessellant/internal/sandbox"
	"tessellant/internal/script"
	"tessellant/internal/serve"
	"tessellant/internal/service"
	"tessellant/internal/standin/backend"
	standin "tessellant/internal/standin/phone"
	"tessellant/internal/store"
)

func TestMain(m *testing.M) {
	if len(os.Args) == 2 && os.Args[1] == sandbox.ChildArg {
		sandbox.Child()
		return
	}
	if len(os.Args) == 2 && os.Args[1] == script.ChildArg {
		script.Child()
		return
	}
	testscript.Main(housetest.Tests{M: m}, map[string]func(){
		"tessellant": func() { os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr, serve.Add, doctor.Add, demo.Add)) },
	})
}

// TestCommands runs the scripts in testdata: what is typed, and what comes back.
// They share a service with two instant phones, and have a workspace each.
func TestCommands(t *testing.T) {
	server := housetest.ADB(t)
	fleet := housetest.Fleet(t)
	tides, err := backend.Start("127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(tides.Close)
	var connect []string
	for _, serial := range []string{"orr-01", "orr-03"} {
		tr := fleet[serial]
		tr.Temper, tr.Network, tr.System = standin.Instant, tides.Network(), tides.Certificate
		connect = append(connect, housetest.Phone(t, server, tr).Address())
	}
	// Phones for services that the scripts start themselves; the first takes its time.
	spare := map[string]string{}
	for name, temper := range map[string]standin.Temper{"PHONE": standin.Real, "PHONE2": standin.Instant, "PHONE3": standin.Instant, "PHONE4": standin.Instant} {
		tr := fleet["orr-03"]
		tr.Temper, tr.Network, tr.System = temper, tides.Network(), tides.Certificate
		p, err := standin.Start(tr, "127.0.0.1:0")
		require.NoError(t, err)
		t.Cleanup(p.Close)
		spare[name] = p.Address()
	}
	// An adb server as people have one, with a phone that has a gate and one that is locked.
	usual := housetest.ADB(t)
	for serial, sides := range map[string]standin.Sides{"orr-01": {Gates: []standin.Gate{standin.NoGrant}}, "orr-02": {Lock: "pin"}} {
		tr := fleet[serial]
		tr.Temper, tr.Sides = standin.Instant, sides
		housetest.Phone(t, usual, tr)
	}
	s := housetest.StartService(t, housetest.DSN(t))
	s.HostWith(t, host.Config{Labs: housetest.ADBLab(adblab.Config{Server: &server.Server, Connect: connect}), Outlet: &record.Outlet{Names: tides.Network(), Version: "test"}})
	housetest.Eventually(t, "both phones are free", func() bool {
		ds, _, err := s.Devices(t.Context(), store.Identity{}, nil, "", 10)
		return err == nil && len(ds) == 2 && ds[0].Standing().Free && ds[1].Standing().Free
	})
	apk, err := filepath.Abs(housetest.Kelpline(t))
	require.NoError(t, err)
	root, err := filepath.Abs(housetest.Root())
	require.NoError(t, err)
	box, err := sandbox.Probe(t.Context(), "")
	require.NoError(t, err)
	t.Cleanup(box.Close)
	testscript.Run(t, testscript.Params{Dir: "testdata", Condition: func(name string) (bool, error) {
		if name != "tight" {
			return false, fmt.Errorf("there is no condition %q", name)
		}
		return box.Level == sandbox.Tight, nil // the kernel gives programs namespaces of their own
	}, Setup: func(e *testscript.Env) error {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		defer l.Close()
		e.Setenv("TESSELLANT_URL", s.URL)
		// A workspace of the script's own: its newest run is not another script's.
		name := strings.TrimPrefix(filepath.Base(e.WorkDir), "script-")
		if _, err := s.AddWorkspace(context.Background(), name); err != nil {
			return err
		}
		soon := time.Now().Add(time.Hour)
		_, key, err := s.AddKey(context.Background(), s.Who, service.NewKeyRequest{Name: "the script's", Role: access.Operator, Workspace: name, Expires: &soon})
		if err != nil {
			return err
		}
		e.Setenv("TESSELLANT_KEY", key)
		e.Setenv("FIRST_KEY", s.Key)
		e.Setenv("APK", apk)
		e.Setenv("TIDES", backend.Tides+"="+tides.Network()[backend.Tides])
		e.Setenv("SURVEYS", backend.SendTo+"="+tides.Network()[backend.SendTo])
		e.Setenv("DEMO", filepath.Join(root, "demo"))
		e.Setenv("DOCS", filepath.Join(root, "docs"))
		l2, err := net.Listen("tcp", "127.0.0.1:0")
		if err != nil {
			return err
		}
		defer l2.Close()
		e.Setenv("FREE", fmt.Sprint(l.Addr()))
		e.Setenv("FREE2", fmt.Sprint(l2.Addr()))
		for name, address := range spare {
			e.Setenv(name, address)
		}
		e.Setenv("SECRET_CODE", backend.Code)
		e.Setenv("ANDROID_ADB_SERVER_PORT", "1") // whatever this machine has is not for these services
		_, port, _ := net.SplitHostPort(usual.Address)
		e.Setenv("USUAL_ADB", port)
		return nil
	}, Cmds: map[string]func(*testscript.TestScript, bool, []string){
		// eventually runs a command until it succeeds.
		"eventually": func(ts *testscript.TestScript, _ bool, args []string) {
			for deadline := time.Now().Add(60 * time.Second); ; time.Sleep(50 * time.Millisecond) {
				err := ts.Exec(args[0], args[1:]...)
				if err == nil {
					return
				}
				if time.Now().After(deadline) {
					ts.Fatalf("%v never succeeded: %v", args, err)
				}
			}
		},
		// shores starts a server of an engineer's own, with one shore; its port is $SHORES.
		"shores": func(ts *testscript.TestScript, _ bool, _ []string) {
			own := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				fmt.Fprint(w, `{"shores": [{"id": "home", "name": "Home Bay", "about": "of this machine"}]}`)
			}))
			ts.Defer(own.Close)
			_, port, _ := net.SplitHostPort(own.Listener.Addr().String())
			ts.Setenv("SHORES", port)
		},
		// certificate writes cert.pem and key.pem, for loopback.
		"certificate": func(ts *testscript.TestScript, _ bool, _ []string) {
			_, _, err := housetest.Certificate(ts.MkAbs("."))
			ts.Check(err)
		},
		// leg puts the id of a device's leg in the newest run into $LEG.
		"leg": func(ts *testscript.TestScript, _ bool, args []string) {
			ts.Check(ts.Exec("sh", "-c", `run=$(tessellant run list --limit 1 --json | sed -n 's/.*"id": "\(.*\)",/\1/p' | head -1); echo $run; tessellant run show $run | awk -v s="$1" '$1 == s && /(passed|failed|crashed)/ && NF > 5 {print $NF; exit}'`, "sh", args[0]))
			var run, leg string
			_, err := fmt.Sscan(ts.ReadFile("stdout"), &run, &leg)
			ts.Check(err)
			ts.Setenv("RUN", run)
			ts.Setenv("LEG", leg)
		},
		// family puts the first characters of the id of the newest run's first family into $FAMILY.
		"family": func(ts *testscript.TestScript, _ bool, _ []string) {
			ts.Check(ts.Exec("sh", "-c", `tessellant run why newest | awk '/^    tessellant run why/ {print $NF; exit}'`))
			ts.Setenv("FAMILY", strings.TrimSpace(ts.ReadFile("stdout")))
		},
	}})
}
