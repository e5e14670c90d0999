package hostlink

// What goes over the stream between a held device and those who watch it, or have it in hand: frames, each with its kind.

import (
	"encoding/binary"
	"fmt"
	"io"

	"tessellant/internal/core/h264"
)

// WatchPath ends the path of the order that opens such a stream: POST Watch.
const WatchPath = HandsPath + "watch"

// Watch says who comes.
type Watch struct {
	Stream string `json:"stream"`
	Name   string `json:"name"` // what others see them by
	Takes  bool   `json:"takes"`
	Mine   bool   `json:"mine"` // the hold is theirs: they have it in hand at once unless somebody else has
}

// Kinds of frames. Pictures have their moment before them: ms on the attempt's clock, 8 bytes, big endian.
const (
	FrameText    = 't' // JSON: to a person Told, from one Done
	FrameRecord  = 'r' // what a decoder needs to know first (ISO/IEC 14496-15, 5.3.3.1)
	FrameKey     = 'k' // a picture that needs none before it
	FramePicture = 'p' // one that needs those before it
	FrameSingle  = 'j' // a picture by itself, as JPEG
	FrameOther   = 'o' // a message of who listens (ListenPath) that is no text: it is refused
)

// MaxFrame is how many bytes a frame may have; MaxDone, one from a person.
const (
	MaxFrame = h264.MaxPicture + 64
	MaxDone  = 64 << 10
)

// Told is what a person is told; fields that have not changed are empty.
type Told struct {
	Hand    *Hand    `json:"hand,omitempty"`
	Screen  []int    `json:"screen,omitempty"`  // width and height as it is held, in pixels
	Picture string   `json:"picture,omitempty"` // film, single or none: what comes
	Rate    int      `json:"rate,omitempty"`    // bits a second, of a film
	Problem *Problem `json:"problem,omitempty"`
	Watch   int      `json:"watching,omitempty"` // how many watch
	// Test is how the test stands on whose device they look; nil: a person holds it.
	Test *Standing `json:"test,omitempty"`
	// Routes are the ways that are open from its apps to people's own machines.
	Routes *[]Routed `json:"routes,omitempty"`
}

// Hand says who has the device in hand.
type Hand struct {
	Name string `json:"name"` // "": nobody
	Mine bool   `json:"mine"`
}

// Problem is something that could not be done.
type Problem struct {
	What   string `json:"what"`
	Why    string `json:"why"`
	Remedy string `json:"remedy,omitempty"`
}

// Done is what a person does; one thing at a time.
type Done struct {
	Take    bool       `json:"take,omitempty"`    // takes the device in hand
	Fingers *[]Contact `json:"fingers,omitempty"` // all that touch now; one that touched before and is not among them lifts
	Text    string     `json:"text,omitempty"`    // typed
	Secret  bool       `json:"secret,omitempty"`  // the text is: it is not kept
	Keys    []string   `json:"keys,omitempty"`    // pressed, one after the other
	Picture string     `json:"picture,omitempty"` // film, single or none: what is wanted
	Record  *bool      `json:"record,omitempty"`  // what is touched is to be known, so that it can be done again
}

// Contact is where a finger touches: parts of the screen as it is held, from 0 to 1.
type Contact struct {
	ID int     `json:"id"`
	X  float64 `json:"x"`
	Y  float64 `json:"y"`
}

// WriteFrame writes a frame.
func WriteFrame(w io.Writer, kind byte, parts ...[]byte) error {
	n := 0
	for _, p := range parts {
		n += len(p)
	}
	b := make([]byte, 0, 5+n)
	b = binary.BigEndian.AppendUint32(append(b, kind), uint32(n))
	for _, p := range parts {
		b = append(b, p...)
	}
	_, err := w.Write(b)
	return err
}

// ReadFrame reads a frame of at most so many bytes.
func ReadFrame(r io.Reader, most int) (kind byte, body []byte, err error) {
	var head [5]byte
	if _, err := io.ReadFull(r, head[:]); err != nil {
		return 0, nil, err
	}
	n := binary.BigEndian.Uint32(head[1:])
	if int64(n) > int64(most) {
		return 0, nil, fmt.Errorf("a frame of %d bytes: %d are the most", n, most)
	}
	body = make([]byte, n)
	_, err = io.ReadFull(r, body)
	return head[0], body, err
}
