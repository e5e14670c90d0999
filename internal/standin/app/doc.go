// Package app is the engine that runs an app's behaviour file in place of its
// compiled code, inside a simulated phone.
//
// A behaviour file is Starlark, packed in the app as assets/behaviour.star. It
// defines view(), which returns the screen that the app's state calls for, and
// functions that change that state when something is tapped or typed. The
// engine lays the screen out for the device's own width and density, draws it, and
// does what the device would: a method that this Android lacks ends the process
// with a stack trace, numbers are formatted in the device's language. In: a behaviour file, what
// the device is, taps and keys. Out: nodes with bounds, a picture, log lines.
package app
