package record

import "context"

// Recorder gathers one kind of evidence.
type Recorder interface {
	// Record gathers until ctx ends. An error ends the attempt: the device was lost.
	Record(ctx context.Context) error
	// Close writes what has not been written yet. The error says why the evidence is not whole.
	Close() error
}

var (
	_ Recorder = (*Film)(nil)
	_ Recorder = (*DeviceLog)(nil)
)
