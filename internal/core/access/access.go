// Package access says who may do what: one table of roles and actions.
//
// Every operation of the API, every WebDriver route and every route of hosts names its action; a key has one role. In: a role and an
// action. Out: yes or no, and in words what the action is and who may do it.
package access

import (
	"slices"
	"strings"
)

// Role is what a key lets its holder do.
type Role string

// The roles. An operator's key belongs to a workspace, too, and may do there what its owner may.
const (
	Borrower Role = "borrower" // another installation: uses the devices that the workspace lends
	Viewer   Role = "viewer"   // reads what the workspace has
	Engineer Role = "engineer" // uploads and tests
	Owner    Role = "owner"    // decides on the workspace: its settings and its keys
	Operator Role = "operator" // runs the installation: hosts, devices, workspaces, backups
	Host     Role = "host"     // a process beside devices: no person's key
)

// Given are the roles that a key of a workspace can be made with, the one that may do least first.
var Given = []Role{Borrower, Viewer, Engineer, Owner, Operator}

// Action is what somebody wants to do.
type Action string

// The actions.
const (
	Anyone       Action = "anyone"       // needs no key
	Enter        Action = "enter"        // ask who one is, sign a browser in and out
	See          Action = "see"          // read what the workspace has, and the devices and hosts
	Borrow       Action = "borrow"       // devices that the workspace lends: the list of them, and sessions on them
	Bring        Action = "bring"        // builds
	Upload       Action = "upload"       // packages, and what builds and packages are labelled with
	Test         Action = "test"         // runs, sessions, checks of devices
	Share        Action = "share"        // runs, with people who have no key
	Settings     Action = "settings"     // of the workspace
	Keys         Action = "keys"         // of the workspace
	Devices      Action = "devices"      // quarantine and release them, end whose work there ever is on one
	Installation Action = "installation" // hosts, pairings, workspaces, backups
	Work         Action = "work"         // join as a host, and carry out what it is told
)

// row is one action of the table: what it is in words, and who may.
type row struct {
	action Action
	words  string
	roles  []Role
}

// table says who may do what. Nothing else does.
var table = []row{
	{Enter, "use this workspace", []Role{Borrower, Viewer, Engineer, Owner, Operator}},
	{Borrow, "use the devices that the workspace lends", []Role{Borrower, Engineer, Owner, Operator}},
	{Bring, "upload builds", []Role{Borrower, Engineer, Owner, Operator}},
	{See, "see what the workspace has", []Role{Viewer, Engineer, Owner, Operator}},
	{Upload, "upload packages, and label builds", []Role{Engineer, Owner, Operator}},
	{Test, "start and stop tests, hold devices, and keep references of steps", []Role{Engineer, Owner, Operator}},
	{Share, "share runs with people who have no key", []Role{Engineer, Owner, Operator}},
	{Settings, "change the settings of the workspace", []Role{Owner, Operator}},
	{Keys, "see and change the keys of the workspace", []Role{Owner, Operator}},
	{Devices, "quarantine, release and free devices, which all workspaces share", []Role{Operator}},
	{Installation, "change hosts and workspaces, pair phones, make backups, and say what is lent", []Role{Operator}},
	{Work, "work as a host", []Role{Host}},
}

// Actions lists the actions that need a key, as the table has them.
func Actions() []Action {
	out := make([]Action, 0, len(table))
	for _, r := range table {
		out = append(out, r.action)
	}
	return out
}

func find(a Action) row {
	for _, r := range table {
		if r.action == a {
			return r
		}
	}
	return row{}
}

// Known says whether there is such an action.
func Known(a Action) bool { return a == Anyone || find(a).action == a }

// May says whether a role may do something. What is not in the table nobody may.
func May(r Role, a Action) bool { return a == Anyone || slices.Contains(find(a).roles, r) }

// Allowed lists what a role may do.
func Allowed(r Role) (out []Action) {
	for _, x := range table {
		if slices.Contains(x.roles, r) {
			out = append(out, x.action)
		}
	}
	return out
}

// Words says what an action is, to follow "could not" or "may".
func Words(a Action) string { return find(a).words }

// Who says which roles may do something, for a sentence.
func Who(a Action) string {
	var names []string
	for _, r := range find(a).roles {
		names = append(names, string(r))
	}
	if n := len(names); n > 1 {
		return strings.Join(names[:n-1], ", ") + " or " + names[n-1]
	}
	return strings.Join(names, "")
}

// MayGive says whether somebody of one role may make, or withdraw, a key of another: none that may do more than they.
func MayGive(r, other Role) bool {
	return May(r, Keys) && slices.Contains(Given, other) && slices.Index(Given, other) <= slices.Index(Given, r)
}
