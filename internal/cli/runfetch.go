package cli

// All files of a run: into a folder, where what is there already is not fetched again, or as one zip.

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/tracks"
)

func (a *App) runFetchCmd() *cobra.Command {
	return &cobra.Command{Use: "fetch RUN DIR|FILE.zip", Short: "Download all files of a run", Args: Exactly(2),
		Long: "Download all files of a run, as one zip or into DIR, which is created: run.json, junit.xml, and for each leg a folder with what leg fetch downloads.\n" +
			"SHA256SUMS lists all files; check them with: sha256sum -c SHA256SUMS. In a folder, files that are there already and whole are not downloaded again.\nRUN is an id, a number, or newest.",
		Example: "  tessellant run fetch newest run/\n  tessellant run fetch newest run.zip",
		RunE: func(c *cobra.Command, args []string) error {
			if strings.HasSuffix(args[1], ".zip") {
				return a.runZip(c.Context(), args[0], args[1])
			}
			return a.runFetch(c.Context(), args[0], args[1])
		}}
}

func (a *App) runZip(ctx context.Context, id, path string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.GetRunFiles(ctx, id)
	in, err := a.Bytes("fetch the files", r, err)
	if err != nil {
		return err
	}
	defer in.Close()
	size, err := a.save(in, 0, path, func() error { return nil })
	if err != nil {
		return err
	}
	return a.Show(map[string]any{"file": path, "bytes": size}, func() { fmt.Fprintf(a.Out, "%s, %s\n", path, BytesText(size)) })
}

// fetching is a download into a folder.
type fetching struct {
	a            *App
	client       *api.ClientWithResponses
	dir          string
	files, there int
	bytes        int64
	sums         strings.Builder
}

func (a *App) runFetch(ctx context.Context, id, dir string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	run, err := a.getRun(ctx, id)
	if err != nil {
		return err
	}
	f := &fetching{a: a, client: client, dir: dir}
	if err := f.put("run.json", run); err != nil {
		return err
	}
	r, err := client.GetRunReport(ctx, run.Id)
	report, err := a.Bytes("fetch the report", r, err)
	if err != nil {
		return err
	}
	defer report.Close()
	raw, err := io.ReadAll(report)
	if err != nil {
		return err
	}
	if err := f.write("junit.xml", raw); err != nil {
		return err
	}
	taken := map[string]bool{}
	for n, x := range run.Legs {
		folder := tracks.Folder(x.Serial, Deref(x.Variant), taken)
		if err := f.leg(ctx, x.Id, folder); err != nil {
			return err
		}
		if !a.JSON {
			fmt.Fprintf(a.Err, "%d of %d: %s\n", n+1, len(run.Legs), folder)
		}
	}
	if err := os.WriteFile(filepath.Join(dir, "SHA256SUMS"), []byte(f.sums.String()), 0o644); err != nil {
		return err
	}
	return a.Show(map[string]any{"folder": dir, "files": f.files, "bytes": f.bytes, "there": f.there}, func() {
		fmt.Fprintf(a.Out, "%s, %s, in %s", Plural(f.files, "file"), BytesText(f.bytes), dir)
		if f.there > 0 {
			fmt.Fprintf(a.Out, "; %d were there already", f.there)
		}
		fmt.Fprintln(a.Out)
		if !run.Done {
			fmt.Fprintln(a.Out, "The run has not ended: what it still gathers is not among them.")
		}
	})
}

func (f *fetching) leg(ctx context.Context, id, folder string) error {
	r, err := f.client.GetLegWithResponse(ctx, id)
	if err != nil || r.JSON200 == nil {
		return f.a.Failed("show the leg", err, r)
	}
	if err := f.put(folder+"/leg.json", r.JSON200); err != nil {
		return err
	}
	for i, at := range r.JSON200.Attempts {
		dir := folder
		if i < len(r.JSON200.Attempts)-1 {
			dir = fmt.Sprintf("%s/attempt-%d", folder, at.Number)
		}
		for _, x := range at.Artifacts {
			name := dir + "/" + x.Name
			f.files, f.bytes = f.files+1, f.bytes+x.Size
			fmt.Fprintf(&f.sums, "%s  %s\n", x.Sha256, name)
			if f.whole(name, x) {
				f.there++
				continue
			}
			if err := f.a.fetchOne(ctx, f.client, x, filepath.Join(f.dir, filepath.FromSlash(dir))); err != nil {
				return err
			}
		}
	}
	return nil
}

// whole says whether a file is there already, all of it.
func (f *fetching) whole(name string, x api.Artifact) bool {
	if !filepath.IsLocal(filepath.FromSlash(name)) {
		return false
	}
	in, err := os.Open(filepath.Join(f.dir, filepath.FromSlash(name)))
	if err != nil {
		return false
	}
	defer in.Close()
	if st, err := in.Stat(); err != nil || st.Size() != x.Size {
		return false
	}
	h := sha256.New()
	_, err = io.Copy(h, in)
	return err == nil && hex.EncodeToString(h.Sum(nil)) == x.Sha256
}

func (f *fetching) put(name string, v any) error {
	raw, err := json.MarshalIndent(v, "", "  ")
	if err != nil {
		return err
	}
	return f.write(name, append(raw, '\n'))
}

func (f *fetching) write(name string, raw []byte) error {
	path := filepath.Join(f.dir, filepath.FromSlash(name))
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return fmt.Errorf("could not make the folder: %w", err)
	}
	f.files, f.bytes = f.files+1, f.bytes+int64(len(raw))
	fmt.Fprintf(&f.sums, "%x  %s\n", sha256.Sum256(raw), name)
	return os.WriteFile(path, raw, 0o644)
}
