package fleet

// What is asked of a host itself: checks of devices, and pairing with phones over the network.

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"

	"rsc.io/qr"

	"tessellant/internal/checkup"
	"tessellant/internal/core/devices"
	"tessellant/internal/hostlink"
	"tessellant/internal/remoteend"
	"tessellant/internal/service/orders"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// askHost puts a question to a host's desk. Title says what for, in errors.
func (s *Fleet) askHost(ctx context.Context, name, title string, q remoteend.Request, answer any) error {
	err := s.Orders.Ask(ctx, name, "", title, q, answer)
	if errors.Is(err, orders.ErrGone) { // it is just being started
		return refuse.New(refuse.Unavailable, title, "try again in a moment", "the host %s is not ready", name)
	}
	return err
}

// StartDeviceCheck begins a check of a device, unless one goes on.
func (s *Fleet) StartDeviceCheck(ctx context.Context, who store.Identity, serial string) (r checkup.Report, err error) {
	return s.deviceCheck(ctx, who, serial, "check the device", http.MethodPost)
}

// DeviceCheck says how the newest check of a device stands.
func (s *Fleet) DeviceCheck(ctx context.Context, who store.Identity, serial string) (r checkup.Report, err error) {
	return s.deviceCheck(ctx, who, serial, "find the check", http.MethodGet)
}

func (s *Fleet) deviceCheck(ctx context.Context, who store.Identity, serial, title, method string) (r checkup.Report, err error) {
	d, err := s.Device(ctx, who, serial)
	if err != nil {
		return r, err
	}
	if method == http.MethodPost && d.Standing().State == devices.Away {
		return r, refuse.New(refuse.Refused, title, "connect it again", "it is away: %s", d.Standing().Why)
	}
	return r, s.askHost(ctx, d.Host, title, remoteend.Request{Method: method, Path: "/checks/" + d.Lab + "/" + d.Unit}, &r)
}

// PairingView is a pairing with the picture that the phone scans.
type PairingView struct {
	hostlink.Pairing
	Host    string
	Picture []string // rows of 0 and 1; none: it is by code
}

// Pair begins to pair a host with a phone: by its address and code, or by a picture.
func (s *Fleet) Pair(ctx context.Context, name, address, code string) (PairingView, error) {
	const title = "pair with a phone"
	body, err := json.Marshal(hostlink.PairRequest{Address: address, Code: code})
	if err != nil {
		return PairingView{}, err
	}
	return s.pairing(ctx, name, title, remoteend.Request{Method: http.MethodPost, Path: "/pairings", Body: body})
}

// Pairing says how a pairing stands.
func (s *Fleet) Pairing(ctx context.Context, name, id string) (PairingView, error) {
	return s.pairing(ctx, name, "find the pairing", remoteend.Request{Method: http.MethodGet, Path: "/pairings/" + id})
}

func (s *Fleet) pairing(ctx context.Context, name, title string, q remoteend.Request) (v PairingView, err error) {
	hosts, err := s.Hosts.ListHosts(ctx)
	if err != nil {
		return v, err
	}
	known := false
	for _, h := range hosts {
		known = known || h.Name == name
	}
	if !known {
		return v, refuse.New(refuse.NotFound, title, "see the hosts with: tessellant host list", "there is no host %s", name)
	}
	v.Host = name
	if err := s.askHost(ctx, name, title, q, &v.Pairing); err != nil || v.Payload == "" {
		return v, err
	}
	v.Picture, err = picture(v.Payload)
	return v, err
}

// picture draws a text as a QR code (ISO/IEC 18004), with the quiet zone of four modules that the standard asks for.
func picture(text string) ([]string, error) {
	code, err := qr.Encode(text, qr.M)
	if err != nil {
		return nil, err
	}
	const quiet = 4
	rows := make([]string, 0, code.Size+2*quiet)
	for y := -quiet; y < code.Size+quiet; y++ {
		row := make([]byte, 0, code.Size+2*quiet)
		for x := -quiet; x < code.Size+quiet; x++ {
			row = append(row, map[bool]byte{true: '1', false: '0'}[code.Black(x, y)])
		}
		rows = append(rows, string(row))
	}
	return rows, nil
}
