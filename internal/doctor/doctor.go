// Package doctor checks the setup of this machine and suggests fixes. It changes nothing.
package doctor

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/adb"
	"tessellant/internal/cli"
	"tessellant/internal/core/verdict"
	"tessellant/internal/house"
	"tessellant/internal/phone"
	"tessellant/internal/phone/android"
	"tessellant/internal/sandbox"
	"tessellant/internal/store"
)

// Add adds the command to the client's.
func Add(a *cli.App, root *cobra.Command) { root.AddCommand(doctorCmd(a)) }

func doctorCmd(a *cli.App) *cobra.Command {
	var c house.Config
	cmd := &cobra.Command{Use: "doctor", Short: "Check this machine's setup and suggest fixes", Args: cli.Nothing,
		Long: `Check this machine: the programs that the service and a host need, space and permissions of the data folder,
the ports, the devices that adb sees and why some can't be used, and the running service, if there is one.
It changes nothing. Exit code 0 if all is well, 3 if there is a problem.`,
		Example: "  tessellant doctor\n  tessellant doctor --data /srv/tessellant --json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			if c.Database == "" {
				c.Database = os.Getenv("TESSELLANT_DATABASE")
			}
			return doctor(cmd.Context(), a, c)
		}}
	f := cmd.Flags()
	f.StringVar(&c.Data, "data", house.DefaultData(), "data folder")
	f.StringVar(&c.Listen, "listen", "127.0.0.1:7480", "address that the service uses or will use")
	f.StringVar(&c.Database, "database", "", "an existing MariaDB, if you use one")
	f.StringVar(&c.ADB, "adb-server", "", house.ADBServerHelp)
	return cmd
}

// symptom is one thing that was looked at.
type symptom struct {
	What   string `json:"what"`
	State  string `json:"state"` // fine, warns or wrong
	Found  string `json:"found"`
	Remedy string `json:"remedy,omitempty"`
}

func doctor(ctx context.Context, a *cli.App, c house.Config) error {
	var all []symptom
	for _, look := range []func(context.Context, house.Config) []symptom{lookForPrograms, lookAtFolder, lookAtLimits, lookAtBox, lookAtDatabase, func(ctx context.Context, c house.Config) []symptom { return lookAtService(ctx, a, c) }, lookAtDevices} {
		ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
		all = append(all, look(ctx, c)...)
		cancel()
	}
	wrong := 0
	for _, s := range all {
		if s.State == "wrong" {
			wrong++
		}
	}
	if err := a.Show(map[string]any{"items": all, "wrong": wrong}, func() {
		t := cli.NewTable(a.Out, "", "what", "found", "what to do")
		t.SetColumnConfigs([]table.ColumnConfig{{Number: 3, WidthMax: 60}, {Number: 4, WidthMax: 60}})
		for _, s := range all {
			t.AppendRow(table.Row{s.State, s.What, s.Found, s.Remedy})
		}
		t.Render()
		if wrong == 0 {
			fmt.Fprintln(a.Out, "\nNothing is wrong.")
		}
	}); err != nil {
		return err
	}
	if wrong > 0 {
		return &cli.Exit{Code: verdict.ExitNothingSaid, Err: fmt.Errorf("%s wrong", map[bool]string{true: "1 thing is", false: fmt.Sprint(wrong, " things are")}[wrong == 1])}
	}
	return nil
}

func fine(what, found string, args ...any) symptom {
	return symptom{what, "fine", fmt.Sprintf(found, args...), ""}
}

// lookForPrograms finds the programs that others make.
func lookForPrograms(ctx context.Context, c house.Config) (out []symptom) {
	for _, p := range []struct{ name, use, debian, state string }{
		{"adb", "devices", "adb", "wrong"}, {"ffmpeg", "videos", "ffmpeg", "wrong"}, {"mariadbd", "the service's own database", "mariadb-server", "wrong"},
		{"mariadb-install-db", "the service's own database", "mariadb-server", "wrong"}, {"mariadb-dump", "backups", "mariadb-client", "warns"},
	} {
		if c.Database != "" && strings.Contains(p.use, "own database") {
			continue
		}
		path, err := exec.LookPath(p.name)
		if err != nil {
			if _, err := os.Stat("/usr/sbin/" + p.name); err == nil {
				path = "/usr/sbin/" + p.name
			}
		}
		if path == "" {
			out = append(out, symptom{p.name, p.state, "not installed; needed for " + p.use, "on Debian: apt-get install " + p.debian})
			continue
		}
		out = append(out, fine(p.name, "%s", path))
	}
	if path, err := exec.LookPath("ffmpeg"); err == nil {
		raw, err := exec.CommandContext(ctx, path, "-hide_banner", "-encoders").Output()
		if err == nil && !strings.Contains(string(raw), "libx264") {
			out = append(out, symptom{"ffmpeg", "wrong", "it has no H.264 encoder (libx264)", "install a build of ffmpeg that has it, such as Debian's"})
		}
	}
	return out
}

// lookAtBox sees how programs of packages can be kept apart.
func lookAtBox(ctx context.Context, _ house.Config) []symptom {
	box, err := sandbox.Probe(ctx, "")
	if err != nil {
		return []symptom{{"programs", "warns", err.Error(), "see to the folder for temporary files (TMPDIR)"}}
	}
	defer box.Close()
	if box.Level != sandbox.Tight {
		return []symptom{{"programs", "warns", "packages of the kind program are refused: " + box.Why, "install bubblewrap and allow user namespaces; or, if you trust all who upload, serve --open-box"}}
	}
	out := []symptom{fine("programs", "kept apart by bubblewrap; memory and processes are bounded %s", box.Bounds)}
	if err := box.TryNetwork(ctx); err != nil {
		out = append(out, symptom{"program network", "warns", err.Error(), "only needed where a workspace lets its programs use the network"})
	}
	return out
}

const leastRoom = 1 << 30

// lookAtFolder sees whether the data folder can be used.
func lookAtFolder(_ context.Context, c house.Config) (out []symptom) {
	dir := c.Data
	for dir != filepath.Dir(dir) {
		if _, err := os.Stat(dir); err == nil {
			break
		}
		dir = filepath.Dir(dir)
	}
	f, err := os.CreateTemp(dir, ".tessellant-doctor-*")
	if err != nil {
		return []symptom{{"data folder", "wrong", fmt.Sprintf("nothing can be written in %s: %v", dir, err), "choose another with --data, or give this user the right to write there"}}
	}
	_ = f.Close()
	_ = os.Remove(f.Name())
	out = append(out, fine("data folder", "%s can be written", c.Data))
	var st syscall.Statfs_t
	if syscall.Statfs(dir, &st) == nil {
		free := int64(st.Bavail) * st.Bsize
		s := fine("room", "%s free", cli.BytesText(free))
		if free < leastRoom {
			s.State, s.Remedy = "wrong", "free some; a leg keeps 2 to 20 MB of evidence. --keep-days and --keep-gb of serve remove old evidence"
		}
		out = append(out, s)
	}
	if st, err := os.Stat(c.Data); err == nil && st.Mode().Perm()&0o077 != 0 {
		out = append(out, symptom{"data folder", "warns", fmt.Sprintf("others can look into %s (%v)", c.Data, st.Mode().Perm()), "chmod 700 " + c.Data})
	}
	return out
}

// lookAtLimits sees how much this user may have at once.
func lookAtLimits(context.Context, house.Config) []symptom {
	var l syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &l); err != nil {
		return nil
	}
	s := fine("open files", "up to %d", l.Max)
	if l.Max < 4096 {
		s.State, s.Remedy = "warns", "a host opens about 12 for each device at work; raise it with ulimit -n, or LimitNOFILE= in a unit"
	}
	return []symptom{s}
}

func lookAtDatabase(ctx context.Context, c house.Config) []symptom {
	if c.Database == "" {
		return nil
	}
	st, err := store.Bare(c.Database)
	if err == nil {
		defer st.Close()
		err = st.Ping(ctx)
	}
	if err != nil {
		return []symptom{{"database", "wrong", fmt.Sprintf("it does not answer: %v", err), "see whether it runs, and whether user, password and name are right: user:password@tcp(host:3306)/tessellant"}}
	}
	return []symptom{fine("database", "it answers")}
}

// lookAtService sees whether a service is up, and whether it lets this user in.
func lookAtService(ctx context.Context, a *cli.App, c house.Config) (out []symptom) {
	kept, _ := cli.ReadLogin()
	url := a.URL
	for _, u := range []string{os.Getenv("TESSELLANT_URL"), kept.URL, "http://" + c.Listen} {
		if url == "" {
			url = u
		}
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, strings.TrimRight(url, "/")+"/readyz", nil)
	if err != nil {
		return []symptom{{"service", "wrong", err.Error(), "give its address with --url"}}
	}
	asked := time.Now()
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		if l, lerr := net.Listen("tcp", c.Listen); lerr == nil {
			_ = l.Close()
			return []symptom{{"service", "warns", "none answers at " + url, "start one with: tessellant serve"}}
		}
		return []symptom{{"service", "wrong", fmt.Sprintf("none answers at %s, and %s is taken", url, c.Listen), "end what listens there, or choose another address with --listen"}}
	}
	_ = resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return []symptom{{"service", "wrong", fmt.Sprintf("%s says it is not ready (%d)", url, resp.StatusCode), "see its log; its database may be away"}}
	}
	out = append(out, fine("service", "%s is ready", url))
	if there, err := http.ParseTime(resp.Header.Get("Date")); err == nil {
		if off := there.Sub(asked).Round(time.Second); off > 5*time.Second || off < -5*time.Second {
			out = append(out, symptom{"clock", "warns", fmt.Sprintf("the service's clock differs from this machine's by %s", off.Abs()), "let both set theirs by the network (NTP)"})
		}
	}
	client, err := a.Client()
	if err != nil {
		return append(out, symptom{"key", "warns", "there is none", "sign in with: tessellant login " + url})
	}
	me, err := client.GetMeWithResponse(ctx)
	if err != nil || me.JSON200 == nil {
		return append(out, symptom{"key", "wrong", "the service does not know it", "sign in with: tessellant login " + url})
	}
	out = append(out, fine("key", "%s of the workspace %s", me.JSON200.Role, me.JSON200.Workspace))
	limit := 200
	if devices, err := client.ListDevicesWithResponse(ctx, &api.ListDevicesParams{Limit: &limit}); err == nil && devices.JSON200 != nil {
		for _, d := range devices.JSON200.Items {
			if cli.Deref(d.Overdue) {
				out = append(out, symptom{"work on " + d.Serial, "wrong", "it does not end: the device is held for longer than the work may take", "end it with: tessellant device free " + d.Serial})
			}
		}
	}
	if hosts, err := client.ListHostsWithResponse(ctx); err == nil && hosts.JSON200 != nil {
		for _, h := range hosts.JSON200.Items {
			s := fine("host "+h.Name, "%s, %s", h.State, cli.Plural(h.Devices, "device"))
			if h.State == "silent" {
				s.State, s.Remedy = "wrong", "see whether its process runs, and whether it reaches the service"
			}
			out = append(out, s)
		}
	}
	return out
}

// lookAtDevices sees what adb sees.
func lookAtDevices(ctx context.Context, c house.Config) (out []symptom) {
	if _, err := exec.LookPath("adb"); err != nil && c.ADB == "" {
		return nil
	}
	dir, err := os.MkdirTemp("", "tessellant-doctor-")
	if err != nil {
		return []symptom{{"devices", "wrong", err.Error(), "see whether " + os.TempDir() + " can be written"}}
	}
	defer os.RemoveAll(dir)
	server, err := house.FindADB(ctx, c.ADB, dir)
	if err != nil {
		return []symptom{{"devices", "wrong", err.Error(), "see whether adb works: adb devices"}}
	}
	defer server.Stop()
	out = append(out, fine("adb server", "%s", server.Found))
	var listed []adb.Listed
	for end := time.Now().Add(2 * time.Second); ; time.Sleep(100 * time.Millisecond) { // a server that has just begun lists nothing at first
		if listed, err = server.Devices(ctx); err != nil {
			return append(out, symptom{"devices", "wrong", err.Error(), "see whether the adb server works: adb devices"})
		}
		if len(listed) > 0 || !server.Ours || time.Now().After(end) {
			break
		}
	}
	if len(listed) == 0 {
		return append(out, symptom{"devices", "warns", "adb sees none (one that another adb server holds is not seen)", "plug one in with USB debugging on, or give serve or host an address with --connect"})
	}
	for _, d := range listed {
		if d.State != "device" {
			out = append(out, symptom{"device " + d.Serial, "wrong", "adb says: " + d.State, adb.Remedy(d.State)})
			continue
		}
		out = append(out, lookAtDevice(ctx, server.Server, d.Serial))
	}
	return out
}

// lookAtDevice asks a device whether it can be tested. It changes nothing on it.
func lookAtDevice(ctx context.Context, server *adb.Server, serial string) symptom {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	s := symptom{What: "device " + serial, State: "wrong"}
	d, err := android.Open(ctx, server, serial)
	var starting *android.Starting
	if errors.As(err, &starting) {
		s.State, s.Found, s.Remedy = "warns", "its system is still starting", "wait until its home screen is there"
		return s
	}
	if err == nil {
		defer d.Close()
		var no *phone.Refused
		if no, err = d.Fit(ctx); err == nil && no != nil {
			s.Found, s.Remedy = no.Why, no.Remedy
			return s
		}
	}
	if err != nil {
		s.Found, s.Remedy = err.Error(), "unplug it and plug it in again, or restart it"
		return s
	}
	return fine(s.What, "it answers, and can be tested; try all that tests need with: tessellant device check %s", d.Serial())
}
