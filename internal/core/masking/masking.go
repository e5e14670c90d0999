// Package masking hides secrets in what is written down.
//
// A secret is hidden as it is, and as it looks inside of JSON, of a URL and of
// Android's input command. In: secrets and text. Out: text with Dots in their place.
package masking

import (
	"encoding/json"
	"net/url"
	"slices"
	"sort"
	"strings"
	"sync"
)

// Dots stand where a secret stood.
const Dots = "••••••"

// Mask hides a set of secrets. The nil Mask hides nothing. It is safe for use by several goroutines.
type Mask struct {
	mu       sync.RWMutex
	secrets  []string
	replacer *strings.Replacer
}

// New makes a mask of these secrets; empty ones are passed over.
func New(secrets []string) *Mask {
	return &Mask{secrets: slices.Clone(secrets), replacer: hiding(secrets)}
}

// Add hides one secret more, in all that comes from now on.
func (m *Mask) Add(secret string) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if secret != "" && !slices.Contains(m.secrets, secret) {
		m.secrets = append(m.secrets, secret)
		m.replacer = hiding(m.secrets)
	}
}

// hiding replaces secrets in each of their forms.
func hiding(secrets []string) *strings.Replacer {
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
	return strings.NewReplacer(pairs...)
}

// Text hides the secrets in s.
func (m *Mask) Text(s string) string {
	if m == nil || s == "" {
		return s
	}
	m.mu.RLock()
	defer m.mu.RUnlock()
	if len(m.secrets) == 0 {
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
