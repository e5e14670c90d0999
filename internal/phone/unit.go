package phone

import (
	"context"
	"time"
)

// Heart is a phone that can be asked whether it is there, at no cost to what else it does.
type Heart interface {
	// Answers asks the simplest question; without an answer in time the phone is *Lost.
	Answers(ctx context.Context, within time.Duration) error
}

// Storage is a phone that says how much room it has left for apps and files.
type Storage interface {
	FreeMB(ctx context.Context) (int, error)
}

// Fitness is a phone that says whether it can be tested.
type Fitness interface {
	// Fit says what a person has to do first; nil: nothing.
	Fit(ctx context.Context) (*Refused, error)
}

// Limited is a phone whose maker does not let us do everything.
type Limited interface {
	// Limits says what, and what is done instead; so far as it was met.
	Limits() []string
}

// Passage is a phone whose lab takes the commands of W3C WebDriver itself.
type Passage interface {
	// Pass passes a command on as it is: its path behind the session's. What the lab says no to is a *w3c.Error, or *Lost where its session has ended.
	Pass(ctx context.Context, method, path string, body []byte) (value any, err error)
}

// Unit is a phone with all that it can do besides, found once. What is nil it can't do.
type Unit struct {
	Phone
	Logger      Logger
	Clock       Clock
	Keyboard    Keyboard
	Settings    Settings
	Conditioner Conditioner
	Settler     Settler
	Waker       Waker
	Permissions Permissions
	Pixels      Pixels
	Fingers     Fingers
	Files       Files
	Heart       Heart
	Storage     Storage
	Fitness     Fitness
	Limited     Limited
	Gauged      Gauged
	Proxied     Proxied
	Filmer      Filmer
	Touchable   Touchable
	Drawer      Drawer
	Typist      Typist
	Webbed      Webbed
	Passage     Passage
}

// Of finds what a phone can do.
func Of(p Phone) *Unit {
	if u, ok := p.(*Unit); ok {
		return u
	}
	u := &Unit{Phone: p}
	u.Logger, _ = p.(Logger)
	u.Clock, _ = p.(Clock)
	u.Keyboard, _ = p.(Keyboard)
	u.Settings, _ = p.(Settings)
	u.Conditioner, _ = p.(Conditioner)
	u.Settler, _ = p.(Settler)
	u.Waker, _ = p.(Waker)
	u.Permissions, _ = p.(Permissions)
	u.Pixels, _ = p.(Pixels)
	u.Fingers, _ = p.(Fingers)
	u.Files, _ = p.(Files)
	u.Typist, _ = p.(Typist)
	u.Webbed, _ = p.(Webbed)
	u.Heart, _ = p.(Heart)
	u.Storage, _ = p.(Storage)
	u.Fitness, _ = p.(Fitness)
	u.Limited, _ = p.(Limited)
	u.Gauged, _ = p.(Gauged)
	u.Proxied, _ = p.(Proxied)
	u.Filmer, _ = p.(Filmer)
	u.Touchable, _ = p.(Touchable)
	u.Drawer, _ = p.(Drawer)
	u.Passage, _ = p.(Passage)
	return u
}

// Observed gives the unit with its commands told to see, each when it has ended. What only looks after the phone (its log, clock, heart and the like)
// is not told.
func (u *Unit) Observed(see func(Command)) *Unit {
	o := *u
	o.Phone = observe(u.Phone, see)
	if u.Keyboard != nil {
		o.Keyboard = observedKeyboard{u.Keyboard, &observed{see: see}}
	}
	if u.Settings != nil {
		o.Settings = observedSettings{u.Settings, &observed{see: see}}
	}
	if u.Conditioner != nil {
		o.Conditioner = observedConditioner{u.Conditioner, &observed{see: see}}
	}
	if u.Fingers != nil {
		o.Fingers = observedFingers{u.Fingers, &observed{see: see}}
	}
	if u.Files != nil {
		o.Files = observedFiles{u.Files, &observed{see: see}}
	}
	if u.Permissions != nil {
		o.Permissions = observedPermissions{u.Permissions, &observed{see: see}}
	}
	return &o
}
