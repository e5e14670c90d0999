package hostlink

// What the service asks of a device that a person holds, besides the commands of W3C WebDriver: orders behind the path of its session.

import (
	"encoding/json"
	"time"

	"tessellant/internal/core/verdict"
)

// The ends of the paths.
const (
	HandsPath   = "/hands/"
	ProlongPath = HandsPath + "prolong" // POST Prolong, answers Held
	TreePath    = HandsPath + "tree"    // GET, answers Tree
	ShotPath    = HandsPath + "shot"    // GET, answers Shot
	DoPath      = HandsPath + "do"      // POST Deed; answers its command's value
	RunPath     = HandsPath + "run"     // POST Script; answers Ran
	// Those of a device on which something is tested, beside the test.
	PausePath  = HandsPath + "pause"  // POST Pause; answers Standing, as GET does
	RoutePath  = HandsPath + "route"  // POST Route; GET answers a list of Routed
	ResumePath = HandsPath + "resume" // POST Resume; answers Standing
)

// ListenPath ends the path of the order that opens a stream to a client which listens to its session: POST Listen. Frames of the kind FrameText go over it, each a message of
// W3C WebDriver BiDi (core/bidi).
const ListenPath = "/listen"

// Listen says who comes.
type Listen struct {
	Stream string `json:"stream"`
	Client string `json:"client"` // of those that work on a device which a person holds; "": the session's own
}

// SessionEnded is why such a stream is closed when its session has ended.
const SessionEnded = "the session has ended"

// Prolong moves the end of a hold.
type Prolong struct {
	By   time.Duration
	Most time.Duration // that may be left afterwards
}

// Held says for how long a device is held still.
type Held struct{ Left time.Duration }

// Pause has a test's next command wait: while somebody watches, or for so long.
type Pause struct {
	By, Why string
	For     time.Duration
}

// Resume lets a test go on.
type Resume struct{ By string }

// Standing says how a test stands that people look on at.
type Standing struct {
	Paused  bool   `json:"paused"`
	By      string `json:"by,omitempty"`   // "": by the test itself
	Why     string `json:"why,omitempty"`  // in the words of who paused it
	Line    string `json:"line,omitempty"` // of the script that did
	Seconds int    `json:"seconds,omitempty"`
	Left    int    `json:"left,omitempty"`  // seconds until it goes on by itself, unless somebody watches
	Last    string `json:"last,omitempty"`  // the test's last command
	Waits   bool   `json:"waits,omitempty"` // that waits to be done
	Busy    bool   `json:"busy,omitempty"`  // or is being done
}

// Route opens ways from apps to servers of a person's own machine, through a stream (internal/tunnel).
type Route struct {
	Stream string   `json:"stream"`
	By     string   `json:"by"`
	At     []string `json:"at"` // what apps ask for, such as route.test:3000; a server's number is its place here
}

// Routed is one such way that is open.
type Routed struct {
	At      string `json:"at"`
	By      string `json:"by"`
	Seconds int    `json:"seconds"` // since it was opened
}

// Tree is what is on the screen, as uitree.ParseOurs reads it.
type Tree struct {
	XML      string
	Rotation int
}

// Shot is a picture of the screen, as PNG.
type Shot struct{ PNG []byte }

// Deed is one thing that is done on a held device. Those of Fingers are the host's own; of the others, Commands has the path below the session's.
type Deed struct {
	Do   string          // a name of Fingers or Commands
	With json.RawMessage // an object: of Fingers Touch; of the others the body of the command
}

// Touch is what fingers and keyboard do.
type Touch struct {
	Locator string `json:",omitempty"` // of the element that is tapped, or typed into; "": by place, or into what has the focus
	X, Y    int
	ToX     int           `json:",omitempty"`
	ToY     int           `json:",omitempty"`
	Took    time.Duration `json:",omitempty"`
	Text    string        `json:",omitempty"`
}

// Fingers are the deeds of fingers and keyboard.
var Fingers = []string{"tap", "swipe", "type"}

// Commands are the other deeds, and where the command of each lies.
var Commands = map[string]string{
	"press": "tessellant/key", "rotate": "tessellant/orientation", "set": "tessellant/conditions", "install": "tessellant/app/install", "launch": "tessellant/app/launch",
	"stop": "tessellant/app/stop", "clear": "tessellant/app/clear", "remove": "tessellant/app/remove", "put": "tessellant/file/put", "keep": "tessellant/step",
}

// AppsCommand lists the apps on a device.
const AppsCommand = "tessellant/apps"

// Script is lines that are run on a held device, as one case.
type Script struct {
	Source string // a file of the script language
	Func   string // the case in it
	Inputs map[string]string
	Within time.Duration
}

// Ran says how that came out.
type Ran struct {
	Verdict          verdict.Verdict
	Message          string
	Line             int // of the source, where it ended before its end; 0: nowhere
	Expected, Actual string
	Took             time.Duration
}
