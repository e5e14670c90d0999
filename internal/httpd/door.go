package httpd

// /webdriver: the remote end that any W3C WebDriver client talks to.

import (
	"errors"
	"net/http"
	"strings"

	"github.com/labstack/echo/v5"

	"tessellant/internal/core/w3c"
	"tessellant/internal/remoteend"
	"tessellant/internal/service"
)

// Door is where the W3C WebDriver remote end lies.
const Door = "/webdriver"

// webdriver answers what comes through the door.
func webdriver(s *service.Service) echo.HandlerFunc {
	return func(c *echo.Context) error {
		r, w := c.Request(), c.Response()
		path := strings.TrimPrefix(r.URL.EscapedPath(), Door)
		rc := http.NewResponseController(w)
		body, werr := remoteend.ReadBody(&patientBody{r.Body, rc})
		if werr != nil {
			w.Header().Set("Connection", "close") // what is left of it is not read
			remoteend.Answer(werr).Write(w)
			return nil
		}
		switch {
		case path == "/status" && r.Method == http.MethodGet:
			ready := s.Ready(r.Context()) == nil
			remoteend.Status(ready, map[bool]string{true: "sessions can be opened; whether they wait depends on the devices", false: "the database does not answer"}[ready]).Write(w)
			return nil
		case path == "/session" && r.Method == http.MethodPost:
			openSession(s, w, r, body)
			return nil
		}
		workspace := ""
		if key := keyOf(r); key != "" {
			var err error
			if workspace, err = s.Holder(r.Context(), key); err != nil {
				refuse(w, w3c.InvalidSessionID, err)
				return nil
			}
		}
		s.Command(r.Context(), workspace, remoteend.Request{Method: r.Method, Path: path, Body: body}).Write(w)
		return nil
	}
}

// openSession opens a session for who shows a key: as a bearer's token, as the password of basic
// authentication, or as a capability.
func openSession(s *service.Service, w http.ResponseWriter, r *http.Request, body []byte) {
	key := keyOf(r)
	if key == "" {
		key = remoteend.KeyIn(body)
	}
	who, err := s.Enter(r.Context(), key)
	if err != nil {
		refuse(w, w3c.SessionNotCreated, err)
		return
	}
	s.OpenSession(r.Context(), who, body).Write(w)
}

// refuse says why a key will not do. The status asks for one, as clients that know of basic authentication expect.
func refuse(w http.ResponseWriter, code w3c.Code, err error) {
	var no *service.Error
	if !errors.As(err, &no) {
		remoteend.Answer(w3c.Fail(w3c.UnknownError, "the key can't be looked at now; try again in a while")).Write(w)
		return
	}
	out := remoteend.Answer(w3c.Fail(code, "%v", no))
	out.Status = http.StatusUnauthorized
	w.Header().Set("WWW-Authenticate", `Basic realm="Tessellant: any name, and a key as the password"`)
	out.Write(w)
}

func keyOf(r *http.Request) string {
	if _, password, ok := r.BasicAuth(); ok {
		return password
	}
	key, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	return strings.TrimSpace(key)
}
