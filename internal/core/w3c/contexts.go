package w3c

// Need is what a command needs of the context in which it comes; together where it needs several things.
type Need uint

const (
	Elements Need = 1 << iota // a tree of elements
	Hands                     // fingers and keys
	Picture                   // a picture of it
	Phone                     // the phone around it: apps, files, log
	Page                      // a document, with an address, a history, scripts, cookies and style sheets
	Windows                   // windows that open, close, and change their size
	Dialogs                   // dialogs that are no elements
	Gestures                  // sequences of actions of fingers and keys
)

// Context is what a session's commands work on: a native app's screen, or a page in it.
type Context struct {
	Has     Need
	Without map[Need]string // what to say of the first need that it lacks, where a command says nothing itself
	Own     bool            // what commands say themselves is of another context: only Without counts
}

// Lacks gives the first of the needs that the context does not have; 0: it has them all.
func (c Context) Lacks(n Need) Need {
	missing := n &^ c.Has
	return missing & -missing
}

// Native is the screen of a native app.
var Native = Context{
	Has:     Elements | Hands | Picture | Phone | Gestures,
	Without: map[Need]string{Page: "there is no page behind a native app's screen; for a web view in it, switch to its context with POST …/tessellant/context"},
}

// Web is a page in a web view of an app, or in the browser.
var Web = Context{
	Own: true,
	Has: Elements | Hands | Picture | Phone | Page | Dialogs | Gestures,
	Without: map[Need]string{
		Windows: "a web view is as large as its app has it; see the pages with GET …/tessellant/contexts",
	},
}
