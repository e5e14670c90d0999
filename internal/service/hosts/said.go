package hosts

// What hosts say, fitted to what can be kept. What never can is hostlink.ErrUnfit.

import (
	"bytes"
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"net/url"
	"slices"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/foreign"
	"tessellant/internal/core/verdict"
	"tessellant/internal/hostlink"
	"tessellant/internal/store"
)

// Bounds of what hosts say, in bytes: as their columns have it, or as lists can show.
const (
	maxSerial  = 128
	maxLab     = 32
	maxWhyNot  = 2 << 10
	maxFact    = 200
	maxFile    = 255
	maxOrdinal = 10_000_000
	maxLimits  = 10
	maxTries   = 11 // of a case

	maxCertificate = 8 << 10
)

// fitted are a device's facts as they can be kept.
func fitted(f devices.Facts) devices.Facts {
	for _, s := range []*string{&f.Platform, &f.OS, &f.Maker, &f.Model, &f.Form, &f.Origin, &f.Language, &f.Place} {
		*s = foreign.Name(*s, maxFact)
	}
	f.ABIs = slices.Clone(f.ABIs[:min(len(f.ABIs), 20)])
	for i := range f.ABIs {
		f.ABIs[i] = foreign.Name(f.ABIs[i], maxFact)
	}
	f.Ways = slices.Clone(f.Ways[:min(len(f.Ways), maxLimits)])
	for i := range f.Ways {
		f.Ways[i] = foreign.Name(f.Ways[i], maxFact)
	}
	f.Limits = slices.Clone(f.Limits[:min(len(f.Limits), maxLimits)])
	for i := range f.Limits {
		f.Limits[i] = foreign.Fit(f.Limits[i], maxWhyNot)
	}
	f.Without = slices.DeleteFunc(slices.Clone(devices.Usual), func(x string) bool { return !slices.Contains(f.Without, x) })
	f.Labels = nil // people give them
	f.UDID = foreign.Name(f.UDID, maxFact)
	f.Sets = slices.DeleteFunc(conditions.Names(), func(x string) bool { return !slices.Contains(f.Sets, x) })
	if len(f.Sets) == 0 {
		f.Sets = nil
	}
	return f
}

// maxLabs is how many labs a host may tell of.
const maxLabs = 60

// fittedLabs are labs as they can be kept.
func fittedLabs(all []devices.Lab) (out []devices.Lab) {
	for _, l := range all[:min(len(all), maxLabs)] {
		for _, s := range []*string{&l.Kind, &l.Place, &l.Address} {
			*s = foreign.Name(*s, maxFact)
		}
		l.Name, l.Out = foreign.Name(l.Name, maxLab), foreign.Fit(l.Out, maxWhyNot)
		lacks := map[string][]string{}
		for platform, what := range l.Lacks {
			if len(lacks) >= 5 {
				break
			}
			for _, w := range what[:min(len(what), maxLimits)] {
				lacks[foreign.Name(platform, 20)] = append(lacks[foreign.Name(platform, 20)], foreign.Fit(w, maxWhyNot))
			}
		}
		l.Lacks = lacks
		out = append(out, l)
	}
	return out
}

// maxLent is for how long a device may be said to be lent, in seconds.
const maxLent = 7 * 24 * 3600

// fittedLoan is a loan as it can be kept; a page that a browser may not be led to is left out.
func fittedLoan(x *devices.Loan) *devices.Loan {
	if x == nil {
		return nil
	}
	out := &devices.Loan{Lab: foreign.Name(x.Lab, maxLab), Session: foreign.Name(x.Session, maxFact), Seconds: min(max(x.Seconds, 0), maxLent)}
	if u, err := url.Parse(x.Page); err == nil && (u.Scheme == "https" || u.Scheme == "http") && u.Host != "" && len(x.Page) <= maxWhyNot {
		out.Page = u.String()
	}
	return out
}

// certificate is a certificate as it can be kept; "": it is none.
func certificate(text string) string {
	block, rest := pem.Decode([]byte(text))
	if len(text) > maxCertificate || block == nil || block.Type != "CERTIFICATE" || len(bytes.TrimSpace(rest)) > 0 {
		return ""
	}
	if _, err := x509.ParseCertificate(block.Bytes); err != nil {
		return ""
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: block.Type, Bytes: block.Bytes}))
}

// fit makes of a case as a host tells it what can be kept; an error that is hostlink.ErrUnfit where that can't be.
func fit(c *store.Case) error {
	if c.Ordinal < 0 || c.Ordinal > maxOrdinal {
		return fmt.Errorf("%w: there is no case %d", hostlink.ErrUnfit, c.Ordinal)
	}
	if c.Verdict != "" && !c.Verdict.Known() {
		return fmt.Errorf("%w: there is no verdict %.50q", hostlink.ErrUnfit, c.Verdict)
	}
	c.Name, c.Line = foreign.Name(c.Name, verdict.MaxCaseName), foreign.Name(c.Line, verdict.MaxCaseName)
	for _, s := range []*string{&c.Message, &c.Expected, &c.Actual, &c.Trace} {
		*s = foreign.Fit(*s, verdict.MaxText)
	}
	for _, s := range []*string{&c.Shot, &c.Tree} {
		if *s != foreign.Name(*s, maxFile) {
			*s = "" // it names nothing that could have been kept
		}
	}
	return nil
}

// unfit says in the host's words that the database will never take something.
func unfit(err error) error {
	if store.Unfit(err) {
		return fmt.Errorf("%w: %w", hostlink.ErrUnfit, err)
	}
	return err
}

// stages are those of a leg that a host may tell.
var stages = []string{"held", "preparing", "running", "collecting"}
