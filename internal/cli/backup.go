package cli

import (
	"archive/tar"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"

	"github.com/spf13/cobra"

	"tessellant/internal/core/verdict"
	"tessellant/internal/service"
	"tessellant/internal/service/upkeep"
	"tessellant/internal/store"
)

func (a *app) backupCmd() *cobra.Command {
	return &cobra.Command{Use: "backup FILE.tar", Short: "Save everything that the service keeps in one file", Args: exactly(1),
		Long: `Save everything that the service keeps in one file, while it runs: the database as of one moment, and all
builds, packages and evidence. Left out are browsers' sign-ins and the secret inputs of runs that go on.
For owners. Keys are in it as hashes only; still, keep it as you would keep the service.`,
		Example: "  tessellant backup tessellant-monday.tar",
		RunE:    func(c *cobra.Command, args []string) error { return a.backup(c.Context(), args[0]) }}
}

func (a *app) backup(ctx context.Context, path string) error {
	client, err := a.client()
	if err != nil {
		return err
	}
	if _, err := os.Stat(path); err == nil {
		return fmt.Errorf("%s is there already; choose another name", path)
	}
	r, err := client.GetBackup(ctx)
	body, err := a.bytes("back up", r, err)
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
		err = wholeBackup(f)
	}
	if err == nil {
		err = errors.Join(f.Sync(), os.Rename(part, path))
	}
	if err != nil {
		return &exit{verdict.ExitUnreachable, fmt.Errorf("could not back up: %w", err)}
	}
	return a.show(map[string]any{"file": path, "bytes": n}, func() {
		fmt.Fprintf(a.out, "Saved %s, %s. It is restored into an empty data folder with: tessellant restore %s --data DIR\n", path, bytesText(n), path)
	})
}

// wholeBackup sees whether a backup has its end.
func wholeBackup(f io.ReadSeeker) error {
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	for t := tar.NewReader(f); ; {
		h, err := t.Next()
		if err != nil {
			return fmt.Errorf("it was cut off: see the service's log (%w)", err)
		}
		if h.Name == upkeep.BackupEnd {
			return nil
		}
	}
}

func (a *app) restoreCmd() *cobra.Command {
	var c houseConfig
	cmd := &cobra.Command{Use: "restore FILE.tar", Short: "Fill an empty data folder from a backup", Args: exactly(1),
		Long: `Fill an empty data folder, or an empty database and blob store, from a backup. No service may use them
meanwhile. Then start it as before: the keys are those of the time of the backup.`,
		Example: "  tessellant restore tessellant-monday.tar --data /srv/tessellant\n  tessellant serve --data /srv/tessellant",
		RunE: func(cmd *cobra.Command, args []string) error {
			if c.Database == "" {
				c.Database = os.Getenv("TESSELLANT_DATABASE")
			}
			c.Log = slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: slog.LevelWarn}))
			return a.restore(cmd.Context(), args[0], c)
		}}
	f := cmd.Flags()
	f.StringVar(&c.Data, "data", defaultData(), "data folder")
	f.StringVar(&c.Database, "database", "", "a MariaDB that is there: user:password@tcp(host:port)/database, without tables")
	f.StringVar(&c.Blobs, "blobs", "", "where builds and evidence are kept, as a URL; default: a folder in the data folder")
	return cmd
}

func (a *app) restore(ctx context.Context, path string, c houseConfig) (err error) {
	const doing = "could not restore: %w"
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf(doing, err)
	}
	defer f.Close()
	if err := wholeBackup(f); err != nil {
		return &exit{verdict.ExitNothingSaid, fmt.Errorf("%s can't be restored: %w", path, err)}
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if err := os.MkdirAll(c.Data, 0o700); err != nil {
		return fmt.Errorf(doing, err)
	}
	unlock, err := lockFolder(c.Data)
	if err != nil {
		return &exit{verdict.ExitUnreachable, err}
	}
	h := &house{}
	h.onClose(unlock)
	defer h.Close()
	if err := h.openDatabase(ctx, &c); err != nil {
		return &exit{verdict.ExitUnreachable, err}
	}
	empty, err := store.Empty(ctx, c.Database)
	if err != nil {
		return &exit{verdict.ExitUnreachable, fmt.Errorf(doing, err)}
	}
	if !empty {
		return &exit{verdict.ExitNothingSaid, errors.New("could not restore: the database has tables already; choose an empty data folder with --data, or an empty database")}
	}
	bl, err := h.openBlobs(ctx, c)
	if err != nil {
		return &exit{verdict.ExitUnreachable, err}
	}
	bare, err := store.Bare(c.Database)
	if err != nil {
		return err
	}
	defer bare.Close()
	got, err := service.New(service.Config{Store: bare, Blobs: bl, Log: c.Log}).Restore(ctx, f)
	if err != nil {
		return &exit{verdict.ExitNothingSaid, fmt.Errorf(doing, err)}
	}
	now, err := store.Open(ctx, c.Database) // brought up to date, where the backup is of an earlier version
	if err != nil {
		return &exit{verdict.ExitNothingSaid, fmt.Errorf(doing, err)}
	}
	_ = now.Close()
	return a.show(got, func() {
		fmt.Fprintf(a.out, "Restored the database and %s, %s. Start the service with: tessellant serve --data %s\n", plural(got.Blobs, "file"), bytesText(got.Bytes), c.Data)
	})
}
