package hostlink

// What the service asks of a device that a person holds, besides the commands of W3C WebDriver: orders behind the path of its session.

import "time"

// The ends of the paths.
const (
	HandsPath   = "/hands/"
	ProlongPath = HandsPath + "prolong" // POST Prolong, answers Held
	TreePath    = HandsPath + "tree"    // GET, answers Tree
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
