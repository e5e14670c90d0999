package uitree

// Reading a platform's own dump of the screen, whatever the platform: bounded, and without the characters that XML does not allow.

import (
	"bytes"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
)

// grammar is how a platform writes the tree.
type grammar struct {
	root string                              // the name of the element that holds all others
	at   func(s *Screen, a []xml.Attr)       // reads what stands at the root; nil: nothing
	each func(xml.StartElement) *Element     // makes an element; nil: it and what is in it are left out
	text func(e *Element, characters string) // takes what stands in an element as text; nil: it has no meaning
}

// read reads a dump in which other things may stand around the XML.
func (d grammar) read(raw []byte) (*Screen, error) {
	if len(raw) > maxDump {
		return nil, fmt.Errorf("the screen's tree is %d bytes long, more than the %d that are read", len(raw), maxDump)
	}
	start := 0
	end := len(raw)
	if d.root != "" {
		start = bytes.Index(raw, []byte("<"+d.root))
		end = bytes.LastIndex(raw, []byte("</"+d.root+">"))
		if start < 0 || end < start {
			return nil, fmt.Errorf("there is no tree in the device's answer %q", short(raw))
		}
		end += len("</" + d.root + ">")
	}
	dec := xml.NewDecoder(bytes.NewReader(allowed(raw[start:end])))
	dec.CharsetReader = func(_ string, in io.Reader) (io.Reader, error) { return in, nil } // it is read as UTF-8, whatever it says
	s := &Screen{}
	var open []*Element // nil: left out
	nodes := 0
	for {
		tok, err := dec.Token()
		if errors.Is(err, io.EOF) {
			return s, nil
		}
		if err != nil {
			return nil, fmt.Errorf("the screen's tree is not XML: %w", err)
		}
		switch t := tok.(type) {
		case xml.StartElement:
			if nodes == 0 && len(open) == 0 && t.Name.Local == d.root {
				if d.at != nil {
					d.at(s, t.Attr)
				}
				continue
			}
			if nodes++; nodes > maxNodes || len(open) > maxDepth {
				return nil, fmt.Errorf("the screen's tree has more than %d elements, or is more than %d deep", maxNodes, maxDepth)
			}
			var parent *Element
			if len(open) > 0 {
				if parent = open[len(open)-1]; parent == nil {
					open = append(open, nil)
					continue
				}
			}
			e := d.each(t)
			open = append(open, e)
			switch {
			case e == nil:
			case parent == nil:
				s.Elements = append(s.Elements, e)
			default:
				parent.Children = append(parent.Children, e)
			}
		case xml.EndElement:
			if len(open) > 0 {
				open = open[:len(open)-1]
			}
		case xml.CharData:
			if d.text != nil && len(open) > 0 && open[len(open)-1] != nil {
				d.text(open[len(open)-1], string(t))
			}
		}
	}
}
