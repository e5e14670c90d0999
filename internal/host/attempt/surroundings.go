package attempt

// How the network is, beside how the device is set: conditions of the network are the host's to keep, all others the device's.

import (
	"context"
	"errors"
	"fmt"
	"maps"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/netprofile"
	"tessellant/internal/core/recording"
	"tessellant/internal/host/record"
	"tessellant/internal/phone"
)

// openNetwork leads the device's apps through a proxy, where the network is to be seen or to be shaped. Where that can't be, the recording is not whole; a condition
// of the network is refused then.
func (a *attempt) openNetwork(ctx context.Context) error {
	spec := a.hold.Spec
	keeps := spec.Recording.Keeps(recording.Network, recording.On)
	_, shaped := spec.Conditions[conditions.Network]
	if !keeps && !shaped {
		return nil
	}
	err := a.network(ctx, keeps)
	var refused *phone.Refused
	if errors.As(err, &refused) {
		if keeps {
			a.broke(recording.Network, err)
		}
		if shaped {
			return err
		}
		return nil
	}
	return err
}

var errNotLed = &phone.Refused{Doing: "lead its apps through a proxy", Why: "this device does not let us", Remedy: "leave the network log, the network's conditions and routes out, or use another device"}

func (a *attempt) network(ctx context.Context, keeps bool) error {
	p := a.unit.Proxied
	if p == nil || a.b.Outlet == nil {
		return errNotLed
	}
	q := record.NetworkOptions{App: a.hold.Spec.App.ID, Routes: a.kit.Routes}
	if keeps {
		q.Dir = a.dir
	}
	if authority := a.b.Outlet.Authority; authority != nil && keeps {
		trusts, err := p.Trusts(ctx, authority.Certificate)
		if err != nil {
			return err
		}
		q.Opens = trusts || a.hold.Spec.Recording.Keeps(recording.Network, recording.Contents)
	}
	n, err := a.lead(ctx, q)
	if err != nil {
		return err
	}
	a.kit.Network = n
	around := &surroundings{inner: a.kit.Phone.Conditioner, Settings: a.kit.Phone.Settings, network: n}
	a.kit.Phone.Conditioner = around
	if around.Settings != nil {
		a.kit.Phone.Settings = around
	}
	return nil
}

// lead leads the device's apps through a proxy.
func (a *attempt) lead(ctx context.Context, q record.NetworkOptions) (*record.Network, error) {
	n, port, err := record.NewNetwork(q, a.b.Outlet, a.timeline, a.mask, a.room)
	if err != nil {
		return nil, err
	}
	if err := a.unit.Proxied.Proxy(ctx, port); err != nil {
		return nil, errors.Join(err, n.Close())
	}
	a.record = append(a.record, n)
	return n, nil
}

// leadLate leads the device's apps through a proxy while the runner runs, where they are not led through one yet. Begin has it serve.
func (a *attempt) leadLate(ctx context.Context, begin func(record.Recorder)) error {
	a.late.Lock()
	defer a.late.Unlock()
	if a.kit.Network != nil || a.lateNet {
		return nil
	}
	if a.unit.Proxied == nil || a.b.Outlet == nil {
		return errNotLed
	}
	n, err := a.lead(ctx, record.NetworkOptions{App: a.hold.Spec.App.ID, Routes: a.kit.Routes})
	if err == nil {
		a.lateNet = true
		begin(n)
	}
	return err
}

// surroundings sets the network and the device together.
type surroundings struct {
	phone.Settings
	inner   phone.Conditioner
	network *record.Network
}

// Condition implements phone.Conditioner.
func (s *surroundings) Condition(ctx context.Context, app string, set conditions.Set, whole bool) error {
	rest := maps.Clone(set)
	name, given := rest[conditions.Network]
	delete(rest, conditions.Network)
	if len(rest) > 0 {
		if s.inner == nil {
			return fmt.Errorf("the device can't be set to %s: its lab does not let us change how it is set", rest)
		}
		if err := s.inner.Condition(ctx, app, rest, whole); err != nil {
			return err
		}
	}
	if !given {
		if !cutOff(rest) {
			return nil
		}
		name = "offline" // the way over the cable would stay open
	}
	p, err := netprofile.Parse(name)
	if err != nil {
		return err
	}
	s.network.Shape(p, whole)
	return nil
}

// cutOff says whether a device that is set so has no network at all.
func cutOff(set conditions.Set) bool {
	return set[conditions.AirplaneMode] == conditions.On || set[conditions.WiFi] == conditions.Off && set[conditions.MobileData] == conditions.Off
}

// Restore implements phone.Settings.
func (s *surroundings) Restore(ctx context.Context) error {
	s.network.Restore()
	return s.Settings.Restore(ctx)
}
