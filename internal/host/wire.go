package host

// What a host and the service say to each other when they are not in one process:
// calls over the bus, as JSON, and bytes over HTTP.

import "time"

// Call is one call of a host; fields that its kind does not need are empty.
type Call struct {
	Protocol int
	Token    string     // of the session that joining gave
	Kind     string     // devices, holds, renew, report, live, close
	About    *About     `json:",omitempty"`
	Seen     []Seen     `json:",omitempty"`
	Holds    []string   `json:",omitempty"`
	Hold     string     `json:",omitempty"`
	Reports  []Progress `json:",omitempty"`
	Live     *Live      `json:",omitempty"` // without its picture, which goes over HTTP
	Closing  *Closing   `json:",omitempty"`
}

// Answer is the service's.
type Answer struct {
	Problem string   `json:",omitempty"` // why not
	Kind    string   `json:",omitempty"` // of the problem: over, full, stranger, protocol; "": try again
	Names   []string `json:",omitempty"`
	Holds   []Hold   `json:",omitempty"`
}

// Kinds of problems.
const (
	KindOver     = "over"     // ErrOver
	KindFull     = "full"     // ErrFull
	KindStranger = "stranger" // this session is not known: join again
	KindUnfit    = "unfit"    // ErrUnfit
	KindProtocol = "protocol" // the service does not speak this host's protocol
)

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

// Welcome is what joining gives.
type Welcome struct {
	Name        string    `json:"name"` // the key's
	Token       string    `json:"token"`
	BusURL      string    `json:"bus_url"`
	BusUser     string    `json:"bus_user"`
	BusPassword string    `json:"bus_password"`
	Now         time.Time `json:"now"`
}
