// Package gauges has the figures that are read while a test runs: how busy the processor is, how much memory the app takes, and the like.
//
// One table says which there are. A reading is a Sample; a track of samples is CSV (RFC 4180), one row a sample, on the attempt's clock; Thin makes of a
// long one a short one in which no spike is lost. Bounds are limits on a gauge that a run sets. In: samples, texts. Out: rows, series, what was passed.
package gauges

import (
	"cmp"
	"fmt"
	"math"
	"slices"
	"strconv"
	"strings"

	"tessellant/internal/core/nearest"
)

// The gauges of the app.
const (
	Processor  = "processor"
	Memory     = "memory"
	Threads    = "threads"
	LateFrames = "late-frames"
)

// The gauges of the whole device.
const (
	DeviceProcessor = "device-processor"
	DeviceMemory    = "device-memory"
	Received        = "device-received"
	Sent            = "device-sent"
	Battery         = "battery"
	Temperature     = "temperature"
)

// Gauge is one figure.
type Gauge struct {
	Name, Unit, About string
	OfDevice          bool // not of the app alone
}

// Table are all of them, in the order of a track's columns.
var Table = []Gauge{
	{Processor, "%", "processor time of the app, of one core: 200 is two cores", false},
	{Memory, "MB", "memory of the app, shared pages in part (PSS)", false},
	{Threads, "", "threads of the app", false},
	{LateFrames, "%", "of the frames that the app drew, those that came late", false},
	{DeviceProcessor, "%", "processor time of the whole device, of all cores", true},
	{DeviceMemory, "MB", "memory that is in use on the whole device", true},
	{Received, "kB/s", "received by the whole device", true},
	{Sent, "kB/s", "sent by the whole device", true},
	{Battery, "%", "charge of the battery", true},
	{Temperature, "°C", "temperature of the battery", true},
}

// Names are the names of all gauges.
func Names() (out []string) {
	for _, g := range Table {
		out = append(out, g.Name)
	}
	return out
}

// Of finds a gauge by its name. The error says which was probably meant.
func Of(name string) (Gauge, error) {
	for _, g := range Table {
		if g.Name == name {
			return g, nil
		}
	}
	return Gauge{}, fmt.Errorf("there is no gauge %.60q%s The gauges are %s", name, cmp.Or(nearest.Meant(name, Names()), "."), strings.Join(Names(), ", "))
}

// With is a value with the gauge's unit.
func (g Gauge) With(v float64) string {
	s := Text(v)
	switch g.Unit {
	case "":
		return s
	case "%":
		return s + " %"
	}
	return s + " " + g.Unit
}

// Text writes a value: to one decimal, and without it from 100 on.
func Text(v float64) string {
	if math.Abs(v) >= 100 {
		return strconv.FormatFloat(v, 'f', 0, 64)
	}
	return strconv.FormatFloat(math.Round(v*10)/10, 'f', -1, 64)
}

// Sample is one reading. What could not be read is not in it.
type Sample struct {
	At     int64 // ms on the attempt's clock
	Values map[string]float64
}

// Series is one gauge over time. Values has a place for each of At; NaN: not read then.
type Series struct {
	Gauge  Gauge
	Values []float64
}

// Summary is a series in three numbers.
type Summary struct {
	Count            int // of readings
	Min, Median, Max float64
}

// Summary says what was read; Count 0: nothing was.
func (s Series) Summary() (out Summary) {
	var all []float64
	for _, v := range s.Values {
		if !math.IsNaN(v) {
			all = append(all, v)
		}
	}
	if len(all) == 0 {
		return out
	}
	slices.Sort(all)
	return Summary{Count: len(all), Min: all[0], Median: all[len(all)/2], Max: all[len(all)-1]}
}
