package fleet

// Devices as people see them: listed, quarantined, released, freed.

import (
	"context"
	"errors"
	"strings"
	"time"

	"tessellant/internal/core/access"
	"tessellant/internal/core/devices"
	"tessellant/internal/core/labels"
	"tessellant/internal/core/verdict"
	"tessellant/internal/service/orders"
	"tessellant/internal/service/refuse"
	"tessellant/internal/store"
)

// Devices lists devices by serial; where holds patterns over their traits.
func (s *Fleet) Devices(ctx context.Context, who store.Identity, where []string, after string, limit int) (items []store.Device, next string, err error) {
	filter, err := devices.ParseFilter(where, nil)
	if err != nil {
		return nil, "", refuse.New(refuse.Invalid, "list devices", "", "%v", err)
	}
	if err := s.Pools.LookUp(ctx, who, filter); err != nil {
		return nil, "", err
	}
	for {
		rows, err := s.Store.Devices(ctx, after, 200)
		if err != nil {
			return nil, "", err
		}
		for _, d := range rows {
			after = d.Serial
			if !filter.Match(d.Facts.V) {
				continue
			}
			if len(items) == limit {
				return items, items[limit-1].Serial, nil
			}
			items = append(items, d)
		}
		if len(rows) < 200 {
			return items, "", nil
		}
	}
}

// DeviceLoad is what a device has to do.
type DeviceLoad struct {
	store.Load
	Serial string
}

// Loads says what devices have to do, by serial; those that have nothing are not in it.
func (s *Fleet) Loads(ctx context.Context) (out []DeviceLoad, err error) {
	loads, err := s.Store.Loads(ctx)
	if err != nil || len(loads) == 0 {
		return nil, err
	}
	all, err := s.Store.Devices(ctx, "", 0)
	for _, d := range all {
		if l, ok := loads[d.ID]; ok {
			out = append(out, DeviceLoad{l, d.Serial})
		}
	}
	return out, err
}

// DeviceView is a device, and the hold on it where it is this workspace's.
type DeviceView struct {
	store.Device
	Hold   *store.Hold
	ByHand bool // a person has it
	Until  time.Time
}

// Device finds a device by its serial.
func (s *Fleet) Device(ctx context.Context, who store.Identity, serial string) (v DeviceView, err error) {
	if v.Device, err = s.Store.DeviceBySerial(ctx, serial); err != nil {
		return v, refuse.Missing(err, "device", serial, "see the devices with: tessellant device list")
	}
	h, err := s.Store.HoldOfDevice(ctx, v.ID)
	switch {
	case errors.Is(err, store.ErrNotFound):
	case err != nil:
		return v, err
	case h.WorkspaceID == who.WorkspaceID:
		v.Hold, v.Until = &h, h.Expires
		if h.RunID == "" {
			x, err := s.Store.SessionByID(ctx, h.WorkspaceID, h.WorkID)
			if err != nil {
				return v, err
			}
			if v.ByHand = x.ByHand; x.HeldUntil.Valid {
				v.Until = x.HeldUntil.Time
			}
		}
	}
	return v, nil
}

// QuarantineDevice keeps a device from getting work until a person releases it. Work in hand goes on.
func (s *Fleet) QuarantineDevice(ctx context.Context, who store.Identity, serial, why string) (DeviceView, error) {
	d, err := s.Device(ctx, who, serial)
	if err != nil {
		return d, err
	}
	if why = strings.TrimSpace(why); why == "" || len(why) > 500 {
		return d, refuse.New(refuse.Invalid, "quarantine the device", "describe the problem in up to 500 characters; others will read it", "the reason is missing or too long")
	}
	if err := s.Store.Quarantine(ctx, d.ID, "hand", why); err != nil {
		return d, err
	}
	s.Log.Info("a device is in quarantine", "device", serial, "why", why)
	s.Feed.DevicesChanged()
	return s.Device(ctx, who, serial)
}

// LabelDevice gives a device labels, and takes some away. All workspaces see them.
func (s *Fleet) LabelDevice(ctx context.Context, who store.Identity, serial string, set map[string]string, remove []string) (DeviceView, error) {
	d, err := s.Device(ctx, who, serial)
	if err != nil {
		return d, err
	}
	now, err := labels.Changed(d.Facts.V.Labels, set, remove)
	if err != nil {
		return d, refuse.Labels(err)
	}
	if err := s.Store.SetDeviceLabels(ctx, d.ID, now); err != nil {
		return d, err
	}
	s.Feed.DevicesChanged()
	return s.Device(ctx, who, serial)
}

// ReleaseDevice lets a device in quarantine have work again.
func (s *Fleet) ReleaseDevice(ctx context.Context, who store.Identity, serial string) (DeviceView, error) {
	d, err := s.Device(ctx, who, serial)
	if err != nil {
		return d, err
	}
	ok, err := s.Store.Release(ctx, d.ID, "hand", 0)
	if err != nil {
		return d, err
	}
	if !ok {
		return d, refuse.New(refuse.Refused, "release the device", "see its state with: tessellant device show "+serial, "it is not in quarantine")
	}
	s.Log.Info("a device is out of quarantine: released by hand", "device", serial)
	s.Feed.DevicesChanged()
	s.Orders.Dispatch()
	return s.Device(ctx, who, serial)
}

// FreeDevice ends the work of this workspace on a device, for operators anybody's, whatever its state: the leg, or the session, is stopped at once, and its host
// hears of it when it next renews its hold. What had been handed in is kept.
func (s *Fleet) FreeDevice(ctx context.Context, who store.Identity, serial string) (DeviceView, error) {
	const title = "free the device"
	d, err := s.Device(ctx, who, serial)
	if err != nil {
		return d, err
	}
	h, err := s.Store.HoldOfDevice(ctx, d.ID)
	if errors.Is(err, store.ErrNotFound) {
		return d, refuse.New(refuse.Refused, title, "see its state with: tessellant device show "+serial, "nothing is running on it")
	}
	if err != nil {
		return d, err
	}
	if h.WorkspaceID != who.WorkspaceID && !access.May(who.Role, access.Devices) {
		return d, refuse.New(refuse.Forbidden, title, "ask someone in that workspace, or an operator", "it is running work of another workspace")
	}
	if err := s.Evidence.Assemble(ctx, h); err != nil {
		orders.Log(s.Log, h).Warn("what was handed in of an attempt could not be put together", "err", err)
	}
	if err := s.Dispatcher.CloseHold(ctx, h, store.Closing{Verdict: verdict.Stopped, Message: "a person freed its device", How: "stopped"}); err != nil {
		return d, err
	}
	s.Log.Info("a device was freed by hand", "device", serial, string(h.Kind), h.WorkID)
	if name, err := s.Store.HostName(ctx, h.HostID); err == nil {
		s.Orders.Wake(name)
	}
	return s.Device(ctx, who, serial)
}
