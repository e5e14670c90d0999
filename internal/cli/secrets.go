package cli

// The key that seals secret inputs.

import (
	"fmt"

	"github.com/spf13/cobra"
)

func (a *App) secretsCmd() *cobra.Command {
	rotate := &cobra.Command{Use: "rotate", Short: "Make a new key for secret inputs", Args: Nothing, Example: "  tessellant secrets rotate",
		Long: `Make a new key for the secret inputs of runs, and seal those of running runs with it. For operators.

The service seals secret inputs with a key in its data folder, in secrets.key, or with TESSELLANT_SECRETS_KEY. To change a key in the
environment, put the new key before the old one with a comma between, restart the service, run this command, and remove the old key.`,
		RunE: func(c *cobra.Command, _ []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.RotateSecretsWithResponse(c.Context())
			if err != nil || r.JSON200 == nil {
				return a.Failed("change the key for secrets", err, r)
			}
			return a.Show(r.JSON200, func() {
				fmt.Fprintf(a.Out, "The key %s seals secret inputs now; %d of running runs were sealed anew.\n", r.JSON200.Key, r.JSON200.Secrets)
			})
		}}
	return group("secrets", "Change the key for secret inputs", rotate)
}
