package app

// Web views: parts of a screen that a browser of the phone's draws.

import "image"

// Page is a page that the phone's browser shows in a part of the screen. Its functions never wait.
type Page interface {
	Picture() image.Image // as it was drawn last; nil: nothing was
	Tap(x, y int)         // in pixels of the part
	Scroll(by int)
	Type(text string)
	Backspace()
	Close()
}

// web gives a widget's page, which it has as long as it is on the screen.
func (a *App) web(n *Node) Page {
	key := n.ID + " " + n.w.text
	p := a.pages[key]
	if p == nil && a.env.Web != nil {
		p = a.env.Web(n.w.text, n.Bounds.X2-n.Bounds.X1, n.Bounds.Y2-n.Bounds.Y1, func() { a.Version++ })
		if a.pages == nil {
			a.pages = map[string]Page{}
		}
		a.pages[key] = p
	}
	return p
}

// tend opens the pages of what is on the screen now, and closes those of what is not.
func (a *App) tend() {
	here := map[string]bool{}
	for _, n := range a.nodes {
		if n.Kind == "web" && a.web(n) != nil {
			here[n.ID+" "+n.w.text] = true
		}
	}
	for key, p := range a.pages {
		if !here[key] {
			p.Close()
			delete(a.pages, key)
		}
	}
}

// webAt is the web view that has the focus, or lies at a place.
func (a *App) webAt(is func(*Node) bool) (*Node, Page) {
	for _, n := range a.nodes {
		if n.Kind == "web" && is(n) {
			return n, a.pages[n.ID+" "+n.w.text]
		}
	}
	return nil, nil
}

func (a *App) focusedWeb() Page {
	_, p := a.webAt(func(n *Node) bool { return n.ID == a.webFocus && a.focused == "" })
	return p
}
