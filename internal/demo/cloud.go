package demo

// The simulated cloud: a process of its own, as somebody else's lab is.

import (
	"context"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"tessellant/internal/browserbox"
	"tessellant/internal/child"
	"tessellant/internal/cli"
	"tessellant/internal/standin/backend"
	"tessellant/internal/standin/cloudlab"
)

// cloudVariable is where the lab file has the cloud's key from.
const cloudVariable = "HERON_KEY"

// cloudPlan is what the cloud's process is told on its input.
type cloudPlan struct {
	File, Address, Key string
	Instant            bool
	Slower             time.Duration
	Network            map[string]string
	Certificate        []byte // that its phones trust
}

// cloudCmd is the cloud's process. It is not for people.
func (d *demo) cloudCmd() *cobra.Command {
	return &cobra.Command{Use: "cloud", Short: "Run the demo's simulated cloud", Hidden: true, Args: cli.Nothing, RunE: func(cmd *cobra.Command, _ []string) error {
		var p cloudPlan
		if err := json.NewDecoder(os.Stdin).Decode(&p); err != nil {
			return fmt.Errorf("read what the cloud is to be: %w", err)
		}
		f, err := cloudlab.ReadFile(p.File)
		if err != nil {
			return err
		}
		c := cloudlab.Config{File: f, Address: p.Address, Key: p.Key, Instant: p.Instant, Slower: p.Slower, Network: p.Network, Browser: browserbox.Browser}
		if c.System, err = x509.ParseCertificate(p.Certificate); err != nil {
			return err
		}
		s, err := cloudlab.Start(c)
		if err != nil {
			return err
		}
		defer s.Close()
		<-cmd.Context().Done()
		return nil
	}}
}

// startCloud starts the cloud, and writes the lab file that leads to it.
func startCloud(ctx context.Context, c demoConfig, back *backend.Server) (labs string, stop func(), err error) {
	self, err := os.Executable()
	if err != nil {
		return "", nil, err
	}
	port, err := child.FreePort()
	if err != nil {
		return "", nil, err
	}
	plan := cloudPlan{File: filepath.Join(c.Dir, "cloud.yaml"), Address: fmt.Sprintf("127.0.0.1:%d", port), Key: "heron-" + strings.ToLower(rand.Text()), Instant: c.Temper == "instant", Network: back.Network(), Certificate: back.Certificate.Raw}
	if !plan.Instant {
		plan.Slower = 150 * time.Millisecond
	}
	raw, err := json.Marshal(plan)
	if err != nil {
		return "", nil, err
	}
	log, err := os.OpenFile(filepath.Join(c.Data, "cloud.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return "", nil, err
	}
	defer log.Close()
	cmd := exec.Command(self, "cloud")
	cmd.Stdin, cmd.Stdout, cmd.Stderr = strings.NewReader(string(raw)), log, log
	p, err := child.Start(cmd, syscall.SIGKILL)
	if err != nil {
		return "", nil, err
	}
	stop = func() { p.Stop(2 * time.Second) }
	if err := p.Ready(ctx, 10*time.Second, func() error {
		conn, err := net.DialTimeout("tcp", plan.Address, time.Second)
		if err == nil {
			_ = conn.Close()
		}
		return err
	}); err != nil {
		stop()
		return "", nil, fmt.Errorf("the simulated cloud did not come up: %w", err)
	}
	text, err := os.ReadFile(filepath.Join(c.Dir, "labs.yaml"))
	if err == nil {
		labs = filepath.Join(c.Data, "labs.yaml")
		err = errors.Join(os.WriteFile(labs, []byte(strings.ReplaceAll(string(text), "127.0.0.1:7492", plan.Address)), 0o600), os.Setenv(cloudVariable, plan.Key))
	}
	if err != nil {
		stop()
		return "", nil, err
	}
	return labs, stop, nil
}
