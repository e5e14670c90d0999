package script

// What goes between the two processes, one JSON line each.

// job is what the child gets first.
type job struct {
	Scripts  map[string]string `json:"scripts"`
	File     string            `json:"file"`
	Func     string            `json:"func"`
	Before   bool              `json:"before"` // the file defines before_case
	After    bool              `json:"after"`  // the file defines after_case
	Row      map[string]any    `json:"row,omitempty"`
	Inputs   map[string]string `json:"inputs"`
	Prepared any               `json:"prepared"` // what before_file returned
	Facts    map[string]any    `json:"facts"`
	Steps    uint64            `json:"steps"`
	Memory   uint64            `json:"memory"` // bytes
	CPU      uint64            `json:"cpu"`    // seconds of processor time
}

// Call is something a script asks for.
type Call struct {
	Word string         `json:"word"` // tap, find, check, step, log…
	Args map[string]any `json:"args"`
	Line string         `json:"line"` // file:line of the script
}

// fromChild is a call, or how the case ended.
type fromChild struct {
	Call *Call   `json:"call,omitempty"`
	End  *ending `json:"end,omitempty"`
}

type ending struct {
	Error string `json:"error,omitempty"` // empty: the case came to its end
	Line  string `json:"line,omitempty"`
	Trace string `json:"trace,omitempty"`
	Kind  string `json:"kind,omitempty"` // "steps": too many; "load": the file can't be run; "skip": skip(…) was called
	In    string `json:"in,omitempty"`   // the function around the case that failed: before_case or after_case
	// Expected is the reason of expect_failure, where that was called.
	Expected string `json:"expected,omitempty"`
	Value    any    `json:"value,omitempty"` // what the function returned
}

// reply answers a call.
type reply struct {
	Value any    `json:"value"`
	Error string `json:"error,omitempty"`
	Stood int64  `json:"stood,omitempty"` // ms that people have had the case stand still, in all
}

const maxLine = 4 << 20 // bytes; a data file of 512 KB may be six times as long in JSON
