package cli

// All files of a leg, or of a run: into a folder, where what is there already is not fetched again, or as one zip.

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"path"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/tracks"
)

const fetchHelp = "SHA256SUMS lists all files; check them with: sha256sum -c SHA256SUMS. In a folder, files that are there already and whole are not downloaded again."

func (a *App) runFetchCmd() *cobra.Command {
	return &cobra.Command{Use: "fetch RUN DIR|FILE.zip", Short: "Download all files of a run", Args: Exactly(2),
		Long: "Download all files of a run, as one zip or into DIR, which is created: run.json, junit.xml, and for each leg a folder with what leg fetch downloads.\n" +
			fetchHelp + "\nRUN is an id, a number, or newest.",
		Example: "  tessellant run fetch newest run/\n  tessellant run fetch newest run.zip",
		RunE: func(c *cobra.Command, args []string) error {
			if strings.HasSuffix(args[1], ".zip") {
				return a.runZip(c.Context(), args[0], args[1])
			}
			return a.runFetch(c.Context(), args[0], args[1])
		}}
}

func (a *App) runZip(ctx context.Context, id, file string) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.GetRunFiles(ctx, id)
	return a.zip(r, err, 0, file)
}

// fetchTo downloads all files of a leg, or of a session, into a folder or a zip.
func (a *App) fetchTo(ctx context.Context, id, target string) error {
	client, l, err := a.getLeg(ctx, id)
	if err != nil {
		return err
	}
	if strings.HasSuffix(target, ".zip") {
		all := int64(0) // the zip is about as long as what is in it
		for _, at := range l.Attempts {
			for _, f := range at.Artifacts {
				all += f.Size
			}
		}
		r, err := client.GetFiles(ctx, l.Id)
		return a.zip(r, err, all, target)
	}
	f := &fetching{a: a, client: client, dir: target}
	if err := f.leg(ctx, l, ""); err != nil {
		return err
	}
	return f.done("leg", l.Stage == "done")
}

// zip saves an answer that is a zip, of about size bytes; 0: nobody knows.
func (a *App) zip(r *http.Response, err error, size int64, file string) error {
	in, err := a.Bytes("fetch the files", r, err)
	if err != nil {
		return err
	}
	defer in.Close()
	if size, err = a.save(in, size, file, func() error { return nil }); err != nil {
		return err
	}
	return a.Show(map[string]any{"file": file, "bytes": size}, func() { fmt.Fprintf(a.Out, "%s, %s\n", file, BytesText(size)) })
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
		r, err := client.GetLegWithResponse(ctx, x.Id)
		if err != nil || r.JSON200 == nil {
			return a.Failed("show the leg", err, r)
		}
		if err := f.leg(ctx, r.JSON200, folder); err != nil {
			return err
		}
		if !a.JSON {
			fmt.Fprintf(a.Err, "%d of %d: %s\n", n+1, len(run.Legs), folder)
		}
	}
	return f.done("run", run.Done)
}

// done writes the list of the files, and says what was fetched of what.
func (f *fetching) done(what string, ended bool) error {
	if err := os.WriteFile(filepath.Join(f.dir, "SHA256SUMS"), []byte(f.sums.String()), 0o644); err != nil {
		return err
	}
	return f.a.Show(map[string]any{"folder": f.dir, "files": f.files, "bytes": f.bytes, "there": f.there}, func() {
		fmt.Fprintf(f.a.Out, "%s, %s, in %s", Plural(f.files, "file"), BytesText(f.bytes), f.dir)
		if f.there > 0 {
			fmt.Fprintf(f.a.Out, "; %d were there already", f.there)
		}
		fmt.Fprintln(f.a.Out)
		if !ended {
			fmt.Fprintf(f.a.Out, "The %s has not ended: what it still gathers is not among them.\n", what)
		}
	})
}

// leg fetches the files of a leg into a folder; "": the top.
func (f *fetching) leg(ctx context.Context, l *api.Leg, folder string) error {
	if err := f.put(path.Join(folder, "leg.json"), l); err != nil {
		return err
	}
	for i, at := range l.Attempts {
		dir := folder
		if i < len(l.Attempts)-1 {
			dir = path.Join(folder, fmt.Sprintf("attempt-%d", at.Number))
		}
		for _, x := range at.Artifacts {
			name := path.Join(dir, x.Name)
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

// save writes r into a file, which gets its name only when all of it has come and whole says that it is so.
func (a *App) save(r io.Reader, size int64, path string, whole func() error) (int64, error) {
	part, err := os.Create(path + ".part")
	if err != nil {
		return 0, err
	}
	defer os.Remove(part.Name())
	defer part.Close()
	in, done := a.progress(filepath.Base(path), r, size)
	n, err := io.Copy(part, in)
	done()
	if err != nil {
		return n, fmt.Errorf("could not fetch %s: it was cut off after %s: %w; fetch it again", filepath.Base(path), BytesText(n), err)
	}
	if err := whole(); err != nil {
		return n, err
	}
	if err := part.Close(); err != nil {
		return n, err
	}
	return n, os.Rename(part.Name(), path)
}

// fetchOne downloads a file under its own name, and sees that it came whole.
func (a *App) fetchOne(ctx context.Context, client *api.ClientWithResponses, f api.Artifact, dir string) error {
	if !filepath.IsLocal(filepath.FromSlash(f.Name)) {
		return fmt.Errorf("the service names a file %q, which leads out of the folder", f.Name)
	}
	path := filepath.Join(dir, filepath.FromSlash(f.Name))
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return err
	}
	r, err := client.GetArtifact(ctx, f.Id)
	in, err := a.Bytes("fetch "+f.Name, r, err)
	if err != nil {
		return err
	}
	defer in.Close()
	h := sha256.New()
	_, err = a.save(io.TeeReader(in, h), f.Size, path, func() error {
		if sum := hex.EncodeToString(h.Sum(nil)); sum != f.Sha256 {
			return fmt.Errorf("%s came damaged: its SHA-256 is %s, not %s; fetch it again", f.Name, sum, f.Sha256)
		}
		return nil
	})
	return err
}
