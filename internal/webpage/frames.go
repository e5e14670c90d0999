package webpage

// Which of a page's frames is commanded, and where it is. A frame of another site may have a process of its own: then it is spoken to by a session of its own.

import (
	"context"
	"strings"
	"time"

	"tessellant/internal/core/w3c"
	"tessellant/internal/phone"
)

// world is where scripts run in a frame.
type world struct {
	session string // "": the page's
	id      int    // 0: there is none
}

// apart is a frame that has a process of its own.
type apart struct {
	frame  string
	around string // the session of the frame around
}

// autoAttach asks for sessions of such frames.
var autoAttach = map[string]any{"autoAttach": true, "waitForDebuggerOnStart": false, "flatten": true}

const (
	maxApart   = 200 // of a page
	maxNested  = 50
	enterTakes = 20 * time.Second
	stillTries = 20 // until a frame apart stays where it is
)

// joined notes a frame apart, under mu, and has it tell of its scripts.
func (x *Page) joined(session, frame, kind, around string) {
	if kind != "iframe" || len(x.apart) >= maxApart {
		return
	}
	x.apart[session] = apart{frame, around}
	go func() {
		ctx, cancel := context.WithTimeout(context.Background(), enterTakes) // it ends with the page, too
		defer cancel()
		for method, params := range map[string]any{"Runtime.enable": nil, "Page.enable": nil, "Target.setAutoAttach": autoAttach} {
			_ = x.page.DoIn(ctx, session, method, params, nil) // where it does not work, no script runs in the frame, and the commands say so
		}
	}()
}

// object stands for a thing of the page: its id, and, behind an @, the session of the frame apart in which it is.
type object string

func objectIn(session, id string) object {
	if session == "" || id == "" {
		return object(id)
	}
	return object(id + "@" + session)
}

func (o object) parts() (session, id string) {
	id, session, _ = strings.Cut(string(o), "@")
	return session, id
}

// doOn is do with the object of the command.
func (x *Page) doOn(ctx context.Context, o object, method string, params map[string]any, result any) error {
	session, id := o.parts()
	q := map[string]any{"objectId": id}
	for k, v := range params {
		q[k] = v
	}
	return x.doIn(ctx, session, method, q, result)
}

// whole goes back to the page itself.
func (x *Page) whole() { x.at, x.around = x.main, nil }

// Frame switches to a frame: nil, the page itself; a number; or an element's reference.
func (x *Page) Frame(ctx context.Context, id any) *w3c.Error {
	var o object
	switch id := id.(type) {
	case nil:
		x.whole()
		return nil
	case int:
		r, err := x.call(ctx, "", `function(n) { return document.querySelectorAll('iframe, frame')[n] }`, false, id)
		if err != nil {
			return failed("switch to the frame", err)
		}
		if r.ObjectID == "" || r.Subtype != "node" {
			return w3c.Fail(w3c.NoSuchFrame, "there is no frame number %d", id)
		}
		o = object(r.ObjectID)
	case string:
		e, err := x.element(ctx, id)
		if err != nil {
			return err
		}
		o = e
	}
	var d struct {
		Node struct{ FrameID, NodeName string }
	}
	if err := x.doOn(ctx, o, "DOM.describeNode", nil, &d); err != nil {
		return failed("switch to the frame", err)
	}
	if d.Node.FrameID == "" || d.Node.NodeName != "IFRAME" && d.Node.NodeName != "FRAME" {
		return w3c.Fail(w3c.NoSuchFrame, "the element is no frame")
	}
	x.around, x.at = append(x.around, x.at), d.Node.FrameID
	return nil
}

// ParentFrame switches to the frame around.
func (x *Page) ParentFrame() {
	if n := len(x.around); n > 0 {
		x.around, x.at = x.around[:n-1], x.around[n-1]
	}
}

// offset is where the window of the frame that is commanded lies in the page's, in CSS pixels. What a script has scrolled into view in a frame apart moves a little later.
func (x *Page) offset(ctx context.Context) (left, top float64, err error) {
	left, top, apart, err := x.offsetNow(ctx)
	for tries := 0; err == nil && apart && tries < stillTries; tries++ {
		if err = phone.Pause(ctx, poll); err != nil {
			return left, top, err
		}
		was, above := left, top
		if left, top, _, err = x.offsetNow(ctx); left == was && top == above {
			break
		}
	}
	return left, top, err
}

func (x *Page) offsetNow(ctx context.Context) (left, top float64, isApart bool, err error) {
	in, _, _, _ := x.state()
	session, frame := in.session, x.at
	for n := 0; frame != x.main && n < maxNested; n++ {
		x.mu.Lock()
		if c := x.apart[session]; c.frame == frame { // what it stands in is of the frame around
			session, isApart = c.around, true
		}
		root := x.main
		if session != "" {
			root = x.apart[session].frame
		}
		x.mu.Unlock()
		var owner struct{ BackendNodeID int }
		var box struct{ Model struct{ Content []float64 } }
		if err := x.doIn(ctx, session, "DOM.getFrameOwner", map[string]any{"frameId": frame}, &owner); err != nil {
			return 0, 0, isApart, err
		}
		if err := x.doIn(ctx, session, "DOM.getBoxModel", map[string]any{"backendNodeId": owner.BackendNodeID}, &box); err != nil {
			return 0, 0, isApart, err
		}
		if len(box.Model.Content) >= 2 {
			left, top = left+box.Model.Content[0], top+box.Model.Content[1]
		}
		frame = root
	}
	return left, top, isApart, nil
}
