package record

import (
	"context"

	"tessellant/internal/host/film"
)

// Recorder gathers one kind of evidence. It has failures of its own: one that breaks is said, and neither ends the attempt nor fails a case.
type Recorder interface {
	// Name is what it gathers, as core/recording calls it.
	Name() string
	// Record gathers until ctx ends. *phone.Lost ends the attempt: the device is not there any more. Any other error ends the recorder.
	Record(ctx context.Context) error
	// Close writes what has not been written yet. The error says why the evidence is not whole.
	Close() error
}

var (
	_ Recorder = (*film.Film)(nil)
	_ Recorder = (*DeviceLog)(nil)
	_ Recorder = (*Gauges)(nil)
	_ Recorder = (*Shots)(nil)
)
