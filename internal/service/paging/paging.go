// Package paging cuts long lists into pages: after is the id behind which a page begins.
package paging

import (
	"github.com/oklog/ulid/v2"

	"tessellant/internal/service/refuse"
)

// Check refuses a place that no list has given: it would begin anew.
func Check(after string) error {
	if _, err := ulid.ParseStrict(after); after != "" && err != nil {
		return refuse.New(refuse.Invalid, "list", "set after to the next of the page before", "%.100q is not a place in the list", after)
	}
	return nil
}

// Cut cuts a list that was asked for one item more than wanted.
func Cut[T any](items []T, limit int, err error, key func(T) string) ([]T, string, error) {
	if err != nil || len(items) <= limit {
		return items, "", err
	}
	return items[:limit], key(items[limit-1]), nil
}
