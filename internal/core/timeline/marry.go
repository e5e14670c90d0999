package timeline

import "slices"

// Span is a case that is known only afterwards: from a report.
type Span struct {
	Name, Mark string // what the report calls it; what it was called while it ran, "" where it was not marked
	From, To   int64  // ms on the attempt's clock
	End        Event  // its end, with verdict and message
}

// Marry puts cases that a report told of among the events of their time: each begins and ends where it did, and what happened between is
// its. Where it was marked while it ran, it takes the mark's place. The events come in the order of their times then, numbered anew.
func Marry(events []Event, cases []Span) []Event {
	out := make([]Event, 0, len(events)+2*len(cases))
	for _, e := range events {
		replaced := false
		for _, c := range cases {
			within := e.At >= c.From && e.At <= c.To
			if c.Mark != "" && e.Case == c.Mark && within {
				e.Case, replaced = c.Name, e.Kind == Case
				break
			}
			if e.Case == "" && e.Kind != Stage && c.To > c.From && within {
				e.Case = c.Name
				break
			}
		}
		if !replaced {
			out = append(out, e)
		}
	}
	for _, c := range cases {
		begin := Event{Kind: Case, At: c.From, Case: c.Name, Name: c.Name}
		end := c.End
		end.Kind, end.At, end.Case, end.Name = Case, c.To, c.Name, c.Name
		// Before what happened at the same moment, and behind it; among themselves in the report's order.
		i := slices.IndexFunc(out, func(e Event) bool { return e.At >= begin.At && (e.Case == c.Name || e.At > begin.At) })
		if i < 0 {
			i = len(out)
		}
		out = slices.Insert(out, i, begin)
		j := len(out)
		for j > i+1 && out[j-1].At > end.At {
			j--
		}
		out = slices.Insert(out, j, end)
	}
	for i := range out {
		out[i].Seq = i + 1
	}
	return out
}
