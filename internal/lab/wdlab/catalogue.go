package wdlab

// The lab's list of devices, and whether the lab can be used at all.

import (
	"bytes"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"net"
	"net/http"
	"time"

	"tessellant/internal/core/catalogue"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/labfile"
	"tessellant/internal/phone/wd"
)

// barredFor is how long a lab is left alone that does not know us.
const barredFor = 5 * time.Minute

// take takes a list of devices over.
func (l *Lab) take(list []catalogue.Device) {
	l.known, l.order = make(map[string]catalogue.Device, len(list)), make([]string, 0, len(list))
	for _, d := range list {
		l.known[d.ID] = d
		l.order = append(l.order, d.ID)
	}
	l.listed = time.Now()
}

// refresh asks for the list where it is time. A list that can't be had is asked for again at the usual pace.
func (l *Lab) refresh(ctx context.Context) {
	if l.Lab.Catalogue == nil {
		return
	}
	l.mu.Lock()
	due := time.Now().After(l.barred) && (time.Since(l.listed) >= l.Lab.Every || l.out != "")
	l.mu.Unlock()
	if !due {
		return
	}
	c, err := l.list(ctx)
	if ctx.Err() != nil {
		return
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	if err != nil {
		if denied(err) || l.listed.IsZero() || time.Since(l.listed) > l.Lab.Every+stale {
			l.blame(err)
		} else {
			l.say("the lab " + l.Lab.Name + " does not list its devices at the moment: " + Plain(err))
		}
		l.barred = later(l.barred, time.Now().Add(min(l.Lab.Every, barredFor)))
		return
	}
	l.take(c.Devices)
	l.waiting = c.Waiting
	if l.Lab.AtOnce == 0 {
		l.places.limit(c.AtOnce)
	}
	l.fine()
	if c.Left > 0 {
		l.say(fmt.Sprintf("%d devices of its catalogue were left out", c.Left), "first", c.LeftOut[0])
	}
}

func later(a, b time.Time) time.Time {
	if a.After(b) {
		return a
	}
	return b
}

// Ask asks the lab for its devices now; the error says in plain words why it can't be used.
func (l *Lab) Ask(ctx context.Context) error {
	if l.Lab.Catalogue == nil {
		return nil
	}
	c, err := l.list(ctx)
	if err != nil {
		return errors.New(Plain(err))
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.take(c.Devices)
	return nil
}

// list asks the lab for its devices.
func (l *Lab) list(ctx context.Context) (*catalogue.Catalogue, error) {
	raw, err := l.end.Raw(ctx, l.Lab.Catalogue, labfile.Values{})
	if err != nil {
		return nil, err
	}
	c, err := catalogue.Read(bytes.NewReader(raw))
	if err != nil {
		return nil, fmt.Errorf("its catalogue can't be used: %w", err)
	}
	return c, nil
}

// blame notes, under mu, that the lab can't be used.
func (l *Lab) blame(err error) {
	l.out = "the lab " + l.Lab.Name + " can't be used: " + Plain(err)
	if denied(err) {
		l.barred = time.Now().Add(barredFor)
	}
	l.say(l.out)
}

// fine notes, under mu, that it can.
func (l *Lab) fine() {
	if l.out != "" {
		l.Log.Info("a lab can be used again", "lab", l.Lab.Name)
	}
	l.out, l.said = "", ""
}

// say logs something of the lab, under mu; once, as long as it is the same.
func (l *Lab) say(what string, more ...any) {
	if l.said != what {
		l.said = what
		l.Log.Warn(what, append([]any{"lab", l.Lab.Name}, more...)...)
	}
}

// denied says whether an error means that the lab does not know us.
func denied(err error) bool {
	var said *wd.Answered
	return errors.As(err, &said) && (said.Status == http.StatusUnauthorized || said.Status == http.StatusForbidden)
}

// Plain says in plain words, with the remedy, why a lab could not be asked.
func Plain(err error) string {
	var dns *net.DNSError
	var unknown x509.UnknownAuthorityError
	var name x509.HostnameError
	var invalid x509.CertificateInvalidError
	var handshake *tls.CertificateVerificationError
	var record tls.RecordHeaderError
	switch {
	case denied(err):
		return err.Error() + "; see whether its secrets are right: it is asked again in " + barredFor.String()
	case errors.As(err, &dns):
		return fmt.Sprintf("its name %s can't be looked up; see whether the address in the lab file is right, and the network of the host", dns.Name)
	case errors.As(err, &unknown):
		return "its certificate is of an authority that this machine does not know; name a file with that authority's certificate with trust: in the lab file"
	case errors.As(err, &name):
		return "its certificate is for another name: " + name.Error() + "; write the address as the certificate has it"
	case errors.As(err, &invalid), errors.As(err, &handshake):
		return "its certificate is not good: " + err.Error() + "; the lab has to renew it, or the clock of this machine is wrong"
	case errors.As(err, &record), errors.Is(err, http.ErrSchemeMismatch):
		return "it does not speak TLS there; write http:// in its address, if that is meant"
	case errors.Is(err, context.DeadlineExceeded):
		return "it does not answer in time; see whether it is up"
	}
	var op *net.OpError
	if errors.As(err, &op) {
		return "it can't be reached: " + op.Error() + "; see whether it is up, and the network of the host"
	}
	return err.Error()
}

// stale is by how much a list may be older than it should be before the lab is taken for out of use: it may be asked at a bad moment.
const stale = devices.SilentAfter
