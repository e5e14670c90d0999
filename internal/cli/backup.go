package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"

	"github.com/spf13/cobra"

	"tessellant/internal/core/backup"
	"tessellant/internal/core/verdict"
)

func (a *App) backupCmd() *cobra.Command {
	return &cobra.Command{Use: "backup FILE.tar", Short: "Save a backup of everything in one file", Args: Exactly(1),
		Long: `Save a backup of the running service in one file: a consistent copy of the database, and all builds,
packages and evidence. It does not have the sign-ins of browsers and the secret inputs of unfinished runs.
It has hashes of keys, not the keys. Protect it like the service itself. For operators.`,
		Example: "  tessellant backup tessellant-monday.tar",
		RunE:    func(c *cobra.Command, args []string) error { return a.backup(c.Context(), args[0]) }}
}

func (a *App) backup(ctx context.Context, path string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	if _, err := os.Stat(path); err == nil {
		return fmt.Errorf("%s is there already; choose another name", path)
	}
	r, err := client.GetBackup(ctx)
	body, err := a.Bytes("back up", r, err)
	if err != nil {
		return err
	}
	defer body.Close()
	part := path + ".part"
	f, err := os.OpenFile(part, os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	defer func() { _ = f.Close(); _ = os.Remove(part) }()
	n, err := io.Copy(f, body)
	if err == nil {
		err = backup.Whole(f)
	}
	if err == nil {
		err = errors.Join(f.Sync(), os.Rename(part, path))
	}
	if err != nil {
		return &Exit{verdict.ExitUnreachable, fmt.Errorf("could not back up: %w", err)}
	}
	return a.Show(map[string]any{"file": path, "bytes": n}, func() {
		fmt.Fprintf(a.Out, "Saved %s, %s. It is restored into an empty data folder with: tessellant restore %s --data DIR\n", path, BytesText(n), path)
	})
}
