// Package hostlink is the contract between the service and the hosts that carry out its work.
//
// A host sees the service as a Link: five small interfaces, one for each kind of thing that the two say to each other.
//
//	Work      which devices there are, what is to be done on them, and how it ended
//	Evidence  what was gathered, in reports and files, whole or part by part
//	Live      what happens at this moment; it may be lost
//	Orders    the way back: commands of sessions, and questions to the host itself
//	Streams   bytes both ways, for as long as both want
//
// The service implements Link for a host in its own process; hostlink/remote implements it over the bus and HTTP.
// hostlink/hostlinktest is the suite that both pass. Every call has a deadline of its caller's, and can be made
// again: nothing is counted twice.
package hostlink

import (
	"context"
	"errors"
	"io"
	"net"
	"time"
)

// Protocol is the number of what hosts and the service say to each other. The
// service takes this one and the one before.
const Protocol = 2

// RenewEvery is how often a host renews its holds; a hold lasts HoldPeriod.
const (
	RenewEvery = 3 * time.Second
	HoldPeriod = 15 * time.Second
)

// What a call can fail with. Every other error means: try again.
var (
	// ErrOver says that the service does not know the attempt any more. What was kept for it can be thrown away.
	ErrOver = errors.New("the service does not know this attempt")
	// ErrFull says that the service has no room for evidence.
	ErrFull = errors.New("the service's storage is full")
	// ErrUnfit says that the service will never take this piece: it is too long, or of an unknown kind. The host leaves it out and says so.
	ErrUnfit = errors.New("the service can't take this")
)

// Link is the service as a host sees it.
type Link interface {
	Work
	Evidence
	Live
	Orders
	Streams
}

// Work is what there is to do, and where.
type Work interface {
	// Devices tells what the host is and which devices it sees now; those it no longer names are away. It answers
	// the serials of those that must pass a check before they get work again.
	Devices(ctx context.Context, host string, about About, seen []Seen) (check []string, err error)
	// Holds lists the holds in force for this host. Of those that are in hand already, it gives only
	// their ids and whether they are to be stopped.
	Holds(ctx context.Context, host string, inHand []string) ([]Hold, error)
	// Renew makes holds last longer, and answers those that are still this host's.
	Renew(ctx context.Context, host string, holds []string) ([]string, error)
	// Release gives a hold's device back before the hold is closed: the work on it is over. Releasing it again changes nothing.
	// Closing a hold releases its device, too.
	Release(ctx context.Context, hold Hold, r Release) error
	// Close ends a hold. Closing it again changes nothing.
	Close(ctx context.Context, hold Hold, c Closing) error
	// Fetch reads the hold's build, its package, or the references of its steps.
	Fetch(ctx context.Context, hold Hold, what Content) (io.ReadCloser, error)
	// FetchBuild reads any build of the hold's workspace, by its reference.
	FetchBuild(ctx context.Context, hold Hold, ref string) (io.ReadCloser, error)
	// Wake gives a channel on which something comes when there is new work.
	Wake(host string) (<-chan []byte, func())
}

// Evidence is what a host gathered.
type Evidence interface {
	// Report tells of progress. A report with a number that was told before changes nothing.
	Report(ctx context.Context, hold Hold, p []Progress) error
	// Append uploads a part of an artifact that is still being written: the bytes from offset on.
	Append(ctx context.Context, hold Hold, a Artifact, offset int64, part []byte) error
	// Keep uploads an artifact. Uploaded again, it replaces the first, and its parts.
	Keep(ctx context.Context, hold Hold, a Artifact, r io.Reader) error
}

// Live is what happens at this moment.
type Live interface {
	// Live tells those who watch what has just happened; it may be lost.
	Live(ctx context.Context, hold Hold, now Now) error
}

// Orders is the way from the service to a host.
type Orders interface {
	// Serve answers the orders that the service hands on to a host, until stop is called.
	Serve(host string, answer Answerer) (stop func(), err error)
}

// Streams are connections between the service and a host. The service opens them: an order brings a stream's id.
type Streams interface {
	// Stream takes a stream up. It is read and written as it comes, with a window: who is ahead waits.
	Stream(host, id string) (Stream, error)
}

// Stream is one end of a stream.
type Stream interface {
	net.Conn
	// CloseWith closes it, and tells the other end why.
	CloseWith(why string) error
}

// Answerer carries out one order.
type Answerer = func(context.Context, Order) Result
