//go:build race

package script

// bounded: the race detector's own memory leaves no bound that would mean anything.
const bounded = false
