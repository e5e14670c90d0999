package appfile

// A provisioning profile: a property list inside of a message of CMS (RFC 5652), which is taken apart by a strict walk over DER: nothing else of the message is
// looked at, and whose signature it is says the device.

import (
	"encoding/asn1"
	"errors"
	"time"

	"tessellant/internal/core/foreign"
)

type profile struct {
	Name         string       `plist:"Name"`
	TeamName     string       `plist:"TeamName"`
	Expires      time.Time    `plist:"ExpirationDate"`
	Devices      []string     `plist:"ProvisionedDevices"`
	All          bool         `plist:"ProvisionsAllDevices"`
	Entitlements entitlements `plist:"Entitlements"`
}

// entitlements are some that tests mind.
type entitlements struct {
	Debug  bool     `plist:"get-task-allow"`
	Push   string   `plist:"aps-environment"`
	Groups []string `plist:"com.apple.security.application-groups"`
	Links  []string `plist:"com.apple.developer.associated-domains"`
	Health bool     `plist:"com.apple.developer.healthkit"`
	NFC    []string `plist:"com.apple.developer.nfc.readersession.formats"`
	Chain  []string `plist:"keychain-access-groups"`
}

func (e entitlements) names() (out []string) {
	for _, x := range []struct {
		has  bool
		name string
	}{{e.Debug, "get-task-allow"}, {e.Push != "", "aps-environment"}, {len(e.Groups) > 0, "com.apple.security.application-groups"}, {len(e.Links) > 0, "com.apple.developer.associated-domains"},
		{e.Health, "com.apple.developer.healthkit"}, {len(e.NFC) > 0, "com.apple.developer.nfc.readersession.formats"}, {len(e.Chain) > 0, "keychain-access-groups"}} {
		if x.has {
			out = append(out, x.name)
		}
	}
	return out
}

func readProfile(raw []byte) (*Profile, error) {
	content, err := content(raw)
	if err != nil {
		return nil, err
	}
	var p profile
	if err := property(content, &p); err != nil {
		return nil, err
	}
	out := &Profile{Name: foreign.Name(p.Name, 200), Team: foreign.Name(p.TeamName, 200), Expires: p.Expires.UTC().Truncate(time.Second), Entitlements: p.Entitlements.names()}
	for _, d := range p.Devices[:min(len(p.Devices), maxUDIDs)] {
		out.Devices = append(out.Devices, foreign.Name(d, 80))
	}
	switch {
	case p.All:
		out.Kind = Enterprise
	case p.Devices == nil:
		out.Kind = Store
	case p.Entitlements.Debug:
		out.Kind = Development
	default:
		out.Kind = AdHoc
	}
	return out, nil
}

var errCMS = errors.New("it is no signed message")

// fields are the values in a DER sequence, set or explicit tag, at most so many.
func fields(v asn1.RawValue, most int) (out []asn1.RawValue, err error) {
	if !v.IsCompound {
		return nil, errCMS
	}
	for rest := v.Bytes; len(rest) > 0 && len(out) < most; {
		var next asn1.RawValue
		if rest, err = asn1.Unmarshal(rest, &next); err != nil {
			return nil, errCMS
		}
		out = append(out, next)
	}
	return out, nil
}

var signedData = asn1.ObjectIdentifier{1, 2, 840, 113549, 1, 7, 2}

// signed gives the fields of a signed message (RFC 5652, section 5.1: SignedData).
func signedFields(raw []byte) ([]asn1.RawValue, error) {
	var outer asn1.RawValue
	if _, err := asn1.Unmarshal(raw, &outer); err != nil {
		return nil, errCMS
	}
	info, err := fields(outer, 2)
	if err != nil || len(info) < 2 {
		return nil, errCMS
	}
	var kind asn1.ObjectIdentifier
	if _, err := asn1.Unmarshal(info[0].FullBytes, &kind); err != nil || !kind.Equal(signedData) {
		return nil, errCMS
	}
	inner, err := fields(info[1], 1)
	if err != nil || len(inner) < 1 {
		return nil, errCMS
	}
	return fields(inner[0], 8)
}

// content gives what a message has signed.
func content(raw []byte) ([]byte, error) {
	data, err := signedFields(raw)
	if err != nil || len(data) < 3 {
		return nil, errCMS
	}
	encapsulated, err := fields(data[2], 2)
	if err != nil || len(encapsulated) < 2 {
		return nil, errCMS
	}
	octets, err := fields(encapsulated[1], 1)
	if err != nil || len(octets) < 1 || octets[0].Tag != asn1.TagOctetString || octets[0].IsCompound {
		return nil, errCMS
	}
	return octets[0].Bytes, nil
}
