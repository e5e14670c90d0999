package cli

// What a run is asked for: by flags, by a run file, or by both. What a flag says wins over the file; inputs and labels are put together.

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"tessellant/api"
	"tessellant/internal/core/conditions"
	"tessellant/internal/core/labels"
	"tessellant/internal/core/runfile"
)

// runFlags are the choices that a run has, whoever starts it.
type runFlags struct {
	cases, tags, set, secret []string
	confirm, attempts        int
	limit                    time.Duration
	conditions               string

	flags *pflag.FlagSet // knows which were given
}

func (q *runFlags) register(f *pflag.FlagSet) {
	q.flags = f
	f.StringArrayVar(&q.cases, "case", nil, "only cases whose name matches, such as 'survey.*' or tides.test_tide_table; repeat for more")
	f.StringArrayVar(&q.tags, "tag", nil, "only cases with this tag; repeat for more tags, of which a case needs one")
	f.StringArrayVar(&q.set, "set", nil, "an input of the package: NAME=VALUE; repeat for more")
	f.StringArrayVar(&q.secret, "secret-from-env", nil, "a secret input, masked in all evidence: NAME=VARIABLE of the environment; repeat for more")
	f.IntVar(&q.confirm, "confirm", 0, "retry a failed case this many times, on the same device from a clean state; if it then passes, it is flaky")
	f.IntVar(&q.attempts, "attempts", 2, "most attempts for a leg when devices are lost")
	f.DurationVar(&q.limit, "limit", 30*time.Minute, "time limit for the cases on one device")
	f.StringVar(&q.conditions, "conditions", "", "how to set the device first, such as language:de,dark,font-scale:1.3. Conditions: "+strings.Join(conditions.Names(), " "))
}

// given says whether a flag was written.
func (q *runFlags) given(name string) bool { return q.flags.Changed(name) }

// apply puts the choices into a request.
func (q *runFlags) apply(r *api.RunRequest) error {
	if q.limit <= 0 {
		return fmt.Errorf("--limit must be longer than nothing, such as 5m")
	}
	if r.LimitSeconds == nil || q.given("limit") {
		seconds := int((q.limit + time.Second - 1) / time.Second)
		r.LimitSeconds = &seconds
	}
	if r.Confirm == nil || q.given("confirm") {
		r.Confirm = &q.confirm
	}
	if r.Attempts == nil || q.given("attempts") {
		r.Attempts = &q.attempts
	}
	if len(q.cases) > 0 {
		r.Cases = &q.cases
	}
	if len(q.tags) > 0 {
		r.Tags = &q.tags
	}
	if q.conditions != "" {
		set, err := conditions.Parse(q.conditions)
		if err != nil {
			return fmt.Errorf("--conditions: %w", err)
		}
		all := joined(r.Conditions, set)
		r.Conditions = &all
	}
	inputs, err := pairs("--set", q.set, "VALUE")
	if err != nil {
		return err
	}
	secrets, err := pairs("--secret-from-env", q.secret, "VARIABLE")
	if err != nil {
		return err
	}
	if secrets, err = fromEnv(secrets); err != nil {
		return err
	}
	if all := joined(r.Inputs, inputs); len(all) > 0 {
		r.Inputs = &all
	}
	if all := joined(r.Secrets, secrets); len(all) > 0 {
		r.Secrets = &all
	}
	return nil
}

// joined puts what a flag says over what the file says.
func joined(file *map[string]string, flag map[string]string) map[string]string {
	out := map[string]string{}
	maps.Copy(out, Deref(file))
	maps.Copy(out, flag)
	return out
}

// pairs reads NAME=VALUE.
func pairs(flag string, all []string, what string) (map[string]string, error) {
	m := map[string]string{}
	for _, x := range all {
		name, value, ok := strings.Cut(x, "=")
		if !ok || name == "" {
			return nil, fmt.Errorf("%s is %q; write NAME=%s", flag, x, what)
		}
		m[name] = value
	}
	return m, nil
}

// fromEnv takes secrets from the variables that are named.
func fromEnv(variables map[string]string) (map[string]string, error) {
	m := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(variables)) {
		if m[name] = os.Getenv(variables[name]); m[name] == "" {
			return nil, fmt.Errorf("--secret-from-env %s: the environment has no %s", name, variables[name])
		}
	}
	return m, nil
}

// askFlags are the choices of run start and run check besides those of runFlags.
type askFlags struct {
	runFlags
	build, pkg, file, pool, lines, name string
	where, devices, variants, labels    []string
	beside, put, fetch                  []string
	any, differ                         int
	anyUnit, spread                     bool
}

func (q *askFlags) register(f *pflag.FlagSet) {
	f.StringVar(&q.build, "build", "", "the build: an id, kelpline/android@231, @v1.8.0 or @newest")
	f.StringVar(&q.pkg, "package", "", "the package: an id, shore-suite@7 or @newest")
	f.StringVar(&q.file, "file", "", "a run file, such as: tessellant run show newest --as-file; flags win over it")
	f.StringVar(&q.pool, "pool", "", "a pool of devices; --where and --device narrow it")
	f.StringArrayVar(&q.where, "where", nil, whereHelp)
	f.StringArrayVar(&q.devices, "device", nil, "serial of a device; repeat for more")
	f.IntVar(&q.any, "any", 0, "take this many of the devices that fit; free ones first")
	f.IntVar(&q.differ, "differ", 0, "take this many of the devices that fit: those that differ most")
	f.BoolVar(&q.anyUnit, "any-unit", false, "one leg per model; any unit of the model can run it")
	f.StringVar(&q.lines, "lines", "", "CSV file with the columns device,version,language,orientation; one leg per line")
	f.StringArrayVar(&q.variants, "variant", nil, "a leg per device with these conditions: NAME=CONDITIONS, such as de=language:de; repeat for more")
	f.BoolVar(&q.spread, "spread", false, "share the cases out among devices that are alike; each case runs once per kind")
	f.StringVar(&q.name, "name", "", "name of the run")
	f.StringArrayVar(&q.labels, "label", nil, "label of the run: NAME=VALUE, such as branch=main; repeat for more")
	f.StringArrayVar(&q.beside, "beside", nil, "build of another app to install beside; repeat for more")
	f.StringArrayVar(&q.put, "put", nil, "file of the package to put onto the device: FILE=PATH; repeat for more")
	f.StringArrayVar(&q.fetch, "fetch", nil, "file of the device to keep after the test, such as /sdcard/Download/out.txt; repeat for more")
	q.runFlags.register(f)
}

// request puts file and flags together.
func (q *askFlags) request(c *cobra.Command) (r api.RunRequest, err error) {
	if q.file != "" {
		if r, err = fromFile(q.file); err != nil {
			return r, err
		}
	}
	text := func(flag string, to *string) {
		if flag != "" {
			*to = flag
		}
	}
	text(q.build, &r.Build)
	text(q.pkg, &r.Package)
	var missing []string
	if r.Build == "" {
		missing = append(missing, "--build")
	}
	if r.Package == "" {
		missing = append(missing, "--package")
	}
	if len(missing) > 0 {
		return r, usage(c, c.CommandPath()+" needs "+strings.Join(missing, " and ")+", or --file with a run file that has them")
	}
	maybe := func(flag string, to **string) {
		if flag != "" {
			*to = &flag
		}
	}
	maybe(q.pool, &r.Pool)
	maybe(q.name, &r.Name)
	list := func(flag []string, to **[]string) {
		if len(flag) > 0 {
			*to = &flag
		}
	}
	list(q.where, &r.Where)
	list(q.devices, &r.Devices)
	list(q.beside, &r.Beside)
	list(q.fetch, &r.Fetch)
	if q.any > 0 && q.differ > 0 {
		return r, errors.New("--any and --differ can't go together")
	}
	take := func(how api.RunRequestTake, n int) {
		r.Take, r.N = &how, &n
	}
	switch {
	case q.given("any"):
		take(api.RunRequestTakeAny, q.any)
	case q.given("differ"):
		take(api.RunRequestTakeDiffer, q.differ)
	}
	if q.anyUnit {
		r.Models = &q.anyUnit
	}
	if q.spread {
		r.Spread = &q.spread
	}
	if len(q.variants) > 0 {
		var all []api.Variant
		for _, x := range q.variants {
			v, err := conditions.ParseVariant(x)
			if err != nil {
				return r, fmt.Errorf("--variant: %w", err)
			}
			set := map[string]string(v.Conditions)
			all = append(all, api.Variant{Name: v.Name, Conditions: &set})
		}
		r.Variants = &all
	}
	with, err := labels.Parse(q.labels)
	if err != nil {
		return r, fmt.Errorf("--label: %w", err)
	}
	if all := joined(r.Labels, with); len(all) > 0 {
		r.Labels = &all
	}
	put, err := pairs("--put", q.put, "PATH")
	if err != nil {
		return r, err
	}
	if len(put) > 0 {
		files := putFiles(put)
		r.Put = &files
	}
	if q.lines != "" {
		lines, err := readLines(q.lines)
		if err != nil {
			return r, err
		}
		r.Lines = &lines
	}
	return r, q.apply(&r)
}

func putFiles(m map[string]string) (out []api.PutFile) {
	for _, from := range slices.Sorted(maps.Keys(m)) {
		out = append(out, api.PutFile{From: from, To: m[from]})
	}
	return out
}

// fromFile reads a run file.
func fromFile(name string) (r api.RunRequest, err error) {
	in := io.Reader(os.Stdin)
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return r, err
		}
		defer f.Close()
		in = f
	}
	raw, err := io.ReadAll(io.LimitReader(in, runfile.MaxBytes+1))
	if err != nil {
		return r, err
	}
	x, err := runfile.Parse(raw)
	if err != nil {
		return r, fmt.Errorf("%s: %w", name, err)
	}
	some := func(s string) *string {
		if s == "" {
			return nil
		}
		return &s
	}
	list := func(all []string) *[]string {
		if len(all) == 0 {
			return nil
		}
		return &all
	}
	r = api.RunRequest{Build: x.Build, Package: x.Package, Name: some(x.Name), Pool: some(x.Pool), Where: list(x.Where), Devices: list(x.Devices), Cases: list(x.Cases), Tags: list(x.Tags), Beside: list(x.Beside), Fetch: list(x.Fetch)}
	if len(x.Labels) > 0 {
		r.Labels = &x.Labels
	}
	if len(x.Inputs) > 0 {
		r.Inputs = &x.Inputs
	}
	if len(x.SecretsFromEnv) > 0 {
		secrets, err := fromEnv(x.SecretsFromEnv)
		if err != nil {
			return r, fmt.Errorf("%s: %w", name, err)
		}
		r.Secrets = &secrets
	}
	if x.Any > 0 {
		how := api.RunRequestTakeAny
		r.Take, r.N = &how, &x.Any
	}
	if x.Differ > 0 {
		how := api.RunRequestTakeDiffer
		r.Take, r.N = &how, &x.Differ
	}
	if x.AnyUnit {
		r.Models = &x.AnyUnit
	}
	if x.Spread {
		r.Spread = &x.Spread
	}
	if x.Confirm > 0 {
		r.Confirm = &x.Confirm
	}
	if x.Attempts > 0 {
		r.Attempts = &x.Attempts
	}
	if x.Limit > 0 {
		seconds := int(time.Duration(x.Limit).Seconds())
		r.LimitSeconds = &seconds
	}
	if len(x.Conditions) > 0 {
		set := map[string]string(x.Conditions)
		r.Conditions = &set
	}
	if len(x.Variants) > 0 {
		var all []api.Variant
		for _, v := range x.Variants {
			set := map[string]string(v.Conditions)
			all = append(all, api.Variant{Name: v.Name, Conditions: &set})
		}
		r.Variants = &all
	}
	if len(x.Lines) > 0 {
		var all []api.DeviceLine
		for _, l := range x.Lines {
			all = append(all, api.DeviceLine{Device: l.Device, Version: some(l.Version), Language: some(l.Language), Orientation: some(l.Orientation)})
		}
		r.Lines = &all
	}
	if len(x.Put) > 0 {
		files := putFiles(x.Put)
		r.Put = &files
	}
	return r, nil
}

// readLines reads a CSV file (RFC 4180) of devices: device,version,language,orientation. The first line may name the columns.
func readLines(name string) (out []api.DeviceLine, err error) {
	f, err := os.Open(name)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	c := csv.NewReader(io.LimitReader(f, 256<<10))
	c.FieldsPerRecord, c.TrimLeadingSpace = -1, true
	rows, err := c.ReadAll()
	if err != nil {
		return nil, fmt.Errorf("%s is no CSV file: %w", name, err)
	}
	order := []string{"device", "version", "language", "orientation"}
	if len(rows) > 0 && slices.ContainsFunc(rows[0], func(s string) bool { return strings.EqualFold(strings.TrimSpace(s), "device") }) {
		order = nil
		for _, h := range rows[0] {
			order = append(order, strings.ToLower(strings.TrimSpace(h)))
		}
		rows = rows[1:]
	}
	for n, row := range rows {
		l := api.DeviceLine{}
		for i, v := range row {
			if v = strings.TrimSpace(v); v == "" {
				continue
			}
			if i >= len(order) {
				return nil, fmt.Errorf("%s, line %d has more than %d columns; write device,version,language,orientation", name, n+1, len(order))
			}
			switch order[i] {
			case "device":
				l.Device = v
			case "version":
				l.Version = &v
			case "language":
				l.Language = &v
			case "orientation":
				l.Orientation = &v
			default:
				return nil, fmt.Errorf("%s has a column %q; the columns are device,version,language,orientation", name, order[i])
			}
		}
		out = append(out, l)
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("%s has no lines of devices", name)
	}
	return out, nil
}
