package hostlink

// What hosts of protocol 1 understand, and what they left in their folders.

import (
	"encoding/json"
	"time"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/work"
)

// AnswerBefore is an Answer for a host of protocol 1.
type AnswerBefore struct {
	Problem string       `json:",omitempty"`
	Kind    string       `json:",omitempty"`
	Names   []string     `json:",omitempty"`
	Holds   []HoldBefore `json:",omitempty"`
}

// Before is the answer for a host of protocol 1. Told gives what is answered to a session's client besides what it asked for.
func (a Answer) Before(told func(Hold) map[string]any) AnswerBefore {
	out := AnswerBefore{Problem: a.Problem, Kind: a.Kind, Names: a.Names}
	for _, h := range a.Holds {
		out.Holds = append(out.Holds, h.before(told))
	}
	return out
}

// HoldBefore is a Hold as protocol 1 had it.
type HoldBefore struct {
	ID, RunID, LegID, AttemptID, WorkspaceID string
	Epoch                                    int
	Serial                                   string
	AppID, Activity                          string
	BuildSize                                int64
	BuildSHA, PackageSHA                     string
	LimitSeconds                             int
	Cases                                    []string
	Confirm                                  int
	Inputs                                   map[string]string
	Secrets                                  []string
	Stop                                     bool
	Begun                                    bool
	Session                                  *SessionBefore `json:",omitempty"`
	Program                                  bool           `json:",omitempty"`
	Network                                  bool           `json:",omitempty"`
	Build, Package                           string         `json:",omitempty"`
	Besides                                  []string       `json:",omitempty"`
}

// SessionBefore is what a session wanted of a host of protocol 1.
type SessionBefore struct {
	Limit, Idle  time.Duration
	Video, Log   bool
	Landscape    *bool
	Dark         *bool
	Capabilities map[string]any
	Answer       map[string]any
}

func (h Hold) before(told func(Hold) map[string]any) HoldBefore {
	s := h.Spec
	out := HoldBefore{ID: h.ID, RunID: h.RunID, LegID: h.WorkID, AttemptID: h.AttemptID, WorkspaceID: h.WorkspaceID, Epoch: h.Epoch, Serial: h.Serial,
		AppID: s.App.ID, Activity: s.App.Activity, BuildSize: s.App.Size, BuildSHA: s.App.SHA256, PackageSHA: s.Content.SHA256, LimitSeconds: int(s.Limits.Whole),
		Cases: s.Cases, Confirm: s.Limits.Confirm, Inputs: h.Inputs(), Stop: h.Stop, Begun: h.Begun, Program: s.Content.Kind == work.Programs, Network: h.Network,
		Build: s.App.Ref, Package: s.Content.Ref, Besides: h.Besides}
	for _, secret := range h.Secrets {
		out.Secrets = append(out.Secrets, secret)
	}
	if s.Content.Kind == work.Commands || s.Content.Kind == work.Hands {
		is := func(name, value string) *bool {
			v, said := s.Conditions[name]
			if !said {
				return nil
			}
			b := v == value
			return &b
		}
		out.Session = &SessionBefore{Limit: s.Limits.Whole.Duration(), Idle: s.Limits.Idle.Duration(), Video: s.Recording.Video, Log: s.Recording.Log,
			Landscape: is(conditions.Orientation, "landscape"), Dark: is(conditions.Dark, conditions.On), Capabilities: s.Content.Capabilities, Answer: told(h)}
	}
	return out
}

// ReadHold reads a hold that a host had written into its folder, also one of protocol 1.
func ReadHold(raw []byte) (h Hold, err error) {
	if err = json.Unmarshal(raw, &h); err != nil || h.WorkID != "" {
		return h, err
	}
	var b HoldBefore
	h = Hold{}
	if err = json.Unmarshal(raw, &b); err != nil {
		return h, err
	}
	h = Hold{ID: b.ID, AttemptID: b.AttemptID, WorkspaceID: b.WorkspaceID, WorkID: b.LegID, RunID: b.RunID, Kind: work.Leg, Epoch: b.Epoch, Serial: b.Serial, Besides: b.Besides}
	h.Spec.App = work.App{Ref: b.Build, ID: b.AppID, Activity: b.Activity, Size: b.BuildSize, SHA256: b.BuildSHA}
	h.Spec.Content = work.Content{Kind: work.Scripts, Ref: b.Package, SHA256: b.PackageSHA}
	switch {
	case b.Session != nil:
		h.Kind, h.Spec.Content.Kind = work.Session, work.Commands
	case b.Program:
		h.Spec.Content.Kind = work.Programs
	}
	return h, nil
}
