// Tessellant fans a test package out over many devices and says what broke and
// where.
package main

import (
	"fmt"
	"os"

	"tessellant/internal/cli"
	"tessellant/internal/core/verdict"
)

func main() {
	if cli.ForDaemon(os.Args[1:]) {
		fmt.Fprintln(os.Stderr, cli.BecomeDaemon(os.Args[1:])) // it only comes back when it could not
		os.Exit(verdict.ExitUnreachable)
	}
	os.Exit(cli.Main(os.Args[1:], os.Stdout, os.Stderr, cli.AddStubs))
}
