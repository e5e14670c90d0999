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
)

// Prolong moves the end of a hold.
type Prolong struct {
	By   time.Duration
	Most time.Duration // that may be left afterwards
}

// Held says for how long a device is held still.
type Held struct{ Left time.Duration }

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
