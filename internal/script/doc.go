// Package script runs the cases of a script package on a phone.
//
// A case runs in a process of its own, this same binary started again, which
// can do nothing but compute: the language gives it no files and no network, and
// the process has a bound on memory and steps. Whatever it wants of the phone it asks for over its standard
// streams, one JSON line a call; the parent does it, with all waiting built in,
// and answers. So an endless loop or runaway memory ends the case and not the
// host. In: scripts, a case, a phone. Out: an Outcome.
package script
