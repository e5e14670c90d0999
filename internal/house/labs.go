package house

// Where a host's devices come from: what its lab file says, else the adb server alone.

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"

	"tessellant/internal/core/labfile"
	"tessellant/internal/lab"
	"tessellant/internal/lab/adblab"
	"tessellant/internal/lab/browserlab"
	"tessellant/internal/lab/startlab"
	"tessellant/internal/lab/wdlab"
)

// LabsHelp says what can be chosen.
const LabsHelp = "lab file: where devices come from besides the adb server; see docs/labs.md and: tessellant lab check FILE"

// LabsConfig is what the labs of a host need.
type LabsConfig struct {
	File      string            // a lab file; "": the adb server alone
	ADB       string            // as --adb-server has it
	Connect   []string          // devices on the network, of the adb server
	Emulators bool              // those on this machine are looked for, where the adb server is our own
	Dir       string            // of the host
	ADBDir    string            // of an adb server of our own
	OpenBox   bool              // browsers run even where they can't be kept apart
	Names     map[string]string // hosts that pages ask for, and where they are found
	Roots     *x509.CertPool
	Log       *slog.Logger
}

// Labs are those of a host.
type Labs struct {
	Makers  []lab.Maker
	Refused []string // addresses that programs must not reach
	Stop    func()
}

// OpenLabs makes the labs of a host ready. The error says which line of the lab file is wrong, or which secret is not there.
func OpenLabs(ctx context.Context, c LabsConfig) (Labs, error) {
	out := Labs{Stop: func() {}}
	file := &labfile.File{Labs: []*labfile.Lab{{Name: lab.First, Kind: labfile.ADB}}}
	if c.File != "" {
		var err error
		if file, err = ReadLabs(c.File); err != nil {
			return out, err
		}
	}
	for _, l := range file.Labs {
		switch l.Kind {
		case labfile.ADB:
			server, err := FindADB(ctx, c.ADB, c.ADBDir)
			if err != nil {
				out.Stop()
				return out, err
			}
			before := out.Stop
			out.Stop = func() { server.Stop(); before() }
			c.Log.Info("devices come from "+server.Found, "lab", l.Name)
			conf := adblab.Config{Called: l.Name, Server: server.Server, Emulators: EmulatorPorts(c.Emulators && server.Ours), Connect: c.Connect, Log: c.Log}
			if len(l.Startable) == 0 {
				out.Makers = append(out.Makers, adblab.Maker(conf))
			} else if err := out.started(c, l, conf); err != nil {
				out.Stop()
				return out, err
			}
			out.Refused = append(out.Refused, server.Address)
		case labfile.WebDriver, labfile.Tessellant:
			made, err := wdlab.New(wdlab.Config{Lab: l, Folder: filepath.Dir(c.File), Dir: filepath.Join(c.Dir, "labs"), Log: c.Log})
			if err != nil {
				out.Stop()
				return out, err
			}
			c.Log.Info("devices come from a lab", "lab", l.Name, "address", l.Address)
			out.Makers = append(out.Makers, wdlab.Maker(made))
			out.Refused = append(out.Refused, l.Address)
		case labfile.Browser:
			made, stop, err := browserlab.Start(ctx, browserlab.Config{Lab: l, Dir: filepath.Join(c.Dir, "labs"), Open: c.OpenBox, Names: c.Names, Roots: c.Roots, Log: c.Log})
			if err != nil {
				out.Stop()
				return out, err
			}
			before := out.Stop
			out.Stop = func() { stop(); before() }
			c.Log.Info("browsers of this machine are devices", "lab", l.Name)
			out.Makers = append(out.Makers, wdlab.Maker(made))
			out.Refused = append(out.Refused, made.Lab.Address)
		}
	}
	return out, nil
}

// started adds the lab of an adb server, and the one of the devices that are started beside it.
func (o *Labs) started(c LabsConfig, l *labfile.Lab, conf adblab.Config) error {
	starts, err := startlab.New(startlab.Config{Lab: l, Server: conf.Server, Dir: filepath.Join(c.Dir, "labs", startlab.Name(l.Name)), Log: c.Log})
	if err != nil {
		return err
	}
	conf.Apart = starts.Owns
	o.Makers = append(o.Makers, func(busy func(string) bool) lab.Lab {
		bridge := adblab.New(conf, busy)
		starts.Beside(bridge)
		return bridge
	}, func(func(string) bool) lab.Lab { return starts })
	return nil
}

// ReadLabs reads a lab file. The error has all mistakes, a line each.
func ReadLabs(path string) (*labfile.File, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return nil, fmt.Errorf("read the lab file: %w", err)
	}
	file, mistakes := labfile.Parse(raw)
	if len(mistakes) > 0 {
		var lines []string
		for _, m := range mistakes {
			lines = append(lines, "  "+m.Error())
		}
		return nil, errors.New("the lab file " + path + " can't be used:\n" + strings.Join(lines, "\n"))
	}
	return file, nil
}
