// Package serve is the commands that run for long, or beside the service: serve, host --join, restore, lab try.
package serve

import (
	"github.com/spf13/cobra"

	"tessellant/internal/cli"
)

// Add adds them to the client's commands.
func Add(a *cli.App, root *cobra.Command) {
	root.AddCommand(serveCmd(a), restoreCmd(a))
	for _, c := range root.Commands() {
		switch c.Name() {
		case "host":
			hostCmd(a, c)
		case "lab":
			labTryCmd(a, c)
		}
	}
}
