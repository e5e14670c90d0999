package hostlink

// Orders: commands of sessions, and questions to the host itself.

import (
	"context"
	"encoding/json"
	"log/slog"
	"time"

	"tessellant/internal/guard"
)

// AnswerOrder answers an order as it comes over the bus.
func AnswerOrder(ctx context.Context, data []byte, answer Answerer) []byte {
	var o Order
	r := Result{}
	if err := json.Unmarshal(data, &o); err != nil {
		r.Problem = "the order can't be read: " + err.Error()
	} else {
		r = answer(ctx, o)
	}
	raw, _ := json.Marshal(r)
	return raw
}

// Guarded is an answerer that answers with the problem where carrying out an order panics. Every link serves orders through it.
func Guarded(log *slog.Logger, answer Answerer) Answerer {
	return func(ctx context.Context, o Order) (r Result) {
		if err := guard.Run(log, guard.Order, func() { r = answer(ctx, o) }); err != nil {
			r = Result{Problem: err.Error()}
		}
		return r
	}
}

// Order is one command of a session, or a piece of one, on its way to the host. An order can be sent
// again: of an id that is known, nothing is done twice.
type Order struct {
	Hold, ID     string // ID: of the command, chosen by who sends it
	Method, Path string
	Size         int    // bytes of the whole body
	From         int    // where this piece of it lies
	Piece        []byte `json:",omitempty"`
	Want         int    // from where on the answer is wanted
}

// Result is the host's answer to an order.
type Result struct {
	Gone    bool   `json:",omitempty"` // the session is not here any more
	Problem string `json:",omitempty"`
	Pending bool   `json:",omitempty"` // not done yet, or pieces are missing: send the same order again
	Status  int    // of the answer
	Size    int    // bytes of it
	Piece   []byte `json:",omitempty"`
}

// PieceSize is how many bytes go in one message: some buses take no more than a megabyte.
const PieceSize = 512 << 10

// Unable says why the desk can't do what was asked, and what to do.
type Unable struct{ Why, Remedy string }

// Pairing is one try to be paired with a phone over the network.
type Pairing struct {
	ID      string
	State   string // waiting, paired or failed
	Why     string // of one that failed
	Remedy  string
	Payload string // of a picture that the phone scans; "": it is by code
	Until   time.Time
}

// PairRequest asks for a pairing: with the code that the phone shows, or by a picture that it scans.
type PairRequest struct{ Address, Code string }
