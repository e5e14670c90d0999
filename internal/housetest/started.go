package housetest

// Simulated phones as processes of their own, which a command starts.

import (
	"fmt"
	"log"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"tessellant/internal/browserbox"
	"tessellant/internal/core/labfile"
	"tessellant/internal/standin/backend"
	standin "tessellant/internal/standin/phone"
)

// phoneArg has the test binary, started again, be a phone of the fleet.
const phoneArg = "simulated-phone"

// phoneProcess is a phone of the fleet at a port, until the process is killed.
func phoneProcess(serial, port string) {
	fleet, err := standin.ReadFleetFile(filepath.Join(Root(), "demo", "fleet.yaml"), false)
	if err != nil {
		log.Fatal(err)
	}
	b, err := backend.Start("127.0.0.1:0")
	if err != nil {
		log.Fatal(err)
	}
	for _, t := range fleet {
		if t.Serial != serial {
			continue
		}
		t.Temper, t.Network, t.System, t.Browser = standin.Instant, b.Network(), b.Certificate, browserbox.Browser
		if _, err := standin.Start(t, "127.0.0.1:"+port); err != nil {
			log.Fatal(err)
		}
		select {}
	}
	log.Fatalf("there is no phone %s in the fleet", serial)
}

// Startable is a lab file whose adb lab has phones of the fleet as kinds that are started when they are wanted. More are lines of each kind.
func Startable(t testing.TB, atMost int, serials []string, more ...string) *labfile.Lab {
	t.Helper()
	self, err := os.Executable()
	require.NoError(t, err)
	var text strings.Builder
	fmt.Fprintf(&text, "labs:\n  - name: adb\n    kind: adb\n    at_most: %d\n    startable:\n", atMost)
	fleet := Fleet(t)
	for _, serial := range serials {
		d := fleet[serial]
		fmt.Fprintf(&text, "      - {id: s-%s, start: %q, os: %q, api: %d, maker: %s, model: %s, width: %d, height: %d, density: %d, memory_mb: %d, simulated: true%s}\n",
			serial, fmt.Sprintf("exec %s %s %s {{.Port}}", self, phoneArg, serial), d.Android, d.API, d.Maker, d.Model, d.Width, d.Height, d.Density, d.MemoryGB<<10, strings.Join(append([]string{""}, more...), ", "))
	}
	f, mistakes := labfile.Parse([]byte(text.String()))
	require.Empty(t, mistakes, text.String())
	return f.Labs[0]
}
