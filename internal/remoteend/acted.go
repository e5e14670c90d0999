package remoteend

// Actions as people read them. Keys are told as the text that they type, as a whole: one that is masked would not be found in single keys.

import (
	"fmt"
	"strings"

	"tessellant/internal/webpage"
)

// acted tells what a Perform Actions request asks for, source by source, and which texts it types.
func acted(body map[string]any) (told string, typed []string) {
	list, _ := body["actions"].([]any)
	var sources []string
	for _, one := range list {
		source, _ := one.(map[string]any)
		items, _ := source["actions"].([]any)
		var done []string
		var text strings.Builder
		others := 0 // keys that type nothing
		shift := false
		for _, item := range items {
			a, _ := item.(map[string]any)
			kind, _ := a["type"].(string)
			key, _ := a["value"].(string)
			switch {
			case key == "\uE008" || key == "\uE050":
				shift = kind == "keyDown"
				if shift {
					others++
				}
			case kind == "keyDown" && (key < "\uE000" || key > "\uF8FF"):
				if shift {
					key = webpage.Shifted(key)
				}
				text.WriteString(key)
			case kind == "keyDown":
				others++
			case source["type"] != "key":
				if says := saysOf(kind, a); says != "" {
					done = append(done, says)
				}
			}
		}
		if text.Len() > 0 {
			done, typed = append(done, "types "+text.String()), append(typed, text.String())
		}
		if others > 0 {
			done = append(done, fmt.Sprintf("keys that type nothing: %d", others))
		}
		sources = append(sources, fmt.Sprintf("%.50v: %s", source["id"], strings.Join(done, ", ")))
	}
	return strings.Join(sources, "; "), typed
}

// saysOf tells of one action that is no key; "": there is nothing to tell.
func saysOf(kind string, a map[string]any) string {
	takes := ""
	if d, is := a["duration"].(float64); is && d > 0 {
		takes = fmt.Sprintf("%v ms", d)
	}
	var says string
	switch kind {
	case "pause":
		if takes == "" {
			return ""
		}
		return "rests " + takes
	case "pointerMove":
		says = fmt.Sprintf("to %.20v,%.20v", a["x"], a["y"])
	case "scroll":
		says = fmt.Sprintf("scrolls at %.20v,%.20v by %.20v,%.20v", a["x"], a["y"], a["deltaX"], a["deltaY"])
	case "pointerDown", "pointerUp", "pointerCancel":
		says = strings.ToLower(strings.TrimPrefix(kind, "pointer"))
		if b, is := a["button"].(float64); is && b != 0 {
			says += fmt.Sprintf(" (button %v)", b)
		}
		return says
	default:
		return ""
	}
	switch o := a["origin"].(type) {
	case map[string]any:
		for _, ref := range o {
			says += fmt.Sprintf(" from %.100v", ref)
		}
	case string:
		if o == "pointer" {
			says += " from where it is"
		}
	}
	if takes != "" {
		says += " in " + takes
	}
	return says
}
