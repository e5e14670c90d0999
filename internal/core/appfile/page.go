package appfile

// A page in place of an app: a web address under a name, as a Web Application Manifest (W3C, sections 1.2 to 1.12: name, start_url; members that are not the
// manifest's are allowed, so the version stands in one). The file is what is kept and fetched, like any build's.

import (
	"encoding/json"
	"io"
	"net/netip"
	"net/url"
	"strings"

	"tessellant/internal/core/foreign"
)

// WebPlatform is the platform of pages, and of browsers.
const WebPlatform = "web"

// Page is a page in place of a build.
type Page struct {
	Name    string `json:"name"`
	Version string `json:"version"`
	Address string `json:"start_url"`
}

const (
	maxPage    = 64 << 10 // bytes of the file
	maxAddress = 2000
	maxName    = 100
)

// JSON is the file of the page.
func (p Page) JSON() []byte {
	raw, err := json.Marshal(p)
	if err != nil {
		panic(err) // three texts
	}
	return raw
}

// IsAddress says whether a text is meant as a page's address, not as a file.
func IsAddress(text string) bool {
	lower := strings.ToLower(text)
	return strings.HasPrefix(lower, "https://") || strings.HasPrefix(lower, "http://")
}

// Check says why the page can't be used.
func (p Page) Check() error {
	const remedy = "give the whole address, such as https://tides.example/now"
	u, err := url.Parse(p.Address)
	switch {
	case len(p.Address) > maxAddress:
		return refuse(remedy, "the page's address has %d bytes; %d is the most", len(p.Address), maxAddress)
	case err != nil || !IsAddress(p.Address) || u.Hostname() == "":
		return refuse(remedy, "%.100q is not the address of a page", p.Address)
	case u.User != nil:
		return refuse("leave them out, and give them to the tests as secret inputs", "the page's address has a user or a password in it")
	case strings.ContainsFunc(p.Address, func(r rune) bool { return r <= ' ' || r == 0x7f }):
		return refuse(remedy, "the page's address has a blank or a control character in it")
	case strings.TrimSpace(p.Name) == "" || len(p.Name) > maxName:
		return refuse("give it a name of 1 to 100 bytes", "the page has no name that can be used")
	case p.Version == "" || len(p.Version) > maxVersion:
		return refuse("give it a version, such as the number of what was deployed", "the page has no version, so two states of it can't be told apart")
	}
	return nil
}

// readPage reads the file of a page.
func readPage(r io.ReaderAt, size int64) (*Page, error) {
	if size > maxPage {
		return nil, refuse("upload the APK or the IPA that your build made", "it begins as JSON does, and has more than the %d kB of a page's file", maxPage>>10)
	}
	raw := make([]byte, size)
	if _, err := r.ReadAt(raw, 0); err != nil && err != io.EOF {
		return nil, err
	}
	p := &Page{}
	if err := json.Unmarshal(raw, p); err != nil {
		return nil, refuse("write name, version and start_url (Web Application Manifest)", "it begins as a page's file does, and is not such a JSON: %v", clip(err.Error()))
	}
	p.Name, p.Version = foreign.Name(p.Name, maxName+1), foreign.Name(p.Version, maxVersion+1)
	if err := p.Check(); err != nil {
		return nil, err
	}
	return p, nil
}

// facts are the page's, as builds have them. Its app is known by the server it comes from.
func (p *Page) facts() Facts {
	u, _ := url.Parse(p.Address) // it was checked
	f := Facts{Platform: WebPlatform, AppID: u.Host, Label: p.Name, VersionName: p.Version, Page: p.Address, Permissions: []string{}, ABIs: []string{}}
	if len(f.AppID) > maxAppID {
		f.AppID = f.AppID[:maxAppID]
	}
	if u.Scheme == "http" && !local(u.Hostname()) {
		f.Findings = append(f.Findings, Finding{"warns", "it is fetched over plain HTTP: browsers keep location, camera and other things from such pages", "serve it over HTTPS"})
	}
	return f
}

// local says whether a host is this machine by its name.
func local(host string) bool {
	ip, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && ip.IsLoopback()
}
