// Package triage says what broke.
//
// In: the failures of a run, one by one, and its legs with their traits. Out: families of failures that are the same fault (family.go), each by its signature
// (signature.go); for a family the simplest rule that sets the devices that fail apart from those that pass (rule.go, and in chance.go whether it is luck) and the device that
// would tell where two do (tell.go), for all families at once (explain.go); how it stands against earlier runs (since.go), and two runs against each other (compare.go); the first
// bad build (bisect.go); what is slower than before (slower.go). It computes alone, and says the same for the same.
package triage
