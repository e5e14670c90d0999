package program

// What a package of the kind program reported: its JUnit XML says how its cases came out, and they are married to what happened by time.

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path"
	"strings"

	"tessellant/internal/core/foreign"
	"tessellant/internal/core/junit"
	"tessellant/internal/core/timeline"
	"tessellant/internal/core/verdict"
	"tessellant/internal/host/record"
	"tessellant/internal/host/runner"
	"tessellant/internal/hostlink"
	"tessellant/internal/sandbox"
)

// results reads what the program reports, and judges it.
func (p *program) results(ctx context.Context, end sandbox.Ended, runErr error) error {
	cases, bad := p.read()
	p.marry(cases)
	cause := context.Cause(ctx)
	switch {
	case cause != nil:
		return cause
	case len(cases) == 0 && len(p.empty)+len(bad) > 0:
		return fmt.Errorf("the program ended (%s), and what it wrote as results is no JUnit XML with test cases: %s%s", howEnded(end, runErr), strings.Join(append(p.empty, bad...), "; "), p.out.last())
	case len(cases) == 0:
		return fmt.Errorf("the program ended (%s) and wrote no results as %s%s", howEnded(end, runErr), strings.Join(p.spec.Results, ", "), p.out.last())
	}
	if end.Killed != "" {
		p.Book.Count(verdict.Expired, "the program was ended: "+end.Killed)
	}
	if p.excess { // what was not read may have failed
		p.Book.Count(verdict.Invalid, "not all results can be read: "+strings.Join(bad, "; "))
	} else if len(bad) > 0 {
		p.Book.Count(verdict.Failed, "not all results can be read: "+strings.Join(bad, "; "))
	}
	if v := p.Book.Roll(); end.Code != 0 && (v == verdict.Passed || v == verdict.Skipped) {
		p.Book.Count(verdict.Failed, fmt.Sprintf("the program ended with exit code %d, though no case of its report failed%s", end.Code, p.out.last()))
	}
	if crashed := p.outside.Crashed(); crashed != "" && !p.Book.Has(verdict.Crashed) {
		p.Book.Count(verdict.Crashed, "the app crashed: "+crashed)
	}
	return nil
}

// read gives the cases of the program's report files, and says which of them can't be read.
func (p *program) read() (cases []junit.Case, bad []string) {
	var all reported
	defer func() {
		if all.left > 0 {
			bad = append(bad, fmt.Sprintf("there are %d test cases more than the %d that are read", all.left, maxReported))
		}
		p.excess = all.left > 0
		cases = junit.Apart(all.cases)
	}()
	work, err := os.OpenRoot(p.dir.Work)
	if err != nil {
		return nil, []string{err.Error()}
	}
	defer work.Close()
	for i, name := range files(p.dir.Work, p.spec.Results) {
		if i >= maxResults {
			p.excess = true
			return nil, append(bad, fmt.Sprintf("there are more than %d result files", maxResults))
		}
		p.take(work, name, fmt.Sprintf("results/%03d-%s.xml", i+1, record.Slug(p.Mask.Text(strings.TrimSuffix(path.Base(name), path.Ext(name))))), maxKeptBytes)
		f, err := work.Open(name)
		if err == nil {
			err = junit.Read(f, all.add)
			_ = f.Close()
		}
		if errors.Is(err, junit.ErrMany) {
			all.left++
		}
		if errors.Is(err, junit.ErrNone) {
			p.empty = append(p.empty, fmt.Sprintf("%s: %v", foreign.Name(name, 100), err))
		} else if err != nil {
			bad = append(bad, foreign.Name(name, 100)+": "+err.Error())
		}
	}
	return nil, bad
}

const (
	// maxReported is how many cases a program's reports may have in all. With more, the leg is invalid: nobody has seen all of them.
	maxReported = 200_000
	// maxReportedText is how many bytes of their messages, traces and names are kept; of what comes behind, a line each.
	maxReportedText = 64 << 20
	reportedLine    = 200
)

// reported gathers the cases of all reports. Where there are too many, failures take the places of passes.
type reported struct {
	cases []junit.Case
	text  int
	left  int // cases that had no place
	pass  int // where the next case that passed is looked for
}

func (r *reported) add(c junit.Case) error {
	c.Output, c.Properties = "", nil // nobody asks for them
	if r.text > maxReportedText {
		c.Message, c.Trace = foreign.Fit(c.Message, reportedLine), foreign.Fit(c.Trace, reportedLine)
	}
	r.text += len(c.Message) + len(c.Trace) + len(c.Name) + len(c.Class) + len(c.Suite)
	if len(r.cases) < maxReported {
		r.cases = append(r.cases, c)
		return nil
	}
	r.left++
	if c.Verdict == verdict.Passed || c.Verdict == verdict.Skipped {
		return nil
	}
	for ; r.pass < len(r.cases); r.pass++ {
		if v := r.cases[r.pass].Verdict; v == verdict.Passed || v == verdict.Skipped {
			r.cases[r.pass] = c
			break
		}
	}
	return nil
}

// marry brings the cases of a report together with what happened. Those that the program marked itself have their place; where it marked
// some that its report does not know, these stand beside them.
func (p *program) marry(cases []junit.Case) {
	at := make([]int64, len(cases))
	for i, c := range cases {
		at[i] = c.On(p.Timeline.Zero(), p.began)
	}
	marked := p.outside.Marks()
	marks := make([]junit.Mark, len(marked))
	for i, m := range marked {
		marks[i] = junit.Mark{Name: m.Name, At: m.StartMS}
	}
	told := map[string]bool{}
	pairs := junit.Pair(cases, at, marks)
	for i, c := range cases {
		var m *runner.Mark
		if pairs[i] >= 0 {
			m = &marked[pairs[i]]
			told[m.Name] = true
		}
		p.reportCase(i, at[i], c, m)
	}
	n := len(cases)
	for _, m := range marked {
		if told[m.Name] { // or it was tried more than once
			continue
		}
		told[m.Name] = true
		m.Ordinal = n
		n++
		p.Book.End(m.CaseResult)
	}
	p.Book.Tell(hostlink.Progress{Cases: &n})
}

// reportCase takes a case of a report over, with what the program marked of it, if it did. Where the app died while it ran, it is crashed,
// whatever the report says.
func (p *program) reportCase(ordinal int, at int64, c junit.Case, m *runner.Mark) {
	r := hostlink.CaseResult{Ordinal: ordinal, Name: c.FullName(), Try: hostlink.Try{Verdict: c.Verdict, Message: c.Message, Trace: c.Trace, Line: c.File, StartMS: at, TookMS: c.Took.Milliseconds()}}
	span := timeline.Span{}
	from, to := r.StartMS, r.StartMS+r.TookMS
	if m != nil { // the program said itself when it began
		r.StartMS, r.Shot, r.Tree = m.StartMS, m.Shot, m.Tree
		if r.TookMS == 0 {
			r.TookMS = m.TookMS
		}
		span.Mark = m.Name
		from, to = m.StartMS, m.Until
	}
	if r.Verdict == verdict.Passed {
		r.Message, r.Trace = "", ""
	}
	if crash := p.outside.CrashWithin(from, to); crash != nil && from > 0 && r.Verdict != verdict.Skipped {
		r.Verdict, r.Message, r.Trace = verdict.Crashed, crash.Name, crash.Answer
	}
	if from > 0 {
		p.Book.Bound(&r.Try, to)
	}
	if m != nil {
		p.Book.Remarked(m.Name, 1, &r.Try, to)
	}
	said := p.Book.Masked(r)
	span.Name, span.From, span.To = said.Name, max(from, 1), max(to, 1)
	if from == 0 { // the report does not say when: it stands at the end
		span.From, span.To = p.Timeline.Now(), p.Timeline.Now()
	}
	span.End = timeline.Event{Verdict: string(r.Verdict), Error: said.Message, File: r.Shot, Tree: r.Tree, Took: r.TookMS}
	p.Timeline.Span(span)
	p.Book.End(r)
}
