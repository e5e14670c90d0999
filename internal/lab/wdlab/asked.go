package wdlab

// What a session is asked for with: the values of its templates, the conditions that the lab sees to, where its pages may lead to.

import (
	"cmp"
	"fmt"
	"net/url"
	"path"

	"tessellant/internal/core/catalogue"
	"tessellant/internal/core/conditions"
	"tessellant/internal/core/labfile"
	"tessellant/internal/core/w3c"
	"tessellant/internal/lab"
	"tessellant/internal/phone"
)

// valuesFor are what the lab's templates can name.
func valuesFor(d catalogue.Device, want lab.Want) labfile.Values {
	language := d.Language
	if c := want.Conditions[conditions.Language]; c != "" {
		language = c
	}
	v := labfile.Values{Device: labfile.Device{ID: d.ID, Platform: d.Platform, OS: d.OS, Maker: d.Maker, Model: d.Model, Language: d.Language}, Name: want.Name, Conditions: labfile.Conditions(want.Conditions), Language: language,
		Orientation: want.Conditions[conditions.Orientation], Dark: want.Conditions[conditions.Dark],
		App: labfile.App{ID: want.App.ID, Activity: want.App.Activity, Size: want.App.Size, File: fileName(d.Platform, want.App.ID)}}
	v.Page = want.App.Page
	v.Screen = labfile.Screen{Width: d.Width * 160 / d.Density, Height: d.Height * 160 / d.Density, Scale: float64(d.Density) / 160}
	if v.Orientation == "landscape" {
		v.Screen.Width, v.Screen.Height = v.Screen.Height, v.Screen.Width
	}
	return v
}

// leads says why a page may not be opened here.
func (l *Lab) leads(address string) error {
	if l.Lab.Kind != labfile.Browser { // somebody else's network
		return nil
	}
	const doing = "open the page"
	u, err := url.Parse(address)
	if err == nil && (address == "about:blank" || address == "") {
		return nil
	}
	if err != nil || u.Scheme != "http" && u.Scheme != "https" || u.Hostname() == "" {
		return &phone.Refused{Doing: doing, Code: string(w3c.InvalidArgument), Why: fmt.Sprintf("%.100q is not the address of a page", address), Remedy: "give the whole address, with https:// before it"}
	}
	port := cmp.Or(u.Port(), map[string]string{"http": "80", "https": "443"}[u.Scheme])
	if may, _ := l.Lab.Leads(u.Hostname(), port); !may {
		return &phone.Refused{Doing: doing, Why: fmt.Sprintf("pages may not lead to %s from this host", u.Host), Remedy: "have the operator add it to addresses: of the lab " + l.Lab.Name + " in the lab file"}
	}
	return nil
}

func fileName(platform, id string) string {
	ending := ".apk"
	if platform == "ios" {
		ending = ".ipa"
	}
	return path.Base(id) + ending
}

// installs says whether a session of the lab has the build installed.
func (l *Lab) installs() bool { return l.Lab.Session.Capabilities.Names(".Build") }

// asks are the capabilities that a session is asked for with, in the phone's browser or not.
func (l *Lab) asks(page bool) *labfile.Tree {
	if page {
		return l.Lab.Session.Pages
	}
	return l.Lab.Session.Capabilities
}

// seenTo are the conditions that the lab sees to when a session is opened.
func seenTo(asks *labfile.Tree, want conditions.Set) conditions.Set {
	out := conditions.Set{}
	for name, value := range want {
		if sets(asks, name) {
			out[name] = value
		}
	}
	return out
}

// sets says whether capabilities set a condition: those that they name.
func sets(c *labfile.Tree, name string) bool {
	if c.Names(".Screen.Width") && name == conditions.Orientation {
		return true
	}
	return c.Names("{{.Conditions}}") || c.Names(`"`+name+`"`) || c.Names(".Conditions."+name) || name == conditions.Language && c.Names(".Language") || name == conditions.Orientation && c.Names(".Orientation") || name == conditions.Dark && c.Names(".Dark")
}
