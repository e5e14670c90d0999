// Package phone is a simulated Android phone behind the device side of
// adb (standin/adbd), so that the real adb server takes it for a phone.
//
// A phone is data: a row of Traits. It holds state (installed apps, the app in
// front, keyboard, settings, log buffers, files), answers the shell commands
// that a real device answers in the real one's formats, and draws its screen.
// Apps are real APKs; the behaviour file inside is run by standin/app. Its
// temper says how it behaves while it does so: instant, real, stubborn or awkward; its sides are what
// real phones do that a kind one would not, each alone or all at once. It says of itself
// that it is simulated, in the property ro.tessellant.simulated. In: traits.
// Out: a TCP address.
//
// It is one large package because a phone is one thing: each file is a part of Android (pm.go, services.go, screen.go …), and all of them
// share one state under one lock.
//
// The services are those of system/core/adb/SERVICES.TXT and SYNC.TXT in the
// Android Open Source Project.
package phone
