package pools

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"

	"tessellant/internal/core/devices"
	"tessellant/internal/core/nearest"
)

// Share is how many users have a value of a trait.
type Share struct {
	Trait string  `json:"trait"`
	Value string  `json:"value"`
	Of    float64 `json:"of"` // of all users, 0 to 1
}

// Bounds of a file of shares.
const (
	MaxSharesBytes = 256 << 10
	MaxShares      = 2000
)

// ReadShares reads a CSV file (RFC 4180) with the columns trait, value and share. A share is a part of one, or a percentage: 0.34, 34% or 34;
// where the shares of a trait come to more than 1, all of that trait are percentages. The error says in which line.
func ReadShares(r io.Reader) (out []Share, err error) {
	raw, err := io.ReadAll(io.LimitReader(r, MaxSharesBytes+1))
	switch {
	case err != nil:
		return nil, err
	case len(raw) > MaxSharesBytes:
		return nil, fmt.Errorf("the file of shares has more than %d kB", MaxSharesBytes>>10)
	}
	c := csv.NewReader(strings.NewReader(strings.TrimPrefix(string(raw), "\uFEFF")))
	c.TrimLeadingSpace = true
	head, err := c.Read()
	if err != nil && !errors.Is(err, io.EOF) {
		return nil, fmt.Errorf("the file of shares is no CSV: %w", err)
	}
	column := map[string]int{}
	for i, name := range head {
		column[strings.ToLower(strings.TrimSpace(name))] = i
	}
	for _, want := range []string{"trait", "value", "share"} {
		if _, ok := column[want]; !ok {
			return nil, fmt.Errorf("the file of shares has no column %s: its first line must be trait,value,share", want)
		}
	}
	sum := map[string]float64{}
	percent := map[string]bool{}
	for {
		row, err := c.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil, fmt.Errorf("the file of shares is no CSV: %w", err)
		}
		line, _ := c.FieldPos(0)
		s := Share{Trait: strings.TrimSpace(row[column["trait"]]), Value: strings.TrimSpace(row[column["value"]])}
		if !strings.HasPrefix(s.Trait, devices.OfLabel) {
			s.Trait = strings.ToLower(s.Trait)
		}
		if !strings.HasPrefix(s.Trait, devices.OfLabel) && !slices.Contains(devices.Names, s.Trait) {
			return nil, fmt.Errorf("line %d of the file of shares: there is no trait %.60q%s", line, s.Trait, nearest.Meant(s.Trait, devices.Names))
		}
		text := strings.TrimSpace(row[column["share"]])
		number, isPercent := strings.CutSuffix(text, "%")
		if s.Of, err = strconv.ParseFloat(strings.TrimSpace(number), 64); err != nil || math.IsNaN(s.Of) || s.Of < 0 || s.Of > 100 {
			return nil, fmt.Errorf("line %d of the file of shares: %.60q is no share; write a part of one such as 0.34, or a percentage such as 34%%", line, text)
		}
		if s.Value == "" || len(s.Value) > 200 {
			return nil, fmt.Errorf("line %d of the file of shares: the value is missing, or longer than 200 bytes", line)
		}
		if slices.ContainsFunc(out, func(o Share) bool { return o.Trait == s.Trait && strings.EqualFold(o.Value, s.Value) }) {
			return nil, fmt.Errorf("line %d of the file of shares: %s=%s was there before", line, s.Trait, s.Value)
		}
		percent[s.Trait] = percent[s.Trait] || isPercent
		sum[s.Trait] += s.Of
		if out = append(out, s); len(out) > MaxShares {
			return nil, fmt.Errorf("the file of shares has more than %d lines", MaxShares)
		}
	}
	if len(out) == 0 {
		return nil, errors.New("the file of shares has no lines behind the first")
	}
	for i, s := range out {
		if percent[s.Trait] || sum[s.Trait] > 1.0001 {
			out[i].Of /= 100
		}
	}
	for trait, all := range sum {
		if all /= map[bool]float64{true: 100, false: 1}[percent[trait] || all > 1.0001]; all > 1.01 {
			return nil, fmt.Errorf("the shares of %s come to %.0f%%, more than all users", trait, 100*all)
		}
	}
	return out, nil
}
