// Package catalogue reads and writes the list of the devices that a lab lends: a small open JSON format, which docs/lab-catalogue.md describes and
// docs/lab-catalogue.schema.json fixes.
//
// Other people's labs write it, so an entry that can't be used is left out and told, and the rest is taken. In: a JSON text. Out: devices by their
// ids, each once, and what was left out.
package catalogue

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/foreign"
)

// Version is the number of the format.
const Version = 1

// Bounds of what is read.
const (
	MaxBytes   = 32 << 20
	MaxDevices = 20_000

	maxID    = 100 // bytes of a device's id
	maxWord  = 100 // bytes of any other text
	maxTold  = 20  // of what was left out
	maxSide  = 20_000
	maxABIs  = 20
	maxCount = 100_000
)

// States of a device.
const (
	Free = "free"
	Busy = "busy" // lent to somebody
	Away = "away" // it can't be lent now
)

// Catalogue is what a lab lends.
type Catalogue struct {
	Version int      `json:"catalogue"`
	Name    string   `json:"name,omitempty"`  // of the lab, for people
	Place   string   `json:"place,omitempty"` // where it stands
	AtOnce  int      `json:"at_once,omitempty"`
	Waiting int      `json:"waiting,omitempty"` // sessions that wait there for a device
	Devices []Device `json:"devices"`

	LeftOut []string `json:"-"` // what was left out, and why; the first of them
	Left    int      `json:"-"` // how many were left out
}

// Device is one device that a lab lends.
type Device struct {
	ID        string   `json:"id"`       // by which the lab knows it
	Platform  string   `json:"platform"` // android, ios, or web: a browser
	OS        string   `json:"os"`
	API       int      `json:"api,omitempty"` // Android's API level
	Maker     string   `json:"maker"`
	Model     string   `json:"model"`
	Form      string   `json:"form,omitempty"` // phone or tablet
	Width     int      `json:"width"`          // of the screen in pixels, upright
	Height    int      `json:"height"`
	Density   int      `json:"density"` // dots per inch; on iOS 160 for each pixel of a point
	MemoryMB  int      `json:"memory_mb,omitempty"`
	ABIs      []string `json:"abis,omitempty"`
	Language  string   `json:"language,omitempty"`
	UDID      string   `json:"udid,omitempty"` // of an iOS device: by which provisioning profiles list it
	Simulated bool     `json:"simulated,omitempty"`
	State     string   `json:"state,omitempty"` // free, busy or away; without: free
	Why       string   `json:"why,omitempty"`   // of one that is away
}

// Facts are the device's as everybody else has them. Origin is the lab's to say.
func (d Device) Facts(origin, place string) devices.Facts {
	return devices.Facts{Serial: d.ID, Platform: d.Platform, OS: d.OS, API: d.API, Maker: d.Maker, Model: d.Model, Form: d.Form, Origin: origin, Simulated: d.Simulated,
		Width: d.Width, Height: d.Height, Density: d.Density, MemoryMB: d.MemoryMB, ABIs: d.ABIs, Language: d.Language, UDID: d.UDID, Place: place}
}

// Of is a device as a catalogue has it. A device that is no device of a catalogue has no id then.
func Of(f devices.Facts, state, why string) Device {
	return Device{ID: f.Serial, Platform: f.Platform, OS: f.OS, API: f.API, Maker: f.Maker, Model: f.Model, Form: f.Form, Width: f.Width, Height: f.Height, Density: f.Density,
		MemoryMB: f.MemoryMB, ABIs: f.ABIs, Language: f.Language, UDID: f.UDID, Simulated: f.Simulated, State: state, Why: why}
}

// Read reads a catalogue of at most MaxBytes. The error says why none of it can be used.
func Read(r io.Reader) (*Catalogue, error) {
	limited := &io.LimitedReader{R: r, N: MaxBytes + 1}
	dec := json.NewDecoder(limited)
	var c Catalogue
	if err := dec.Decode(&c); err != nil {
		var shape *json.UnmarshalTypeError
		switch {
		case limited.N <= 0:
			return nil, fmt.Errorf("it has more than %d MB", MaxBytes>>20)
		case errors.As(err, &shape) && shape.Field == "":
			return nil, fmt.Errorf("it is a JSON %s, not an object", shape.Value)
		case errors.As(err, &shape):
			return nil, fmt.Errorf("%s is a JSON %s, which it can't be", foreign.Name(shape.Field, maxWord), shape.Value)
		}
		return nil, fmt.Errorf("it is not JSON: %w", err)
	}
	if _, err := dec.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("something stands behind its end")
	}
	switch {
	case c.Version != Version:
		return nil, fmt.Errorf(`it says "catalogue": %d; this version of tessellant reads %d`, c.Version, Version)
	case len(c.Devices) > MaxDevices:
		return nil, fmt.Errorf("it has %d devices; %d is the most", len(c.Devices), MaxDevices)
	}
	c.Name, c.Place = foreign.Name(c.Name, maxWord), foreign.Name(c.Place, maxWord)
	c.AtOnce, c.Waiting = within(c.AtOnce), within(c.Waiting)
	seen := make(map[string]bool, len(c.Devices))
	kept := c.Devices[:0]
	for i := range c.Devices {
		d := &c.Devices[i]
		why := d.Mend()
		if why == "" && seen[d.ID] {
			why = "it is there twice; the first counts"
		}
		if why != "" {
			if c.Left++; len(c.LeftOut) < maxTold {
				c.LeftOut = append(c.LeftOut, fmt.Sprintf("device %d (%s): %s", i+1, foreign.Name(d.ID, maxID), why))
			}
			continue
		}
		seen[d.ID] = true
		kept = append(kept, *d)
	}
	c.Devices = kept
	return &c, nil
}

func within(n int) int { return min(max(n, 0), maxCount) }

// Mend puts a device into the one form that everybody else reads, and says why it can't be used; "": it can.
func (d *Device) Mend() string {
	d.Platform, d.Form, d.State = strings.ToLower(d.Platform), strings.ToLower(d.Form), strings.ToLower(d.State)
	if d.Form == "" {
		d.Form = "phone"
	}
	if d.State == "" {
		d.State = Free
	}
	if d.Density == 0 {
		d.Density = 160
	}
	for _, s := range []*string{&d.OS, &d.Maker, &d.Model, &d.Language, &d.UDID, &d.Why} {
		*s = foreign.Name(strings.TrimSpace(*s), maxWord)
	}
	d.ABIs = slices.Clone(d.ABIs[:min(len(d.ABIs), maxABIs)])
	for i := range d.ABIs {
		d.ABIs[i] = foreign.Name(d.ABIs[i], maxWord)
	}
	switch {
	case d.ID == "" || len(d.ID) > maxID || foreign.Name(d.ID, maxID) != d.ID:
		return fmt.Sprintf("its id must be a text of 1 to %d bytes in one line", maxID)
	case devices.Platforms[d.Platform] == "":
		return fmt.Sprintf("its platform is %.40q; android, ios and web are known", d.Platform)
	case d.Model == "":
		return "it has no model"
	case d.OS == "":
		return "it has no os"
	case d.Form != "phone" && d.Form != "tablet":
		return fmt.Sprintf("its form is %.40q; phone and tablet are known", d.Form)
	case d.State != Free && d.State != Busy && d.State != Away:
		return fmt.Sprintf("its state is %.40q; free, busy and away are known", d.State)
	case d.Width < 1 || d.Width > maxSide || d.Height < 1 || d.Height > maxSide:
		return fmt.Sprintf("its screen is %d×%d pixels; each side has 1 to %d", d.Width, d.Height, maxSide)
	case d.Density < 20 || d.Density > 2000:
		return fmt.Sprintf("its density is %d; it can be 20 to 2000", d.Density)
	case d.API < 0 || d.API > 10_000 || d.MemoryMB < 0 || d.MemoryMB > 10<<20:
		return "its api or its memory_mb is out of bounds"
	case d.Platform == "android" && d.API == 0:
		return "it runs Android and has no api"
	}
	return ""
}

// JSON writes the catalogue.
func (c *Catalogue) JSON() ([]byte, error) {
	c.Version = Version
	if c.Devices == nil {
		c.Devices = []Device{}
	}
	return json.Marshal(c)
}
