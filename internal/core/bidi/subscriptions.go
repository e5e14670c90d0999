package bidi

// What a client has subscribed to (section "Subscriptions").

import (
	"fmt"
	"slices"

	"tessellant/internal/core/w3c"
)

// Subscriptions are those of one session.
type Subscriptions struct {
	list []subscription
	made int
}

type subscription struct {
	id       string
	events   []string
	contexts []string // the outermost; none: all, and what is of none
}

// MaxSubscriptions is how many one session may have.
const MaxSubscriptions = 1000

// Add subscribes to events, or modules, of some contexts; of all where none is named. It gives the subscription's id, and the events that were not wanted before by any
// subscription that is as wide.
func (s *Subscriptions) Add(names, contexts []string) (id string, fresh []string, err *w3c.Error) {
	events, err := expand(names)
	if err != nil {
		return "", nil, err
	}
	if len(s.list) >= MaxSubscriptions {
		return "", nil, w3c.Fail(w3c.InvalidArgument, "the session has %d subscriptions already", len(s.list))
	}
	for _, e := range events {
		if had := slices.ContainsFunc(s.list, func(x subscription) bool {
			return slices.Contains(x.events, e) && (len(x.contexts) == 0 || len(contexts) > 0 && !slices.ContainsFunc(contexts, func(c string) bool { return !slices.Contains(x.contexts, c) }))
		}); !had {
			fresh = append(fresh, e)
		}
	}
	s.made++
	id = fmt.Sprintf("subscription-%d", s.made)
	s.list = append(s.list, subscription{id, events, contexts})
	return id, fresh, nil
}

// RemoveIDs ends subscriptions by their ids: all, or none.
func (s *Subscriptions) RemoveIDs(ids []string) *w3c.Error {
	for _, id := range ids {
		if !slices.ContainsFunc(s.list, func(x subscription) bool { return x.id == id }) {
			return w3c.Fail(w3c.InvalidArgument, "there is no subscription %.100q", id)
		}
	}
	s.list = slices.DeleteFunc(s.list, func(x subscription) bool { return slices.Contains(ids, x.id) })
	return nil
}

// RemoveNames takes events out of the subscriptions that are for all contexts: all of them, or none.
func (s *Subscriptions) RemoveNames(names []string) *w3c.Error {
	events, err := expand(names)
	if err != nil {
		return err
	}
	for _, e := range events {
		if !slices.ContainsFunc(s.list, func(x subscription) bool { return len(x.contexts) == 0 && slices.Contains(x.events, e) }) {
			return w3c.Fail(w3c.InvalidArgument, "nothing is subscribed to %s for all contexts", e)
		}
	}
	var left []subscription
	for _, x := range s.list {
		if len(x.contexts) == 0 {
			x.events = slices.DeleteFunc(slices.Clone(x.events), func(e string) bool { return slices.Contains(events, e) })
		}
		if len(x.events) > 0 {
			left = append(left, x)
		}
	}
	s.list = left
	return nil
}

// Want says whether an event is wanted. Context is the outermost that it is of; "": it is of none.
func (s *Subscriptions) Want(event, context string) bool {
	return slices.ContainsFunc(s.list, func(x subscription) bool {
		return slices.Contains(x.events, event) && (len(x.contexts) == 0 || context != "" && slices.Contains(x.contexts, context))
	})
}

// Any says whether one of some events is wanted, of whatever context.
func (s *Subscriptions) Any(of func(event string) bool) bool {
	return slices.ContainsFunc(s.list, func(x subscription) bool { return slices.ContainsFunc(x.events, of) })
}
