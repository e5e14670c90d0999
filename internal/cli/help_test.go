package cli_test

import (
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/cli"
	"tessellant/internal/demo"
	"tessellant/internal/doctor"
	"tessellant/internal/serve"
)

// tree is all commands, of both halves.
func tree() *cobra.Command {
	a := &cli.App{Out: io.Discard, Err: io.Discard}
	root := cli.Root(a)
	serve.Add(a, root)
	doctor.Add(a, root)
	demo.Add(a, root)
	return root
}

// commands calls each with every command that does something.
func commands(c *cobra.Command, each func(*cobra.Command)) {
	if c.Runnable() && !c.HasSubCommands() {
		each(c)
	}
	for _, sub := range c.Commands() {
		commands(sub, each)
	}
}

// pasted gives the arguments that a line of a help text comes to when it is typed into a shell.
func pasted(t *testing.T, line string) []string {
	t.Helper()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "tessellant"), []byte("#!/bin/sh\nprintf '%s\\0' \"$@\" > \"$SAID\"\n"), 0o700))
	require.NoError(t, os.MkdirAll(filepath.Join(dir, ".data", "demo"), 0o700)) // where the demo keeps its key
	require.NoError(t, os.WriteFile(filepath.Join(dir, ".data", "demo", "key"), nil, 0o600))
	said := filepath.Join(dir, "said")
	cmd := exec.CommandContext(t.Context(), "sh", "-euc", line)
	cmd.Dir, cmd.Env = dir, append(os.Environ(), "PATH="+dir+":"+os.Getenv("PATH"), "SAID="+said)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s\n%s", line, out)
	raw, err := os.ReadFile(said)
	require.NoError(t, err, "%s does not call tessellant", line)
	return strings.Split(strings.TrimSuffix(string(raw), "\x00"), "\x00")
}

func TestExamplesInHelpTextsCanBePasted(t *testing.T) {
	n := 0
	commands(tree(), func(c *cobra.Command) {
		if c.Hidden || c.Name() == "help" || c.Name() == "completion" || (c.HasParent() && c.Parent().Name() == "completion") {
			return
		}
		assert.NotEmpty(t, c.Short, c.CommandPath())
		if !assert.NotEmpty(t, c.Example, "%s has no example", c.CommandPath()) {
			return
		}
		own := false
		for _, line := range strings.Split(c.Example, "\n") {
			line = strings.TrimSpace(line)
			if !strings.Contains(line, "tessellant") || strings.HasPrefix(line, "#") {
				continue
			}
			n++
			args := pasted(t, line)
			// A tree of its own for each: what one line sets must not help the next.
			found, rest, err := tree().Find(args)
			require.NoError(t, err, line)
			own = own || found.CommandPath() == c.CommandPath()
			require.NoError(t, found.ParseFlags(rest), line)
			require.NoError(t, found.ValidateRequiredFlags(), line)
			require.NoError(t, found.ValidateFlagGroups(), line)
			require.NoError(t, found.ValidateArgs(found.Flags().Args()), line)
		}
		assert.True(t, own, "%s has no example of its own", c.CommandPath())
	})
	assert.Greater(t, n, 50)
}

func TestEveryFlagSaysWhatItIs(t *testing.T) {
	commands(tree(), func(c *cobra.Command) {
		for _, line := range strings.Split(c.Flags().FlagUsages(), "\n") {
			fields := strings.Fields(line)
			if len(fields) > 0 && strings.HasPrefix(fields[0], "-") {
				assert.Greater(t, len(fields), 2, "%s: %s", c.CommandPath(), line)
			}
		}
	})
}

func TestTheClientKnowsTheOtherHalfsCommands(t *testing.T) {
	a := &cli.App{Out: io.Discard, Err: io.Discard}
	lean := cli.Root(a)
	cli.AddStubs(a, lean)
	short := map[string]string{}
	for _, c := range lean.Commands() {
		short[c.Name()] = c.Short
	}
	for _, c := range tree().Commands() {
		if c.Hidden { // the demo's own
			continue
		}
		assert.Equal(t, c.Short, short[c.Name()], c.Name())
	}
	for line, want := range map[string]bool{"": false, "serve": true, "serve --listen :1": true, "--url http://x serve": true, "help serve": true, "--json doctor": true, "host": true, "host --join http://x": true, "host --help": true,
		"host list": false, "host key bench-2": false, "run start": false, "help run": false, "--version": false, "demo --again": true, "whoami": false} {
		assert.Equal(t, want, cli.ForDaemon(strings.Fields(line)), line)
	}
}

func TestAMistakeInTheArgumentsSaysWhatWasExpectedWithAnExample(t *testing.T) {
	commands(tree(), func(c *cobra.Command) {
		if c.Args == nil || c.HasSubCommands() {
			return
		}
		err := c.Args(c, strings.Fields(strings.Repeat("low-tide ", 40)))
		require.Error(t, err, c.CommandPath())
		assert.Contains(t, err.Error(), c.CommandPath()+" takes ", c.CommandPath())
		assert.Contains(t, err.Error(), `"low-tide" is one too many`)
		if !strings.Contains(c.Use, " ") || strings.Contains(c.Use, "[") {
			return
		}
		if err = c.Args(c, nil); err == nil {
			return // all it takes are flags
		}
		assert.Contains(t, err.Error(), c.CommandPath()+" needs "+strings.Fields(c.Use)[1], c.CommandPath())
		assert.Contains(t, err.Error(), "\nexample: ", c.CommandPath())
	})
}
