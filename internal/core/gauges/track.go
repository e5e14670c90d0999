package gauges

// A track of samples, as CSV, and the series that are read from it.

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"math"
	"slices"
	"strconv"
	"strings"
)

// Head is the first row of a track.
func Head() string { return "ms," + strings.Join(Names(), ",") + "\n" }

// Row is a sample as a row. What was not read is an empty field.
func (s Sample) Row() string {
	var b strings.Builder
	b.WriteString(strconv.FormatInt(s.At, 10))
	for _, g := range Table {
		b.WriteByte(',')
		if v, ok := s.Values[g.Name]; ok && !math.IsNaN(v) && !math.IsInf(v, 0) {
			b.WriteString(strconv.FormatFloat(math.Round(v*100)/100, 'f', -1, 64))
		}
	}
	b.WriteByte('\n')
	return b.String()
}

const (
	maxRow  = 4 << 10
	maxRows = 100_000 // of a track: a day and more
)

// Read calls f with each sample of a track, in their order. A last row that was cut off, as a killed writer leaves it, is passed over; so are columns that
// are not known. Any other row that is none is an error.
func Read(r io.Reader, f func(Sample) error) error {
	br := bufio.NewReaderSize(r, maxRow)
	var names []string
	for n := 1; n <= maxRows; n++ {
		line, err := br.ReadSlice('\n')
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return fmt.Errorf("row %d of the gauges: %w", n, err)
		}
		fields := strings.Split(strings.TrimRight(string(line), "\r\n"), ",")
		if names == nil {
			if fields[0] != "ms" {
				return fmt.Errorf("the gauges begin with %.40q, not with ms", fields[0])
			}
			names = fields[1:]
			continue
		}
		s := Sample{Values: map[string]float64{}}
		if s.At, err = strconv.ParseInt(fields[0], 10, 64); err != nil {
			return fmt.Errorf("row %d of the gauges begins with %.40q, which is no time", n, fields[0])
		}
		for i, v := range fields[1:] {
			if v == "" || i >= len(names) {
				continue
			}
			x, err := strconv.ParseFloat(v, 64)
			if err != nil || math.IsNaN(x) || math.IsInf(x, 0) {
				return fmt.Errorf("row %d of the gauges has %.40q, which is no number", n, v)
			}
			s.Values[names[i]] = x
		}
		if err := f(s); err != nil {
			return err
		}
	}
	return nil
}

// Collect reads a track from one moment to another (ms; to 0: to its end), as series: those that were read at all, in the order of the Table.
func Collect(r io.Reader, from, to int64) (at []int64, out []Series, err error) {
	var all []Sample
	err = Read(r, func(s Sample) error {
		if s.At >= from && (to == 0 || s.At <= to) {
			all = append(all, s)
		}
		return nil
	})
	if err != nil {
		return nil, nil, err
	}
	for _, s := range all {
		at = append(at, s.At)
	}
	for _, g := range Table {
		series, read := Series{Gauge: g}, false
		for _, s := range all {
			v, ok := s.Values[g.Name]
			if !ok {
				v = math.NaN()
			}
			read = read || ok
			series.Values = append(series.Values, v)
		}
		if read {
			out = append(out, series)
		}
	}
	return at, out, nil
}

// Thin makes series of at most about n places: time is divided into slices, and of each slice the least and the greatest of each series
// stay, in the order in which they came. A series that is short enough stays as it is.
func Thin(at []int64, series []Series, n int) ([]int64, []Series) {
	if len(at) <= n || n < 2 {
		return at, series
	}
	slots := n / 2
	first, span := at[0], at[len(at)-1]-at[0]+1
	slot := func(t int64) int64 { return (t - first) * int64(slots) / span }
	var times []int64
	out := make([]Series, len(series))
	for i := range series {
		out[i].Gauge = series[i].Gauge
	}
	for from := 0; from < len(at); {
		to := from + 1
		for to < len(at) && slot(at[to]) == slot(at[from]) {
			to++
		}
		if to-from == 1 {
			times = append(times, at[from])
			for i, s := range series {
				out[i].Values = append(out[i].Values, s.Values[from])
			}
		} else {
			times = append(times, at[from], at[to-1])
			for i, s := range series {
				a, b := extremes(s.Values[from:to])
				out[i].Values = append(out[i].Values, a, b)
			}
		}
		from = to
	}
	return times, out
}

// extremes are the least and the greatest of values, in the order in which they come; NaN where there are none.
func extremes(values []float64) (a, b float64) {
	least, most := -1, -1
	for i, v := range values {
		if math.IsNaN(v) {
			continue
		}
		if least < 0 || v < values[least] {
			least = i
		}
		if most < 0 || v > values[most] {
			most = i
		}
	}
	if least < 0 {
		return math.NaN(), math.NaN()
	}
	both := []int{least, most}
	slices.Sort(both)
	return values[both[0]], values[both[1]]
}
