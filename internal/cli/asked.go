package cli

// What a run is asked for: by flags, by a run file, or by both. What a flag says wins over the file; inputs and labels are put together.

import (
	"cmp"
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
	"tessellant/internal/core/gauges"
	"tessellant/internal/core/labels"
	"tessellant/internal/core/pools"
	"tessellant/internal/core/recording"
	"tessellant/internal/core/runfile"
)

// runFlags are the choices that a run has, whoever starts it.
type runFlags struct {
	cases, tags, set, secret []string
	confirm, attempts        int
	routes, helpers          []string
	limit                    time.Duration
	conditions, record       string
	bounds                   []string
	remarks                  string

	flags *pflag.FlagSet // knows which were given
}

const (
	usualAttempts = 2
	helperHelp    = "install a helper on the device for the time: keyboard, which types any text"
)

func (q *runFlags) register(f *pflag.FlagSet) {
	q.flags = f
	f.StringArrayVar(&q.cases, "case", nil, "only cases whose name matches, such as 'survey.*' or tides.test_tide_table; repeat for more")
	f.StringArrayVar(&q.tags, "tag", nil, "only cases with this tag; repeat for more tags, of which a case needs one")
	f.StringArrayVar(&q.set, "set", nil, "an input of the package: NAME=VALUE; repeat for more")
	f.StringArrayVar(&q.secret, "secret-from-env", nil, "a secret input, masked in all evidence: NAME=VARIABLE of the environment; repeat for more")
	f.StringArrayVar(&q.routes, "route", nil, "lead apps to a server on your machine: [NAME:]PORT[=LOCAL], such as 3000; repeat for more (see: tessellant route open --help)")
	f.StringArrayVar(&q.helpers, "helper", nil, helperHelp)
	f.IntVar(&q.confirm, "confirm", 0, "retry a failed case this many times, on the same device from a clean state; if it then passes, it is flaky")
	f.IntVar(&q.attempts, "attempts", usualAttempts, "most attempts for a leg when devices are lost")
	f.DurationVar(&q.limit, "limit", 30*time.Minute, "time limit for the cases on one device")
	f.StringVar(&q.conditions, "conditions", "", "how to set the device first, such as language:de,dark,font-scale:1.3. Conditions: "+strings.Join(conditions.Names(), " "))
	f.StringVar(&q.record, "record", "", "what to keep, where not the usual: video:off,screenshots:commands. "+recordHelp())
	f.StringVar(&q.remarks, "remarks", "", "what is wrong with a screen though no test asked for it: tell, the default, or fail, which fails the case")
	f.StringArrayVar(&q.bounds, "bound", nil, "a limit on a gauge that fails a case, such as 'memory<400'; repeat for more. Gauges: "+strings.Join(gauges.Names(), " "))
}

// recordHelp says what can be kept.
func recordHelp() string {
	var said []string
	for _, k := range recording.Table {
		said = append(said, k.Name+" ("+strings.Join(k.Values, ", ")+"; usual: "+k.Usual+")")
	}
	return strings.Join(said, ", ")
}

// given says whether a flag was written.
func (q *runFlags) given(name string) bool { return q.flags.Changed(name) }

// over puts the choices over those of a file.
func (q *runFlags) over(f *runfile.File) (err error) {
	if q.limit <= 0 {
		return errors.New("--limit must be longer than nothing, such as 5m")
	}
	if f.Limit == 0 || q.given("limit") {
		f.Limit = runfile.Duration(q.limit)
	}
	if q.given("confirm") {
		f.Confirm = q.confirm
	}
	if f.Attempts == 0 || q.given("attempts") {
		f.Attempts = q.attempts
	}
	replace(q.cases, &f.Cases)
	replace(q.tags, &f.Tags)
	if q.conditions != "" {
		set, err := conditions.Parse(q.conditions)
		if err != nil {
			return fmt.Errorf("--conditions: %w", err)
		}
		f.Conditions = joined(f.Conditions, runfile.Conditions(set))
	}
	if q.record != "" {
		set, err := recording.Usual().WithAll(f.Recording)
		if err == nil {
			set, err = set.Parse(q.record)
		}
		if err != nil {
			return fmt.Errorf("--record: %w", err)
		}
		f.Recording = set.Changed()
	}
	if _, err := gauges.ParseBounds(q.bounds); err != nil {
		return fmt.Errorf("--bound: %w", err)
	}
	replace(q.bounds, &f.Bounds)
	replace(q.routes, &f.Routes)
	replace(q.helpers, &f.Helpers)
	if q.remarks != "" {
		f.Remarks = q.remarks
	}
	inputs, err := pairs("--set", q.set, "VALUE")
	if err != nil {
		return err
	}
	secrets, err := pairs("--secret-from-env", q.secret, "VARIABLE")
	if err != nil {
		return err
	}
	f.Inputs, f.SecretsFromEnv = joined(f.Inputs, inputs), joined(f.SecretsFromEnv, secrets)
	return nil
}

// replace puts a list that was written in the place of the file's.
func replace(flag []string, file *[]string) {
	if len(flag) > 0 {
		*file = flag
	}
}

// joined puts what a flag says over what the file says.
func joined[M ~map[string]string](file, flag M) M {
	out := M{}
	maps.Copy(out, file)
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

// takeFlags choose devices, for runs and for pools.
type takeFlags struct {
	where, devices []string
	any, differ    int
	anyUnit        bool
}

func (q *takeFlags) register(f *pflag.FlagSet, anyUnit string) {
	f.StringArrayVar(&q.where, "where", nil, whereHelp)
	f.StringArrayVar(&q.devices, "device", nil, "serial of a device; repeat for more")
	f.IntVar(&q.any, "any", 0, "take this many of the devices that fit; free ones first")
	f.IntVar(&q.differ, "differ", 0, "take this many of the devices that fit: those that differ most")
	f.BoolVar(&q.anyUnit, "any-unit", false, anyUnit)
}

// check says which numbers of devices make no sense.
func (q *takeFlags) check(f *pflag.FlagSet) error {
	if f.Changed("any") && f.Changed("differ") {
		return errors.New("--any and --differ can't go together")
	}
	for name, n := range map[string]int{"any": q.any, "differ": q.differ} {
		if f.Changed(name) && (n < 1 || n > pools.MaxN) {
			return fmt.Errorf("--%s %d: choose 1 to %d devices", name, n, pools.MaxN)
		}
	}
	return nil
}

// askFlags are the choices of run start and run check.
type askFlags struct {
	runFlags
	takeFlags
	build, pkg, file, pool, lines, name          string
	variants, labels, beside, others, put, fetch []string
	spread                                       bool
}

func (q *askFlags) register(f *pflag.FlagSet) {
	f.StringVar(&q.build, "build", "", "the build: an id, kelpline/android@231, @v1.8.0 or @newest")
	f.StringArrayVar(&q.others, "other-build", nil, "the build for devices of another platform, such as kelpline/ios@newest; repeat for more")
	f.StringVar(&q.pkg, "package", "", "the package: an id, shore-suite@7 or @newest")
	f.StringVar(&q.file, "file", "", "a run file, such as: tessellant run show newest --as-file; flags win over it")
	f.StringVar(&q.pool, "pool", "", "a pool of devices; --where and --device narrow it")
	q.takeFlags.register(f, "one leg per model; any unit of the model can run it")
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
	var f runfile.File
	if q.file != "" {
		if f, err = readFile(q.file); err != nil {
			return r, err
		}
	}
	if err := q.over(&f); err != nil {
		return r, err
	}
	var missing []string
	if f.Build == "" {
		missing = append(missing, "--build")
	}
	if f.Package == "" {
		missing = append(missing, "--package")
	}
	if len(missing) > 0 {
		return r, usage(c, c.CommandPath()+" needs "+strings.Join(missing, " and ")+", or --file with a run file that has them")
	}
	return asRequest(f)
}

// over puts the choices over those of a file.
func (q *askFlags) over(f *runfile.File) error {
	for _, x := range []struct {
		flag string
		file *string
	}{{q.build, &f.Build}, {q.pkg, &f.Package}, {q.pool, &f.Pool}, {q.name, &f.Name}} {
		*x.file = cmp.Or(x.flag, *x.file)
	}
	replace(q.where, &f.Where)
	replace(q.devices, &f.Devices)
	replace(q.beside, &f.Beside)
	replace(q.others, &f.OtherBuilds)
	replace(q.fetch, &f.Fetch)
	if err := q.check(q.flags); err != nil {
		return err
	}
	if q.given("any") || q.given("differ") {
		f.Any, f.Differ = q.any, q.differ
	}
	f.AnyUnit, f.Spread = f.AnyUnit || q.anyUnit, f.Spread || q.spread
	if len(q.variants) > 0 {
		f.Variants = nil
		for _, x := range q.variants {
			v, err := conditions.ParseVariant(x)
			if err != nil {
				return fmt.Errorf("--variant: %w", err)
			}
			f.Variants = append(f.Variants, v)
		}
	}
	with, err := labels.Parse(q.labels)
	if err != nil {
		return fmt.Errorf("--label: %w", err)
	}
	f.Labels = joined(f.Labels, with)
	put, err := pairs("--put", q.put, "PATH")
	if err != nil {
		return err
	}
	if len(put) > 0 {
		f.Put = put
	}
	if q.lines != "" {
		if f.Lines, err = readLines(q.lines); err != nil {
			return err
		}
	}
	return q.runFlags.over(f)
}

// readFile reads a run file; "-" is the standard input.
func readFile(name string) (f runfile.File, err error) {
	in := io.Reader(os.Stdin)
	if name != "-" {
		file, err := os.Open(name)
		if err != nil {
			return f, err
		}
		defer file.Close()
		in = file
	}
	raw, err := io.ReadAll(io.LimitReader(in, runfile.MaxBytes+1))
	if err != nil {
		return f, err
	}
	if f, err = runfile.Parse(raw); err != nil {
		return f, fmt.Errorf("%s: %w", name, err)
	}
	return f, nil
}

// fromEnv reads secret inputs, each from its variable.
func fromEnv(variables map[string]string) (map[string]string, error) {
	secrets := map[string]string{}
	for _, name := range slices.Sorted(maps.Keys(variables)) {
		if secrets[name] = os.Getenv(variables[name]); secrets[name] == "" {
			return nil, fmt.Errorf("the secret input %s: the environment has no %s", name, variables[name])
		}
	}
	return secrets, nil
}

// secretsOf reads what --secret-from-env says.
func secretsOf(said []string) (*map[string]string, error) {
	variables, err := pairs("--secret-from-env", said, "VARIABLE")
	if err != nil {
		return nil, err
	}
	values, err := fromEnv(variables)
	return mapped(values), err
}

// asRequest is a run file as the service takes it, with its secrets from the environment.
func asRequest(f runfile.File) (api.RunRequest, error) {
	secrets, err := fromEnv(f.SecretsFromEnv)
	if err != nil {
		return api.RunRequest{}, err
	}
	seconds := int((time.Duration(f.Limit) + time.Second - 1) / time.Second)
	r := api.RunRequest{Build: f.Build, Package: f.Package, Name: given(f.Name), Pool: given(f.Pool), Where: listed(f.Where), Devices: listed(f.Devices), Cases: listed(f.Cases), Tags: listed(f.Tags),
		Beside: listed(f.Beside), OtherBuilds: listed(f.OtherBuilds), Helpers: listed(f.Helpers), Routes: listed(f.Routes), Fetch: listed(f.Fetch), Labels: mapped(f.Labels), Inputs: mapped(f.Inputs), Secrets: mapped(secrets), Conditions: mapped(f.Conditions), Recording: mapped(f.Recording), Bounds: listed(f.Bounds), Remarks: (*api.RemarksDo)(given(f.Remarks)),
		Models: &f.AnyUnit, Spread: &f.Spread, Confirm: &f.Confirm, Attempts: &f.Attempts, LimitSeconds: &seconds}
	for how, n := range map[api.RunRequestTake]int{api.RunRequestTakeAny: f.Any, api.RunRequestTakeDiffer: f.Differ} {
		if n > 0 {
			r.Take, r.N = &how, &n
		}
	}
	var variants []api.Variant
	for _, v := range f.Variants {
		variants = append(variants, api.Variant{Name: v.Name, Conditions: mapped(v.Conditions)})
	}
	var lines []api.DeviceLine
	for _, l := range f.Lines {
		lines = append(lines, api.DeviceLine{Device: l.Device, Version: given(l.Version), Language: given(l.Language), Orientation: given(l.Orientation), Variant: given(l.Variant), Conditions: mapped(l.Conditions), Cases: listed(l.Cases)})
	}
	var put []api.PutFile
	for _, from := range slices.Sorted(maps.Keys(f.Put)) {
		put = append(put, api.PutFile{From: from, To: f.Put[from]})
	}
	r.Variants, r.Lines, r.Put = listed(variants), listed(lines), listed(put)
	return r, nil
}

// readLines reads a CSV file (RFC 4180) of devices: device,version,language,orientation. The first line may name the columns.
func readLines(name string) (out []runfile.Line, err error) {
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
		l := runfile.Line{}
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
				l.Version = v
			case "language":
				l.Language = v
			case "orientation":
				l.Orientation = v
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
