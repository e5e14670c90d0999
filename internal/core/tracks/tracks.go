// Package tracks names the files that an attempt leaves.
//
// A track is one that grows while the attempt goes on, on the attempt's clock: it is uploaded in parts, and read
// in windows, also before it is whole. All others are written whole. What a file is, its name alone says: this table is
// the only place that knows the names.
package tracks

import (
	"fmt"
	"io/fs"
	"strings"

	"tessellant/internal/core/foreign"
)

// Artifact is a file of an attempt.
type Artifact struct{ Name, Kind, ContentType string }

// The tracks, by their names.
const (
	Timeline  = "timeline.jsonl" // what happened: core/timeline
	Gauges    = "gauges.csv"     // what was read of the device: core/gauges
	Network   = "network.har"    // what the apps asked of servers: core/har
	Looks     = "looks.jsonl"    // what the pictures and the trees of its steps said: core/steps
	DeviceLog = "device.log"     // as the device writes it: core/devicelog
	RemoteEnd = "remote-end.log" // requests of WebDriver clients, and their answers
	Output    = "output.log"     // of a program
	Video     = "video.mp4"      // the screen; encoded when the attempt is over
)

// Folders of files that are written whole.
const (
	Results     = "results/" // JUnit XML that a program wrote
	Kept        = "kept/"    // what a program kept, as it is
	Screenshots = "screenshots/"
	Trees       = "trees/" // of screens
)

// MaxKeptName is how many bytes the name of a file may have, with its folder: it is part of a key in the database.
const MaxKeptName = 150

const text = "text/plain; charset=utf-8"

// growing are the tracks that are uploaded in parts.
var growing = []Artifact{
	{Timeline, "timeline", "application/jsonl"},
	{DeviceLog, "device-log", text},
	{Gauges, "gauges", "text/csv; charset=utf-8"},
	{Network, "network", "application/json"},
	{Looks, "looks", "application/jsonl"},
	{RemoteEnd, "remote-end-log", text},
	{Output, "output", text},
}

// whole are the files that are written whole: by name, or by folder and ending.
var whole = []struct{ name, ending, kind, contentType string }{
	{Video, "", "video", "video/mp4"},
	{Results, ".xml", "results", "application/xml"},
	{Screenshots, ".png", "screenshot", "image/png"},
	{Trees, ".xml", "tree", "application/xml"},
}

// Folder is where the files of a leg lie among those of its run: its device's serial, with its variant where it has one. Taken has the folders that are
// given away already.
func Folder(serial, variant string, taken map[string]bool) string {
	name := strings.Map(func(r rune) rune {
		if r < ' ' || strings.ContainsRune(`/\:*?"<>|`, r) {
			return '-'
		}
		return r
	}, serial)
	if variant != "" {
		name += "-" + strings.ReplaceAll(variant, "/", "-")
	}
	if name = strings.Trim(foreign.Name(name, MaxKeptName), ". "); name == "" {
		name = "leg"
	}
	for free, n := name, 2; ; n++ {
		if !taken[free] {
			taken[free] = true
			return free
		}
		free = fmt.Sprintf("%s (%d)", name, n)
	}
}

// Growing lists the tracks that come in parts while an attempt goes on.
func Growing() []Artifact { return append([]Artifact(nil), growing...) }

// Named says what a file is, by its name; false: no attempt leaves such a file.
func Named(name string) (Artifact, bool) {
	// Archives of evidence are unpacked by people: a name leads nowhere else, on whatever system.
	if len(name) > MaxKeptName || name != foreign.Name(name, MaxKeptName) || !fs.ValidPath(name) || strings.Contains(name, "\\") {
		return Artifact{}, false
	}
	for _, a := range growing {
		if a.Name == name {
			return a, true
		}
	}
	for _, w := range whole {
		folder := strings.HasSuffix(w.name, "/")
		if !folder && name == w.name || folder && strings.HasPrefix(name, w.name) && strings.HasSuffix(name, w.ending) {
			return Artifact{name, w.kind, w.contentType}, true
		}
	}
	if strings.HasPrefix(name, Kept) {
		return Artifact{name, "kept", "application/octet-stream"}, true
	}
	return Artifact{}, false
}
