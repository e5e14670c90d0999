package phone

import (
	"bytes"
	"context"
	"crypto/x509"
	"fmt"
	"io"
	"os"
	"os/exec"
	"time"

	"go.yaml.in/yaml/v3"
)

// Temper is how a phone behaves.
type Temper string

const (
	Instant  Temper = "instant"  // answers at once: for tests of everything else
	Real     Temper = "real"     // as slow as a real phone, and as shy while something moves
	Stubborn Temper = "stubborn" // real, and with the odd answers that some devices give
	Uneasy   Temper = "awkward"  // real, and with the awkward sides that real phones have, all at once
)

// Traits are what a phone is.
type Traits struct {
	Serial   string   `yaml:"serial"`
	Maker    string   `yaml:"maker"`
	Model    string   `yaml:"model"`
	Origin   string   `yaml:"origin"` // real or emulated
	Android  string   `yaml:"android"`
	API      int      `yaml:"api"`
	Width    int      `yaml:"width"`  // pixels
	Height   int      `yaml:"height"` // pixels
	Density  int      `yaml:"density"`
	MemoryGB int      `yaml:"memory_gb"`
	Language string   `yaml:"language"`
	Tablet   bool     `yaml:"tablet"`
	Dark     bool     `yaml:"dark"` // its system is in dark mode
	ABIs     []string `yaml:"abis"` // arm64-v8a and armeabi-v7a unless said
	Temper   Temper   `yaml:"temper"`
	// Skew is how far the phone's clock goes before the host's.
	Skew time.Duration `yaml:"skew"`
	// Drift is by how much its clock goes too fast, in millionths.
	Drift int `yaml:"drift"`
	// Drops is how long its cable holds on average before it drops for a moment; 0: for ever.
	Drops time.Duration `yaml:"drops"`
	// FreeMB is the free storage; 0: plenty.
	FreeMB int `yaml:"free_mb"`
	// Network says where the names that apps ask for can be found: host name → address:port.
	Network map[string]string `yaml:"-"`
	// System is a certificate that its system trusts; nil: none, so that no HTTPS works.
	System *x509.Certificate `yaml:"-"`
	// Browser is for its web views; nil: they stay empty.
	Browser Browser `yaml:"-"`
	// Trusts says that somebody has told it to trust the certificate of the host that it is used with.
	Trusts bool `yaml:"trusts_host"`
	Sides  `yaml:",inline"`
}

// Browser gives the command of a Chromium for a web view, with its profile in a folder. It sees no other file of this machine.
type Browser func(ctx context.Context, profile string, args ...string) (*exec.Cmd, error)

// oldShell reports an Android before 7, whose adbd has neither shell_v2 nor cmd.
func (t Traits) oldShell() bool { return t.API < 24 }

// ReadFleetFile reads the phones of the fleet file at path. Their cables hold, unless loose ones are wanted.
func ReadFleetFile(path string, loose bool) ([]Traits, error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	fleet, err := ReadFleet(f)
	for i := range fleet {
		if !loose {
			fleet[i].Drops = 0
		}
	}
	return fleet, err
}

// ReadFleet reads the phones of a fleet file: a YAML list of traits.
func ReadFleet(r io.Reader) ([]Traits, error) {
	raw, err := io.ReadAll(io.LimitReader(r, 1<<20))
	if err != nil {
		return nil, err
	}
	var f struct {
		Phones []Traits `yaml:"phones"`
	}
	dec := yaml.NewDecoder(bytes.NewReader(raw))
	dec.KnownFields(true)
	if err := dec.Decode(&f); err != nil {
		return nil, fmt.Errorf("the fleet file can't be read: %w", err)
	}
	seen := map[string]bool{}
	for i := range f.Phones {
		t := &f.Phones[i]
		if t.Serial == "" || seen[t.Serial] {
			return nil, fmt.Errorf("the fleet file's phone %d has no serial of its own", i+1)
		}
		seen[t.Serial] = true
		if err := t.complete(); err != nil {
			return nil, fmt.Errorf("the fleet file's phone %s: %w", t.Serial, err)
		}
	}
	return f.Phones, nil
}

func (t *Traits) complete() error {
	if t.Temper == "" {
		t.Temper = Real
	}
	if len(t.ABIs) == 0 {
		t.ABIs = []string{"arm64-v8a", "armeabi-v7a"}
	}
	if t.Language == "" {
		t.Language = "en"
	}
	switch {
	case t.Temper != Instant && t.Temper != Real && t.Temper != Stubborn && t.Temper != Uneasy:
		return fmt.Errorf("its temper is %q; it can be instant, real, stubborn or awkward", t.Temper)
	case t.Width < 100 || t.Width > 4000 || t.Height < 100 || t.Height > 4000:
		return fmt.Errorf("its screen is %d×%d; 100 to 4000 each way", t.Width, t.Height)
	case t.Density < 80 || t.Density > 800:
		return fmt.Errorf("its density is %d; 80 to 800", t.Density)
	case t.API < 16 || t.API > 50:
		return fmt.Errorf("its API level is %d", t.API)
	}
	return t.Sides.check()
}
