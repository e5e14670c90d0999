// Package console holds the console's files, as `make console` builds them from
// src/ into dist/: index.html, and under assets/ files whose names have a hash of their content in them.
package console

import (
	"embed"
	"io/fs"
)

//go:embed all:dist
var dist embed.FS

// Files gives the built files. Without index.html the console was not built.
func Files() fs.FS {
	f, err := fs.Sub(dist, "dist")
	if err != nil {
		panic(err) // dist is a valid name
	}
	return f
}
