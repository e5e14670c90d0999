package cli

// The program has two halves: the client's commands start at once; the service, hosts and the demo carry much more, and are in a file beside it.

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"
)

// Daemon is the name of the other half's file.
const Daemon = "tessellantd"

// Other is a command of the other half.
type Other struct{ Use, Short string }

// Elsewhere are the other half's commands.
var Elsewhere = []Other{
	{"serve", "Start the service"},
	{"doctor", "Check this machine's setup and suggest fixes"},
	{"restore FILE.tar", "Restore a backup into an empty data folder"},
	{"demo", "Start the demo: service, console, simulated phones, runs"},
	{"example", "Do the main job once, on simulated phones"},
}

// LabTry is one of the other half's below lab.
var LabTry = Other{"try FILE", "Open one session at a lab of a lab file"}

// stub stands for the command in the client's help.
func (o Other) stub() *cobra.Command {
	return &cobra.Command{Use: o.Use, Short: o.Short, DisableFlagParsing: true, RunE: func(*cobra.Command, []string) error {
		return errors.New("this command is carried out by " + Daemon)
	}}
}

// AddStubs adds stubs of the other half's commands, for the list of all.
func AddStubs(_ *App, root *cobra.Command) {
	for _, o := range Elsewhere {
		root.AddCommand(o.stub())
	}
	for _, c := range root.Commands() {
		if c.Name() == "lab" {
			c.AddCommand(LabTry.stub())
		}
	}
}

// ForDaemon says whether a command line is for the other half.
func ForDaemon(args []string) bool {
	var words []string
	for i := 0; i < len(args); i++ {
		switch {
		case args[i] == "--url":
			i++
		case !strings.HasPrefix(args[i], "-"):
			words = append(words, args[i])
		}
	}
	if len(words) > 0 && words[0] == "help" {
		words = words[1:]
	}
	if len(words) == 0 {
		return false
	}
	if words[0] == "host" { // to be one, or to ask about them
		return len(words) == 1 || !slices.Contains([]string{"key", "list", "remove"}, words[1])
	}
	if words[0] == "lab" {
		return len(words) > 1 && words[1] == "try"
	}
	return slices.ContainsFunc(Elsewhere, func(o Other) bool { return strings.Fields(o.Use)[0] == words[0] })
}

// BecomeDaemon has the other half take this process over.
func BecomeDaemon(args []string) error {
	path, err := daemonPath()
	if err != nil {
		return err
	}
	return syscall.Exec(path, append([]string{path}, args...), os.Environ())
}

// daemonPath is where the other half is: beside this one, else in the PATH.
func daemonPath() (string, error) {
	self, err := os.Executable()
	if err == nil {
		self, err = filepath.EvalSymlinks(self)
	}
	if err == nil {
		beside := filepath.Join(filepath.Dir(self), Daemon)
		if _, err := os.Stat(beside); err == nil {
			return beside, nil
		}
	}
	path, err := exec.LookPath(Daemon)
	if err != nil {
		return "", fmt.Errorf("this command needs %s, which belongs beside %s and is not there: build both with make build, or copy both", Daemon, self)
	}
	return path, nil
}
