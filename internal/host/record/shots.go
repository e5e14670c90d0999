package record

import (
	"context"
	"errors"
	"time"

	"tessellant/internal/core/recording"
	"tessellant/internal/core/timeline"
	"tessellant/internal/phone"
)

// Shots keeps a picture after each command that may have changed the screen. It takes them beside the commands: of some that follow each other quickly,
// one picture shows the end.
type Shots struct {
	timeline *Timeline
	phone    *phone.Unit
	poked    chan string // the command's name
}

// settle is from a command to the picture after it.
const settle = 250 * time.Millisecond

// NewShots makes a recorder of pictures after commands.
func NewShots(t *Timeline, u *phone.Unit) *Shots {
	s := &Shots{timeline: t, phone: u, poked: make(chan string, 1)}
	t.shooter = s
	return s
}

// Name implements Recorder.
func (s *Shots) Name() string { return recording.Screenshots }

// poke says that a command has ended.
func (s *Shots) poke(command string) {
	select {
	case <-s.poked:
	default:
	}
	select {
	case s.poked <- command:
	default:
	}
}

// Record implements Recorder.
func (s *Shots) Record(ctx context.Context) error {
	for {
		var command string
		select {
		case command = <-s.poked:
		case <-ctx.Done():
			return nil
		}
		if phone.Pause(ctx, settle) != nil {
			return nil
		}
		start := time.Now()
		file, err := s.timeline.Shot(ctx, s.phone, "after "+command)
		var refused *phone.Refused
		switch {
		case ctx.Err() != nil:
			return nil
		case errors.As(err, &refused):
			continue // a screen that may not be pictured
		case err != nil:
			return err
		}
		s.timeline.Note(timeline.Event{Kind: timeline.Marker, At: max(s.timeline.At(start), 1), Name: "after " + command, File: file})
	}
}

// Close implements Recorder.
func (s *Shots) Close() error { return nil }
