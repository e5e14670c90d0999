package devices

import "time"

// SilentAfter is how long a host may say nothing of a device before the device counts as away.
const SilentAfter = 20 * time.Second

// The states of a device, as its host tells them.
const (
	Ready    = "ready"
	Away     = "away"
	Unusable = "unusable"
)

// Known is what is known of a device at a moment.
type Known struct {
	State, Why    string        // as its host said last
	Silent        time.Duration // since its host spoke of it
	Held          bool          // somebody has it
	Quarantined   bool
	QuarantineWhy string
}

// Standing is how a device stands: the one place that decides who may count on it.
type Standing struct {
	State string // ready, away or unusable; one that was ready is away when its host is silent
	Why   string // of one that is away, unusable or quarantined
	// Usable says that work can be planned on it; Free, that it can be given some now.
	Usable, Free bool
	// Name is how it stands in a word: free, held, quarantined, away or unusable.
	Name string
	// Unusable is why it can't be planned on.
	Unusable string
}

// Standing judges it.
func (k Known) Standing() Standing {
	s := Standing{State: k.State, Why: k.Why}
	if s.State == Ready && k.Silent >= SilentAfter {
		s.State, s.Why = Away, "its host has gone silent: see whether it runs"
	}
	s.Usable = s.State == Ready && !k.Quarantined
	s.Free = s.Usable && !k.Held
	switch {
	case s.State != Ready:
		s.Name, s.Unusable = s.State, s.Why
	case k.Held:
		s.Name = "held"
	case k.Quarantined:
		s.Name, s.Why = "quarantined", k.QuarantineWhy
	default:
		s.Name = "free"
	}
	if s.State == Ready && k.Quarantined {
		s.Unusable = "it is in quarantine: " + k.QuarantineWhy
	}
	return s
}
