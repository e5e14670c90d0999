package devices

// Lab is how a lab of a host stands, as the host tells it.
type Lab struct {
	Name        string              `json:"name"`
	Kind        string              `json:"kind"`
	Place       string              `json:"place,omitempty"`
	Address     string              `json:"address,omitempty"` // of one that is elsewhere
	Devices     int                 `json:"devices"`
	AtOnce      int                 `json:"at_once,omitempty"`      // sessions that may be open at a time; 0: one for each device
	Open        int                 `json:"open,omitempty"`         // that are
	Waiting     int                 `json:"waiting,omitempty"`      // of all who use it, as it says
	Out         string              `json:"out,omitempty"`          // why it can't be used; "": it can
	DayLimit    int                 `json:"day_limit,omitempty"`    // minutes of sessions a day; 0: no limit
	UsedMinutes int                 `json:"used_minutes,omitempty"` // of today
	StartMS     int                 `json:"start_ms,omitempty"`     // how long its devices take to start; 0: they are there
	Lacks       map[string][]string `json:"lacks,omitempty"`        // by platform: what of a device it does not give
}

// Loan is a device that its lab lent for an attempt.
type Loan struct {
	Lab     string  `json:"lab"`
	Session string  `json:"session"`           // the lab's own reference
	Page    string  `json:"page,omitempty"`    // address of the lab's page about it
	Seconds float64 `json:"seconds,omitempty"` // for which it was lent; 0: it is, or nobody could say
}
