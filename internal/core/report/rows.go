package report

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	"tessellant/internal/core/verdict"
)

// Row is how one case came out on one device, for other tools.
type Row struct {
	Run        int             `json:"run"`
	RunID      string          `json:"run_id"`
	Build      string          `json:"build"`
	Package    string          `json:"package"`
	Leg        string          `json:"leg"`
	Device     string          `json:"device"`
	Model      string          `json:"model"`
	OS         string          `json:"os"`
	System     string          `json:"system"`
	Variant    string          `json:"variant,omitempty"`
	Conditions string          `json:"conditions,omitempty"`
	Case       string          `json:"case"`
	Verdict    verdict.Verdict `json:"verdict"`
	TookMS     int64           `json:"took_ms"`
	Message    string          `json:"message,omitempty"`
	Place      string          `json:"place,omitempty"`   // file and line
	Family     string          `json:"family,omitempty"`  // of its failure
	Excused    string          `json:"excused,omitempty"` // why it does not count: "as known (KELP-12)"
}

// Rows writes rows one by one; End completes what was written.
type Rows interface {
	Row(r Row) error
	End() error
}

// The forms in which rows are written.
const (
	AsCSV  = "csv"
	AsJSON = "json"
	AsTAP  = "tap"
)

// NewRows begins to write rows as CSV (RFC 4180), as a JSON array (RFC 8259), or in the Test Anything Protocol (TAP 14). Nil: there is no such form.
func NewRows(form string, w io.Writer) Rows {
	switch form {
	case AsCSV:
		return &csvRows{w: csv.NewWriter(w)}
	case AsJSON:
		return &jsonRows{w: w}
	case AsTAP:
		return &tapRows{w: w}
	}
	return nil
}

type csvRows struct {
	w     *csv.Writer
	begun bool
}

var columns = []string{"run", "run_id", "build", "package", "leg", "device", "model", "os", "variant", "conditions", "case", "verdict", "took_ms", "message", "place", "family", "excused"}

func (c *csvRows) begin() error {
	if c.begun {
		return nil
	}
	c.begun = true
	return c.w.Write(columns)
}

func (c *csvRows) Row(r Row) error {
	if err := c.begin(); err != nil {
		return err
	}
	return c.w.Write([]string{strconv.Itoa(r.Run), r.RunID, r.Build, r.Package, r.Leg, harmless(r.Device), harmless(r.Model), harmless(r.OS), r.Variant, r.Conditions, harmless(r.Case), string(r.Verdict), strconv.FormatInt(r.TookMS, 10), harmless(r.Message), harmless(r.Place), r.Family, harmless(r.Excused)})
}

func (c *csvRows) End() error {
	if err := c.begin(); err != nil {
		return err
	}
	c.w.Flush()
	return c.w.Error()
}

// harmless keeps a spreadsheet from taking a text for a formula.
func harmless(s string) string {
	if s != "" && strings.ContainsRune("=+-@\t\r", rune(s[0])) {
		return "'" + s
	}
	return s
}

type jsonRows struct {
	w io.Writer
	n int
}

func (j *jsonRows) Row(r Row) error {
	raw, err := json.Marshal(r)
	if err != nil {
		return err
	}
	between := ",\n"
	if j.n == 0 {
		between = "[\n"
	}
	j.n++
	_, err = fmt.Fprintf(j.w, "%s%s", between, raw)
	return err
}

func (j *jsonRows) End() error {
	if j.n == 0 {
		_, err := io.WriteString(j.w, "[]\n")
		return err
	}
	_, err := io.WriteString(j.w, "\n]\n")
	return err
}

type tapRows struct {
	w io.Writer
	n int
}

func (t *tapRows) Row(r Row) error {
	if t.n == 0 {
		if _, err := io.WriteString(t.w, "TAP version 14\n"); err != nil {
			return err
		}
	}
	t.n++
	where := r.Device
	if r.Variant != "" {
		where += "/" + r.Variant
	}
	ok, directive := "not ok", ""
	switch {
	case r.Verdict == verdict.Passed, r.Verdict == verdict.Flaky:
		ok = "ok"
	case r.Verdict == verdict.Skipped, r.Verdict == verdict.Lost, r.Verdict == verdict.Stopped, r.Verdict == verdict.Invalid: // they say nothing of the app
		ok, directive = "ok", " # SKIP "+string(r.Verdict)
	case r.Excused != "":
		directive = " # TODO " + oneLine(r.Excused)
	}
	if _, err := fmt.Fprintf(t.w, "%s %d - %s on %s%s\n", ok, t.n, tapText(r.Case), tapText(where), directive); err != nil {
		return err
	}
	if ok == "ok" && r.Verdict != verdict.Flaky {
		return nil
	}
	took := time.Duration(r.TookMS) * time.Millisecond
	_, err := fmt.Fprintf(t.w, "  ---\n  verdict: %s\n  message: %s\n  at: %s\n  duration_ms: %d\n  leg: %s\n  ...\n", r.Verdict, strconv.Quote(oneLine(r.Message)), strconv.Quote(r.Place), took.Milliseconds(), r.Leg)
	return err
}

func (t *tapRows) End() error {
	if t.n == 0 {
		if _, err := io.WriteString(t.w, "TAP version 14\n"); err != nil {
			return err
		}
	}
	_, err := fmt.Fprintf(t.w, "1..%d\n", t.n)
	return err
}

// oneLine is a text without breaks.
func oneLine(s string) string { return strings.Join(strings.Fields(s), " ") }

// tapText is a description in which nothing begins a directive.
func tapText(s string) string {
	return strings.ReplaceAll(strings.ReplaceAll(oneLine(s), `\`, `\\`), "#", `\#`)
}
