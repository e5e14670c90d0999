package serve

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"

	"github.com/spf13/cobra"

	"tessellant/internal/cli"
	"tessellant/internal/core/backup"
	"tessellant/internal/core/verdict"
	"tessellant/internal/house"
	"tessellant/internal/service"
	"tessellant/internal/store"
)

func restoreCmd(a *cli.App) *cobra.Command {
	var c house.Config
	cmd := &cobra.Command{Use: "restore FILE.tar", Short: "Restore a backup into an empty data folder", Args: cli.Exactly(1),
		Long: `Restore a backup into an empty data folder, or into an empty database and blob store. Stop every service that
uses them first. Then start the service as usual. Its keys are those at the time of the backup.`,
		Example: "  tessellant restore tessellant-monday.tar --data /srv/tessellant\n  tessellant serve --data /srv/tessellant",
		RunE: func(cmd *cobra.Command, args []string) error {
			if c.Database == "" {
				c.Database = os.Getenv("TESSELLANT_DATABASE")
			}
			c.Log = slog.New(slog.NewTextHandler(a.Err, &slog.HandlerOptions{Level: slog.LevelWarn}))
			return restore(cmd.Context(), a, args[0], c)
		}}
	f := cmd.Flags()
	f.StringVar(&c.Data, "data", house.DefaultData(), "data folder")
	f.StringVar(&c.Database, "database", "", "an existing MariaDB: user:password@tcp(host:port)/database, without tables")
	f.StringVar(&c.Blobs, "blobs", "", "folder for builds and evidence; default: inside the data folder")
	return cmd
}

func restore(ctx context.Context, a *cli.App, path string, c house.Config) (err error) {
	const doing = "could not restore: %w"
	f, err := os.Open(path)
	if err != nil {
		return fmt.Errorf(doing, err)
	}
	defer f.Close()
	if err := backup.Whole(f); err != nil {
		return &cli.Exit{Code: verdict.ExitNothingSaid, Err: fmt.Errorf("%s can't be restored: %w", path, err)}
	}
	if _, err := f.Seek(0, io.SeekStart); err != nil {
		return err
	}
	if err := os.MkdirAll(c.Data, 0o700); err != nil {
		return fmt.Errorf(doing, err)
	}
	unlock, err := house.LockFolder(c.Data)
	if err != nil {
		return &cli.Exit{Code: verdict.ExitUnreachable, Err: err}
	}
	h := &house.House{}
	h.OnClose(unlock)
	defer h.Close()
	if err := h.OpenDatabase(ctx, &c); err != nil {
		return &cli.Exit{Code: verdict.ExitUnreachable, Err: err}
	}
	empty, err := store.Empty(ctx, c.Database)
	if err != nil {
		return &cli.Exit{Code: verdict.ExitUnreachable, Err: fmt.Errorf(doing, err)}
	}
	if !empty {
		return &cli.Exit{Code: verdict.ExitNothingSaid, Err: errors.New("could not restore: the database has tables already; choose an empty data folder with --data, or an empty database")}
	}
	bl, err := h.OpenBlobs(ctx, c)
	if err != nil {
		return &cli.Exit{Code: verdict.ExitUnreachable, Err: err}
	}
	bare, err := store.Bare(c.Database)
	if err != nil {
		return err
	}
	defer bare.Close()
	got, err := service.New(service.Config{Store: bare, Blobs: bl, Log: c.Log}).Restore(ctx, f)
	if err != nil {
		return &cli.Exit{Code: verdict.ExitNothingSaid, Err: fmt.Errorf(doing, err)}
	}
	now, err := store.Open(ctx, c.Database) // brought up to date, where the backup is of an earlier version
	if err != nil {
		return &cli.Exit{Code: verdict.ExitNothingSaid, Err: fmt.Errorf(doing, err)}
	}
	_ = now.Close()
	return a.Show(got, func() {
		fmt.Fprintf(a.Out, "Restored the database and %s, %s. Start the service with: tessellant serve --data %s\n", cli.Plural(got.Blobs, "file"), cli.BytesText(got.Bytes), c.Data)
	})
}
