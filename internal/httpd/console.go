package httpd

// The console's files: one page, and assets whose names change with their content.

import (
	"crypto/rand"
	"io/fs"
	"mime"
	"net/http"
	"path"
	"strings"

	"github.com/labstack/echo/v5"
)

// What the page has a place for: the nonce that lets its styles in, and where the feed of events stands, so that a tab hears all that
// changes from the moment at which it was loaded.
const (
	nonceStands = "NONCE"
	placeStands = "PLACE"
)

// policy lets the page load from this service alone (CSP Level 3). Styles are made
// while the page runs, by libraries that know the nonce.
func policy(nonce string) string {
	return "default-src 'none'; script-src 'self'; style-src 'self' 'nonce-" + nonce + "'; img-src 'self' data: blob:; media-src 'self'; font-src 'self'; connect-src 'self'; " +
		"manifest-src 'self'; base-uri 'none'; form-action 'none'; frame-ancestors 'none'"
}

// consoleFiles serves the console: its assets by their names, and the page for every
// other path, since the page knows its own paths.
func consoleFiles(files fs.FS, place func() string) echo.HandlerFunc {
	page, err := fs.ReadFile(files, "index.html")
	return func(c *echo.Context) error {
		r, h := c.Request(), c.Response().Header()
		name := strings.TrimPrefix(path.Clean(r.URL.Path), "/")
		if strings.HasPrefix(name, "api/") {
			return echo.ErrNotFound
		}
		if err != nil {
			return c.String(http.StatusNotFound, "The console was not built into this program; build it with: make build\n")
		}
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		if strings.HasPrefix(name, "assets/") {
			return asset(c, files, name)
		}
		nonce := rand.Text()
		h.Set("Content-Security-Policy", policy(nonce))
		h.Set("Cache-Control", "no-store")
		return c.HTMLBlob(http.StatusOK, []byte(strings.NewReplacer(nonceStands, nonce, placeStands, place()).Replace(string(page))))
	}
}

// asset sends a file as the client takes it packed; the build packed it.
func asset(c *echo.Context, files fs.FS, name string) error {
	h := c.Response().Header()
	h.Set("Vary", "Accept-Encoding")
	accepted := c.Request().Header.Get("Accept-Encoding")
	for _, packing := range []struct{ name, end string }{{"br", ".br"}, {"gzip", ".gz"}, {"", ""}} {
		if !strings.Contains(accepted, packing.name) {
			continue
		}
		raw, err := fs.ReadFile(files, name+packing.end)
		if err != nil {
			continue
		}
		if packing.name != "" {
			h.Set("Content-Encoding", packing.name)
		}
		h.Set("Cache-Control", "public, max-age=31536000, immutable")
		return c.Blob(http.StatusOK, mime.TypeByExtension(path.Ext(name)), raw)
	}
	return echo.ErrNotFound
}
