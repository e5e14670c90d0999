// Tessellant fans a test package out over many devices and says what broke and
// where.
package main

import (
	"os"

	"tessellant/internal/cli"
	"tessellant/internal/sandbox"
	"tessellant/internal/script"
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
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr))
}
