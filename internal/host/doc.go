// Package host works on the devices of one machine for a service.
//
// A Host finds devices through its labs (internal/lab), reports them to the service and takes the holds that the service gives it. For
// each hold it starts an attempt: prepare the device, run the content, record, release the device, upload. It never sees the database;
// hostlink.Link is all it knows of the service. Everything is written to the host's folder first (host/spool), so a service that is
// offline only delays the end of a leg. In: holds. Out: numbered reports, and artifacts.
package host
