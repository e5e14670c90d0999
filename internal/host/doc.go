// Package host sits beside devices and carries out the work on them.
//
// A Host finds the devices behind an adb server, tells the service of them,
// and takes the holds that the service gives it: it prepares the device, runs the
// package's cases, records what happens, uploads the evidence and leaves the
// device clean. It never sees the database: hostlink.Link is all it knows of the
// service. A host writes everything to its own folder before it sends it (see
// spool.go): a service that is away delays a leg's end, and nothing else.
// In: holds. Out: reports, numbered, and artifacts.
package host
