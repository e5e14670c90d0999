// Package faults makes things go wrong around whole runs, and looks whether they
// come out true and complete all the same.
//
// It holds tests alone. Each starts the service and a host as processes of their
// own, as people do, on simulated phones behind a real adb server and a real
// database, and kills, stops, unplugs or fills up what a fault is about. TestCampaign does so
// at random moments, as often as -rounds says: make fault.
package faults
