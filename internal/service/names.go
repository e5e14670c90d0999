package service

// The rooms' types by which callers speak to the service.

import (
	"tessellant/internal/service/access"
	"tessellant/internal/service/answers"
	"tessellant/internal/service/bisections"
	"tessellant/internal/service/content"
	"tessellant/internal/service/evidence"
	"tessellant/internal/service/feed"
	"tessellant/internal/service/fleet"
	"tessellant/internal/service/hands"
	"tessellant/internal/service/hosts"
	"tessellant/internal/service/looks"
	"tessellant/internal/service/plans"
	"tessellant/internal/service/pools"
	"tessellant/internal/service/runs"
	"tessellant/internal/service/sessions"
	"tessellant/internal/service/shares"
	"tessellant/internal/service/upkeep"
)

type (
	// Identity is who asks, and in which workspace.
	Identity = access.Identity
	// NewKeyRequest asks for a key.
	NewKeyRequest = access.NewKeyRequest
	// Upload is a file on its way in.
	Upload = content.Upload
	// HoldRequest asks for a device for a person.
	HoldRequest = hands.HoldRequest
	// RunRequest asks for a run.
	RunRequest = plans.Request
	// RunChoice says which runs are wanted.
	RunChoice = runs.RunChoice
	// RunView is a run with how its legs stand.
	RunView = runs.RunView
	// LegView is a leg with its device, and the cases of its last attempt.
	LegView = runs.LegView
	// LegDetail is a leg with all that is known of it.
	LegDetail = runs.LegDetail
	// AttemptDetail is an attempt with its cases and artifacts.
	AttemptDetail = runs.AttemptDetail
	// SessionView is a session with how it stands.
	HeldApp     = hands.HeldApp
	SessionView = sessions.SessionView
	// DeviceView is a device, and the hold on it where it is this workspace's.
	DeviceView = fleet.DeviceView
	// DeviceLoad is what a device has to do.
	DeviceLoad = fleet.DeviceLoad
	// PoolView is a pool and what it takes now.
	PoolView = pools.PoolView
	// Lent is what a workspace lends to other installations.
	Lent = pools.Lent
	// RunAnswer is what a run says.
	RunAnswer = answers.Answer
	// AgainRequest says what of a run is wanted again.
	AgainRequest = runs.AgainRequest
	// Family is failures that are the same fault.
	Family = answers.Family
	// GoneFamily is a family of before that does not show.
	GoneFamily = answers.Gone
	// JoinedSignature was taken into a family.
	JoinedSignature = answers.Joined
	// BuildRef is a build by its names.
	BuildRef = answers.BuildRef
	// ComparedFamily is a family of either of two runs.
	ComparedFamily = answers.ComparedFamily
	// BisectionRequest asks for the first bad build.
	BisectionRequest = bisections.Request
	// Bisection is how far it is found, and what it comes to.
	Bisection = bisections.View
	// ShareRequest asks for a link for people without a key.
	ShareRequest = shares.Request
	// Rate is how often something happened lately.
	Rate = answers.Rate
	// HistoryOf says of which case a history is wanted.
	HistoryOf = answers.HistoryOf
	// FamilyMark is what a person says of a family.
	FamilyMark = answers.MarkRequest
	// Fit is whether a build and a package can run on a device.
	Fit = plans.Fit
	// LabView is a lab and how it stands.
	LabView = hosts.LabView
	// HostView is a host and how it stands.
	HostView = hosts.HostView
	// PairingView is a pairing with the picture that the phone scans.
	PairingView = fleet.PairingView
	// Reach is where the bus is for hosts in other processes.
	Reach = hosts.Reach
	// LogChoice says which rows of a device's log are wanted.
	LogChoice = evidence.LogChoice
	// GaugesChoice says which part of an attempt's gauges is wanted.
	GaugesChoice = evidence.GaugesChoice
	// Pack is a zip that is written while it is sent.
	Pack = evidence.Pack
	// NetworkChoice says which rows of a network log are wanted.
	NetworkChoice = evidence.NetworkChoice
	// NetworkRow is one of them.
	NetworkRow = evidence.NetworkRow
	// LogLine is one line of a log.
	LogLine = evidence.LogLine
	// Change is one thing that changed.
	Change = feed.Change
	// AttemptEvents is what was added to an attempt's timeline.
	AttemptEvents = feed.AttemptEvents
	// AttemptScreen says that there is a newer picture.
	AttemptScreen = feed.AttemptScreen
	// Retention says how long evidence is kept.
	Retention = upkeep.Retention
	// StepName is which step of a run.
	StepName = looks.StepName
	// StepOn is a step on one leg.
	StepOn = looks.StepOn
	// StepStack is legs on which a step looks alike.
	StepStack = looks.StepStack
	// StepLine is a step in the list of all.
	StepLine = looks.StepLine
	// RemarkFamily is remarks that are the same.
	RemarkFamily = looks.RemarkFamily
	// SlowerThing is something that has grown on a device.
	SlowerThing = looks.SlowerThing
	// LegSide says which attempt, and which try of its cases, is compared.
	LegSide = looks.Side
	// LegSideView is that, found.
	LegSideView = looks.SideView
)

// SigninLongest is how long a browser's sign-in lasts in all.
const SigninLongest = access.SigninLongest

// UsualHold is for how long a device is held, unless said.
const UsualHold = hands.UsualHold
