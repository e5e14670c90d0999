// Package masking hides secrets in what is written down.
//
// A secret is hidden as it is, and as it looks inside of JSON, of a URL and of
// Android's input command. In: secrets and text. Out: text with Dots in their place.
package masking

import (
	"encoding/json"
	"net/url"
	"sort"
	"strings"
)

// Dots stand where a secret stood.
const Dots = "••••••"

// Mask hides a set of secrets. The nil Mask hides nothing. It is safe for use by several goroutines.
type Mask struct{ replacer *strings.Replacer }

// New makes a mask of these secrets; empty ones are passed over.
func New(secrets []string) *Mask {
	forms := map[string]bool{}
	for _, s := range secrets {
		if s == "" {
			continue
		}
		raw, _ := json.Marshal(s)
		for _, f := range []string{s, string(raw[1 : len(raw)-1]), url.QueryEscape(s), url.PathEscape(s), strings.ReplaceAll(s, " ", "%s")} {
			forms[f] = true
		}
	}
	if len(forms) == 0 {
		return nil
	}
	sorted := make([]string, 0, len(forms))
	for f := range forms {
		sorted = append(sorted, f)
	}
	// The longest first, so that a secret that begins with another is hidden whole.
	sort.Slice(sorted, func(i, j int) bool {
		if len(sorted[i]) != len(sorted[j]) {
			return len(sorted[i]) > len(sorted[j])
		}
		return sorted[i] < sorted[j]
	})
	var pairs []string
	for _, f := range sorted {
		pairs = append(pairs, f, Dots)
	}
	return &Mask{strings.NewReplacer(pairs...)}
}

// Text hides the secrets in s.
func (m *Mask) Text(s string) string {
	if m == nil || s == "" {
		return s
	}
	return m.replacer.Replace(s)
}

// Map hides the secrets in the values of a map, which is left as it is.
func (m *Mask) Map(in map[string]string) map[string]string {
	if m == nil || in == nil {
		return in
	}
	out := make(map[string]string, len(in))
	for k, v := range in {
		out[k] = m.Text(v)
	}
	return out
}
