package attempt

// A device that is started when it is wanted.

import (
	"context"
	"time"

	"tessellant/internal/lab"
)

// start has the device started, where its lab does that; 0: it was there.
func (a *attempt) start(ctx context.Context) (took time.Duration, err error) {
	s, ok := a.b.Lab(a.hold).(lab.Starter)
	if !ok {
		return 0, nil
	}
	if took, err = s.Start(ctx, a.hold.Serial); err == nil {
		a.started = s
	}
	return took, err
}

// doneWith says that the device is not needed any more; once.
func (a *attempt) doneWith() {
	if a.started != nil {
		a.started.Done(a.hold.Serial)
		a.started = nil
	}
}
