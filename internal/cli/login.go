package cli

// Signing in: the command line keeps address and key; a browser gets a link.

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"

	"tessellant/api"
)

// login is what login keeps, in a file that only its owner can read.
type login struct {
	URL string `json:"url"`
	Key string `json:"key"`
}

func loginFile() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", fmt.Errorf("where settings are kept is not known: %w; set TESSELLANT_URL and TESSELLANT_KEY instead", err)
	}
	return filepath.Join(dir, "tessellant", "login.json"), nil
}

// ReadLogin reads what was kept; nothing kept is no error.
func ReadLogin() (l login, err error) {
	path, err := loginFile()
	if err != nil {
		return l, nil // then all must come from the environment
	}
	raw, err := os.ReadFile(path)
	if errors.Is(err, fs.ErrNotExist) {
		return l, nil
	}
	if err == nil {
		err = json.Unmarshal(raw, &l)
	}
	if err != nil {
		return l, fmt.Errorf("what login kept can't be read: %w; sign in again with: tessellant login", err)
	}
	return l, nil
}

func (a *App) loginCmd() *cobra.Command {
	return &cobra.Command{Use: "login [URL]", Short: "Save the service address and your key", Args: UpTo(1),
		Long: `Save the address of a service and your key for later commands, in a file that only you can read.

The command asks for the key, or reads it from standard input if that is not a terminal. The key is
never an argument, because others could see it there. TESSELLANT_URL and TESSELLANT_KEY override the saved values.`,
		Example: "  tessellant login http://127.0.0.1:7480\n  tessellant login http://127.0.0.1:7480 < .data/demo/key",
		RunE: func(c *cobra.Command, args []string) error {
			if len(args) == 1 {
				a.URL = args[0]
			}
			return a.login(c.Context())
		}}
}

func (a *App) login(ctx context.Context) error {
	key, err := a.askKey()
	if err != nil {
		return err
	}
	a.Key = key
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.GetMeWithResponse(ctx)
	if err != nil || r.JSON200 == nil {
		return a.Failed("sign in", err, r)
	}
	path, err := loginFile()
	if err != nil {
		return err
	}
	raw, err := json.MarshalIndent(login{a.URL, a.Key}, "", "  ")
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return fmt.Errorf("could not keep it: %w", err)
	}
	if err := os.WriteFile(path+".part", append(raw, '\n'), 0o600); err != nil {
		return fmt.Errorf("could not keep it: %w", err)
	}
	if err := os.Rename(path+".part", path); err != nil {
		return fmt.Errorf("could not keep it: %w", err)
	}
	if u, err := url.Parse(a.URL); err == nil && u.Scheme == "http" && u.Hostname() != "localhost" && !net.ParseIP(u.Hostname()).IsLoopback() {
		fmt.Fprintf(a.Err, "Not encrypted: anybody on the network between can read the key. Use https:// if the service offers it.\n")
	}
	return a.Show(r.JSON200, func() {
		fmt.Fprintf(a.Out, "Signed in to workspace %s at %s. Kept in %s.\n", r.JSON200.Workspace, a.URL, path)
	})
}

// askKey reads the key without showing it.
func (a *App) askKey() (string, error) {
	var raw []byte
	var err error
	if fd := int(os.Stdin.Fd()); term.IsTerminal(fd) {
		fmt.Fprint(a.Err, "Key of your workspace: ")
		raw, err = term.ReadPassword(fd)
		fmt.Fprintln(a.Err)
	} else {
		raw, err = bufio.NewReader(io.LimitReader(os.Stdin, 4096)).ReadBytes('\n')
		if errors.Is(err, io.EOF) {
			err = nil
		}
	}
	if err != nil {
		return "", fmt.Errorf("the key can't be read: %w", err)
	}
	key := strings.TrimSpace(string(raw))
	if key == "" {
		return "", errors.New("no key was given: type it when asked, or send it to standard input")
	}
	return key, nil
}

func (a *App) logoutCmd() *cobra.Command {
	return &cobra.Command{Use: "logout", Short: "Delete the saved address and key", Args: Nothing, Example: "  tessellant logout",
		RunE: func(*cobra.Command, []string) error {
			path, err := loginFile()
			if err != nil {
				return err
			}
			err = os.Remove(path)
			if err != nil && !errors.Is(err, fs.ErrNotExist) {
				return fmt.Errorf("could not forget it: %w", err)
			}
			return a.Show(map[string]any{"forgotten": err == nil}, func() {
				if err != nil {
					fmt.Fprintln(a.Out, "Nothing was kept.")
					return
				}
				fmt.Fprintln(a.Out, "Forgotten.")
			})
		}}
}

func (a *App) consoleCmd() *cobra.Command {
	return &cobra.Command{Use: "console", Short: "Print a link that opens the console, signed in", Args: Nothing,
		Long:    "Print a link that opens the console in a browser, signed in. The link works once, for ten minutes.",
		Example: "  tessellant console",
		RunE: func(c *cobra.Command, _ []string) error {
			t, err := a.ticket(c.Context())
			if err != nil {
				return err
			}
			return a.Show(t, func() { fmt.Fprintln(a.Out, a.consoleLink(t)) })
		}}
}

func (a *App) ticket(ctx context.Context) (*api.Ticket, error) {
	client, err := a.Client()
	if err != nil {
		return nil, err
	}
	r, err := client.AddTicketWithResponse(ctx)
	if err != nil || r.JSON201 == nil {
		return nil, a.Failed("make the link", err, r)
	}
	return r.JSON201, nil
}

func (a *App) consoleLink(t *api.Ticket) string { return strings.TrimSuffix(a.URL, "/") + t.Path }

// ConsoleLink gives a link to the console that signs in once.
func (a *App) ConsoleLink(ctx context.Context) (string, error) {
	t, err := a.ticket(ctx)
	if err != nil {
		return "", err
	}
	return a.consoleLink(t), nil
}
