// Package guard limits a panic to the piece of work in which it happened.
//
// Much code, ours and others', reads what users send. If it panics, one hold, order, request or script ends with an error, and nothing
// else: the stack is logged and the panic is counted. In: a piece of work. Out: its error, or a *Panicked.
package guard

import (
	"context"
	"fmt"
	"log/slog"
	"runtime/debug"

	"github.com/prometheus/client_golang/prometheus"
)

// Panics counts the panics that were caught, by the kind of work that they ended.
var Panics = prometheus.NewCounterVec(prometheus.CounterOpts{Name: "tessellant_panics_total", Help: "Faults of the program itself that ended a piece of work, by its kind."}, []string{"work"})

// Kinds of work whose end a panic is.
const (
	Hold    = "hold"    // the work on one device
	Order   = "order"   // one command of a session, one call of a host
	Request = "request" // over HTTP
	Script  = "script"  // one call of a script
	Record  = "record"  // a recorder
	Answer  = "answer"  // what a run says
	Loop    = "loop"    // one round of what the program does all the time
)

// Panicked is a panic as an error.
type Panicked struct {
	Work  string
	Value any
}

func (p *Panicked) Error() string {
	return fmt.Sprintf("Tessellant itself failed at it (%.200s); its log has more, please report it", fmt.Sprint(p.Value))
}

// Do runs f. A panic in it becomes a *Panicked.
func Do(log *slog.Logger, work string, f func() error) (err error) {
	defer func() {
		if r := recover(); r != nil {
			err = Caught(log, work, r)
		}
	}()
	return f()
}

// Run is Do for what gives no error of its own.
func Run(log *slog.Logger, work string, f func()) error {
	return Do(log, work, func() error { f(); return nil })
}

// Caught logs and counts what recover gave.
func Caught(log *slog.Logger, work string, value any) *Panicked {
	Panics.WithLabelValues(work).Inc()
	log.Error("a panic was caught", "work", work, "panic", fmt.Sprintf("%.1000s", fmt.Sprint(value)), "stack", string(debug.Stack()))
	return &Panicked{work, value}
}

// Warn logs that something did not work, unless ctx has ended: then that is why.
func Warn(ctx context.Context, log *slog.Logger, what string, err error) {
	if err != nil && ctx.Err() == nil {
		log.Warn(what, "err", err)
	}
}
