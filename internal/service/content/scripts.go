package content

// Packages of one script.

import (
	"bytes"
	"context"
	"regexp"

	"tessellant/internal/core/testpkg"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// scriptFile is what the one script of such a package is called.
const scriptFile = "recorded.star"

var packageName = regexp.MustCompile(`^[a-z][a-z0-9-]{0,62}$`)

// AddScript adds a package of one script.
func (s *Content) AddScript(ctx context.Context, who store.Identity, name, source string) (p store.Package, isNew bool, err error) {
	if !packageName.MatchString(name) {
		return p, false, refuse.New(refuse.Invalid, "add the package", "such as shore-suite", "the name is %.100q; it needs small letters, digits and dashes, a letter first, 63 at most", name)
	}
	zip, err := testpkg.Single(name, scriptFile, source)
	if err != nil {
		return p, false, err
	}
	return s.AddPackage(ctx, who, Upload{Body: bytes.NewReader(zip), Size: int64(len(zip))})
}
