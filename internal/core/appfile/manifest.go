package appfile

// The binary manifest (ResourceTypes.h: ResXMLTree_*), as far as the facts of
// a build need it.

import (
	"bytes"
	"errors"
)

// Resource ids of the manifest's attributes (android.R.attr). Names may have
// been stripped from the string pool; the ids never are.
const (
	attrLabel            = 0x01010001
	attrIcon             = 0x01010002
	attrName             = 0x01010003
	attrDebuggable       = 0x0101000f
	attrMinSDK           = 0x0101020c
	attrVersionCode      = 0x0101021b
	attrVersionName      = 0x0101021c
	attrTargetSDK        = 0x01010270
	attrTestOnly         = 0x01010272
	attrVersionCodeMajor = 0x01010576
	attrSplitRequired    = 0x01010591
	attrRequired         = 0x0101028e
)

// screens are the sizes of screens that supports-screens tells of, with their attributes.
var screens = []struct {
	name string
	attr uint32
}{{"small", 0x01010284}, {"normal", 0x01010285}, {"large", 0x01010286}, {"xlarge", 0x010102bf}}

// maxFeatures is how many features of a manifest are looked at.
const maxFeatures = 200

// feature is what a manifest says of one feature of the system.
type feature struct {
	name     string
	required value // nothing: it is
}

type manifest struct {
	pkg                           string
	versionCode, versionCodeMajor value
	versionName, label, icon      value
	minAPI, targetAPI             value
	debuggable, testOnly          value
	split                         string // the name of the split that it is; "": it is a whole app, or its base
	needsSplits                   value
	permissions                   []string
	features                      []feature
	screens                       [4]value // by screens: whether it is made for it; nothing: it is
	launcher                      string   // class name as written

	path             []string // open elements
	activity         string   // of the activity that is open
	hasMain, hasHome bool     // seen in the intent filter that is open
	seenPermission   map[string]bool
}

func readManifest(raw []byte, b *budget) (*manifest, error) {
	m := &manifest{seenPermission: map[string]bool{}}
	var strings *pool
	var ids []byte
	found := false
	if isText(raw) {
		return nil, errors.New("it is plain text, not Android's binary XML: the build tool turns the one into the other when it packs an APK")
	}
	err := chunks(raw, b, func(c chunk) error {
		if c.kind != chunkXML {
			return errors.New("it is not in Android's binary XML format")
		}
		found = true
		return chunks(c.body, b, func(c chunk) (err error) {
			switch c.kind {
			case chunkStrings:
				strings, err = readPool(c, b)
			case chunkXMLIDs:
				ids = c.body
			case chunkXMLStart:
				err = m.start(c.body, strings, ids, b)
			case chunkXMLEnd:
				m.end()
			}
			return err
		})
	})
	if err == nil && !found {
		err = errors.New("it is empty")
	}
	return m, err
}

// isText says whether a manifest is XML as people write it.
func isText(raw []byte) bool {
	raw = bytes.TrimLeft(bytes.TrimPrefix(raw, []byte("\ufeff")), " \t\r\n")
	return bytes.HasPrefix(raw, []byte("<"))
}

type attribute struct {
	id   uint32 // 0: none
	name string // only where there is no id
	value
}

func (m *manifest) start(body []byte, p *pool, ids []byte, b *budget) error {
	nameIndex, err := u32(body, 4)
	if err != nil {
		return err
	}
	name, err := p.at(nameIndex)
	if err != nil {
		return err
	}
	if len(m.path) > 200 {
		return errors.New("its elements are nested more than 200 deep")
	}
	m.path = append(m.path, name)
	first, err := u16(body, 8)
	if err != nil {
		return err
	}
	size, err := u16(body, 10)
	if err != nil {
		return err
	}
	count, err := u16(body, 12)
	if err != nil {
		return err
	}
	if size < 20 {
		return errShort
	}
	var attrs []attribute
	for i := range int(count) {
		if err := b.spend(20); err != nil {
			return err
		}
		at := int(first) + i*int(size)
		if at+20 > len(body) {
			return errShort
		}
		nameIndex, _ := u32(body, at+4)
		a := attribute{}
		if id, err := u32(ids, int(nameIndex)*4); err == nil && nameIndex < 1<<20 {
			a.id = id
		}
		if a.id == 0 {
			if a.name, err = p.at(nameIndex); err != nil {
				return err
			}
		}
		if a.value, err = readValue(body[at+12:], p); err != nil {
			return err
		}
		attrs = append(attrs, a)
	}
	m.element(name, attrs)
	return nil
}

// element takes what it needs from an element; m.path ends with it.
func (m *manifest) element(name string, attrs []attribute) {
	get := func(id uint32) value {
		for _, a := range attrs {
			if a.id == id {
				return a.value
			}
		}
		return value{}
	}
	within := func(parent ...string) bool {
		if len(m.path) != len(parent)+1 {
			return false
		}
		for i, p := range parent {
			if m.path[i] != p {
				return false
			}
		}
		return true
	}
	switch {
	case name == "manifest" && within():
		for _, a := range attrs {
			switch a.name {
			case "package":
				m.pkg = a.text
			case "split":
				m.split = a.text
			}
		}
		m.versionCode, m.versionCodeMajor = get(attrVersionCode), get(attrVersionCodeMajor)
		m.versionName = get(attrVersionName)
	case name == "uses-sdk" && within("manifest"):
		m.minAPI, m.targetAPI = get(attrMinSDK), get(attrTargetSDK)
	case (name == "uses-permission" || name == "uses-permission-sdk-23") && within("manifest"):
		if p := get(attrName).text; p != "" && !m.seenPermission[p] {
			m.seenPermission[p] = true
			m.permissions = append(m.permissions, p)
		}
	case name == "uses-feature" && within("manifest"):
		if x := get(attrName).text; x != "" && len(m.features) < maxFeatures {
			m.features = append(m.features, feature{x, get(attrRequired)})
		}
	case name == "supports-screens" && within("manifest"):
		for i, s := range screens {
			m.screens[i] = get(s.attr)
		}
	case name == "application" && within("manifest"):
		m.label, m.icon = get(attrLabel), get(attrIcon)
		m.debuggable, m.testOnly, m.needsSplits = get(attrDebuggable), get(attrTestOnly), get(attrSplitRequired)
	case (name == "activity" || name == "activity-alias") && within("manifest", "application"):
		m.activity = get(attrName).text
	case name == "intent-filter":
		m.hasMain, m.hasHome = false, false
	case name == "action":
		m.hasMain = m.hasMain || get(attrName).text == "android.intent.action.MAIN"
	case name == "category":
		m.hasHome = m.hasHome || get(attrName).text == "android.intent.category.LAUNCHER"
	}
}

func (m *manifest) end() {
	if len(m.path) == 0 {
		return
	}
	if m.path[len(m.path)-1] == "intent-filter" && m.hasMain && m.hasHome && m.launcher == "" {
		m.launcher = m.activity
	}
	m.path = m.path[:len(m.path)-1]
}
