// Tessellantd is the half of Tessellant that runs for long: the service, hosts, the demo. tessellant starts it.
package main

import (
	"os"

	"tessellant/internal/cli"
	"tessellant/internal/demo"
	"tessellant/internal/doctor"
	"tessellant/internal/sandbox"
	"tessellant/internal/script"
	"tessellant/internal/serve"
)

func main() {
	if len(os.Args) == 2 && os.Args[1] == sandbox.ChildArg {
		sandbox.Child()
		return
	}
	if len(os.Args) == 2 && os.Args[1] == script.ChildArg {
		script.Child()
		return
	}
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr, serve.Add, doctor.Add, demo.Add))
}
