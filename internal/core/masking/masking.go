// Package masking hides secrets in what is written down.
//
// A secret is hidden as it is, and as it looks inside of JSON, of a URL, of XML, of quotes, in Base64, in hexadecimal digits and in
// Android's input command. In: secrets and text. Out: text with Dots in their place.
package masking

import (
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"encoding/xml"
	"html"
	"net/url"
	"regexp"
	"slices"
	"sort"
	"strconv"
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
		for _, f := range formsOf(s) {
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

// formsOf are a secret's forms.
func formsOf(s string) []string {
	raw, _ := json.Marshal(s)
	var plain strings.Builder
	enc := json.NewEncoder(&plain)
	enc.SetEscapeHTML(false)
	_ = enc.Encode(s)
	unquoted := strings.TrimSuffix(plain.String(), "\n")
	var xmlText strings.Builder
	_ = xml.EscapeText(&xmlText, []byte(s))
	quoted, ascii := strconv.Quote(s), strconv.QuoteToASCII(s)
	shell := strings.ReplaceAll(s, "'", `'\''`)
	out := []string{s, string(raw[1 : len(raw)-1]), unquoted[1 : len(unquoted)-1], url.QueryEscape(s), url.PathEscape(s), strings.ReplaceAll(url.QueryEscape(s), "+", "%20"), strings.ReplaceAll(s, " ", "%s"),
		xmlText.String(), html.EscapeString(s), quoted[1 : len(quoted)-1], ascii[1 : len(ascii)-1], shell}
	for _, f := range []string{url.QueryEscape(s), strings.ReplaceAll(url.QueryEscape(s), "+", "%20")} {
		out = append(out, lowerHex.ReplaceAllStringFunc(f, strings.ToLower))
	}
	for _, single := range []string{"&#x27;", "&apos;", "'"} { // each library of XML and HTML has its own way with quotes
		escaped := strings.NewReplacer("&", "&amp;", "<", "&lt;", ">", "&gt;", "'", single)
		out = append(out, escaped.Replace(s), strings.ReplaceAll(escaped.Replace(s), `"`, "&quot;"))
	}
	if digits := hex.EncodeToString([]byte(s)); len(s) >= leastHidden {
		out = append(out, digits, strings.ToUpper(digits))
	}
	// Base64 looks otherwise by where in the whole it begins; what does not depend on what stands before and behind is hidden.
	for shift := range 3 {
		padded := append(make([]byte, shift), s...)
		from, to := (shift*8+5)/6, len(padded)*8/6
		if len(s) < leastHidden || to-from < leastHidden {
			continue
		}
		for _, code := range []*base64.Encoding{base64.RawStdEncoding, base64.RawURLEncoding} {
			out = append(out, code.EncodeToString(padded)[from:to])
		}
	}
	return out
}

// leastHidden is how many characters a secret must have for those of its forms that could stand for anything.
const leastHidden = 4

var lowerHex = regexp.MustCompile(`%[0-9A-F]{2}`)

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
