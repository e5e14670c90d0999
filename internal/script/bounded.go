//go:build !race

package script

// bounded says that a script's process has a bound on its memory.
const bounded = true
