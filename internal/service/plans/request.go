package plans

// What a run may ask for, and what makes no sense in it.

import (
	"path"
	"regexp"
	"slices"
	"strings"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/gauges"
	"tessellant/internal/core/labels"
	"tessellant/internal/core/pools"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/routes"
	"tessellant/internal/core/work"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// Request asks for a run.
type Request struct {
	Build, Package string // references or ids
	Where          []string
	Devices        []string // serials
	LimitSeconds   int
	IdempotencyKey string
	Cases, Tags    []string          // which cases; none: all
	Confirm        int               // how often a failed case is tried again
	Attempts       int               // that a leg may have when devices are lost; 0: 2
	Inputs         map[string]string // plain
	Secrets        map[string]string // never shown again

	Name       string
	Labels     map[string]string
	Pool       string         // a pool by its name
	Take       pools.How      // how many of the devices that fit; empty: as the pool says, else all
	N          int            // where Take says that there is a number
	Models     bool           // any unit of each model will do
	Conditions conditions.Set // of all legs
	Variants   []conditions.Variant
	Lines      []store.Line // of devices, with their conditions
	Spread     bool         // the cases are shared out among devices that are alike
	Others     []string     // builds for devices of other platforms
	Beside     []string     // builds to install besides
	Helpers    []string     // that may be installed: work.Helpers
	Routes     []string     // from apps to the machine of who starts it
	Put        []work.File  // files of the package to put onto the device
	Fetch      []string     // files of the device to keep
	Recording  *recording.Set
	Bounds     []string // on gauges: memory<400
	Remarks    string   // work.RemarksFail, work.RemarksTell or ""
	Again      *store.AgainOf
}

// Bounds of what a run may ask for.
const (
	maxConfirm  = 10
	maxAttempts = 10
	maxRunName  = 200 // bytes
	maxLines    = 2000
	maxBeside   = 10
	maxOthers   = 5
	maxFiles    = 20 // each way
)

// pathForm is a file's place on a device that may be written or read.
var pathForm = regexp.MustCompile(`^/(sdcard|storage/[\w-]+|data/local/tmp)/[^\x00-\x1f]{1,300}$`)

// Check says what makes no sense in a request, whatever there is. It sets the limit that was not said.
func (q *Request) Check() error {
	const title = "plan the run"
	wrong := func(remedy, why string, args ...any) error {
		return refuse.New(refuse.Invalid, title, remedy, why, args...)
	}
	if q.LimitSeconds == 0 {
		q.LimitSeconds = 1800
	}
	q.Name = strings.TrimSpace(q.Name)
	switch {
	case q.LimitSeconds < 1 || q.LimitSeconds > 86400:
		return wrong("choose 1 to 86400 seconds (24 h)", "the time limit is out of range")
	case q.Confirm < 0 || q.Confirm > maxConfirm:
		return wrong("choose 0 to 10", "a failed case can't be retried %d times", q.Confirm)
	case q.Attempts < 0 || q.Attempts > maxAttempts:
		return wrong("choose 1 to 10", "a leg can't have %d attempts", q.Attempts)
	case len(q.Name) > maxRunName || strings.ContainsFunc(q.Name, func(r rune) bool { return r < ' ' }):
		return wrong("use up to 200 characters in one line", "the run's name is too long, or has characters that can't be shown")
	case len(q.Beside) > maxBeside:
		return wrong("leave some out", "%d builds can't be installed beside; %d is the most", len(q.Beside), maxBeside)
	case len(q.Others) > maxOthers:
		return wrong("leave some out", "%d builds for other platforms are too many; %d is the most", len(q.Others), maxOthers)
	case len(q.Put) > maxFiles || len(q.Fetch) > maxFiles:
		return wrong("leave some out", "at most %d files can be put onto a device, and kept of it", maxFiles)
	case len(q.Lines) > maxLines:
		return wrong("start several runs", "%d lines of devices are too many; %d is the most", len(q.Lines), maxLines)
	case len(q.Lines) > 0 && (len(q.Where)+len(q.Devices)+len(q.Variants)+len(q.Conditions) > 0 || q.Pool != "" || q.Take != ""):
		return wrong("give lines, or a filter with variants", "lines of devices say which devices and conditions; a filter, a pool, conditions and variants can't be given besides")
	}
	switch named := q.namesCases(); {
	case named && q.Spread:
		return wrong("leave one out", "lines that name their cases can't be shared out among devices")
	case named && len(q.Cases)+len(q.Tags) > 0:
		return wrong("leave one out", "lines name their cases, and patterns or tags choose others")
	}
	for i, l := range q.Lines {
		if l.Variant != "" {
			if err := conditions.CheckVariants([]conditions.Variant{{Name: l.Variant}}); err != nil {
				return wrong("use small letters, digits and hyphens", "line %d of the devices: %v", i+1, err)
			}
		}
	}
	if q.Take != "" || q.N != 0 {
		if err := (pools.Definition{Take: q.Take, N: q.N}).Check(); err != nil {
			return wrong("write all, any with a number, or differ with a number", "%v", err)
		}
	}
	if err := labels.Check(q.Labels); err != nil {
		return wrong("write name=value, such as branch=main", "%v", err)
	}
	if err := conditions.CheckVariants(q.Variants); err != nil {
		return wrong("name each variant once, such as --variant de=language:de", "%v", err)
	}
	if q.Recording == nil {
		usual := recording.Usual()
		q.Recording = &usual
	}
	if err := work.CheckHelpers(q.Helpers); err != nil {
		return wrong("leave it out", "%v", err)
	}
	if _, err := routes.ParseAll(q.Routes); err != nil {
		return wrong("write [NAME:]PORT[=LOCAL], such as 3000", "%v", err)
	}
	bounds, err := gauges.ParseBounds(q.Bounds)
	if err != nil {
		return wrong("write a gauge, < or >, and a number, such as memory<400", "%v", err)
	}
	if len(bounds) > 0 && !q.Recording.Gauges {
		return wrong("leave gauges:off out of the recordings", "a bound needs its gauge, and the gauges are switched off")
	}
	switch q.Remarks {
	case "", work.RemarksTell:
		q.Remarks = ""
	case work.RemarksFail:
		if !q.Recording.Keeps(recording.Screenshots, recording.Failures) && !q.Recording.Keeps(recording.Trees, recording.Failures) {
			return wrong("leave screenshots:off or trees:off out of the recordings", "remarks are found on screenshots and trees, and both are switched off")
		}
	default:
		return wrong("choose tell or fail", "remarks can't %.60q", q.Remarks)
	}
	q.Bounds = nil
	for _, b := range bounds {
		q.Bounds = append(q.Bounds, b.String())
	}
	for _, f := range q.Put {
		if !pathForm.MatchString(f.To) || path.Clean(f.To) != f.To {
			return wrong("choose a path below /sdcard or /data/local/tmp", "%.200q is no place for a file on a device", f.To)
		}
	}
	for _, f := range q.Fetch {
		if !pathForm.MatchString(f) || path.Clean(f) != f {
			return wrong("choose a path below /sdcard or /data/local/tmp", "%.200q is no file of a device that can be kept", f)
		}
	}
	return nil
}

// namesCases says whether lines of devices name their cases.
func (q Request) namesCases() bool {
	return slices.ContainsFunc(q.Lines, func(l store.Line) bool { return len(l.Cases) > 0 })
}

// sets says whether devices are to be set, or furnished, in ways that hosts of protocol 1 don't know.
func (q Request) sets() bool {
	return len(q.Conditions)+len(q.Lines)+len(q.Beside)+len(q.Put)+len(q.Fetch) > 0 || slices.ContainsFunc(q.Variants, func(v conditions.Variant) bool { return len(v.Conditions) > 0 })
}
