package house

// The name of the built-in host: one for each installation, since several may share a database.

import (
	"crypto/rand"
	"errors"
	"os"
	"path/filepath"
	"regexp"
	"strings"
)

// firstName is what the built-in host of every installation was called before they had names of their own.
const firstName = "built-in"

var notName = regexp.MustCompile(`[^a-z0-9]+`)

// hostName gives the built-in host's name as it stands in its folder, or makes one: after this machine, with four letters behind.
func hostName(dir string) (string, error) {
	file := filepath.Join(dir, "name")
	raw, err := os.ReadFile(file)
	if err == nil {
		return strings.TrimSpace(string(raw)), nil
	}
	if !errors.Is(err, os.ErrNotExist) {
		return "", err
	}
	name := firstName
	if _, err := os.Stat(filepath.Join(dir, "spool")); err != nil { // nothing was done here before
		machine, _ := os.Hostname()
		machine = strings.Trim(notName.ReplaceAllString(strings.ToLower(machine), "-"), "-")
		if machine = machine[:min(len(machine), 40)]; machine == "" || machine[0] < 'a' {
			machine = "host-" + machine
		}
		name = strings.TrimSuffix(machine, "-") + "-" + strings.ToLower(rand.Text()[:4])
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return "", err
	}
	return name, os.WriteFile(file, []byte(name+"\n"), 0o600)
}
