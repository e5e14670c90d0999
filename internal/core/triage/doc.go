// Package triage says what broke.
//
// In: the failures of a run, and its legs with their traits. Out: families of failures that are the same fault (family.go), each by its signature
// (signature.go); for a family the simplest rule that sets the devices that fail apart from those that pass (rule.go). It computes alone, and says the same for the same.
package triage
