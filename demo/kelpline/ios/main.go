// Command ios builds Kelpline as an IPA. usage: go run ./demo/kelpline/ios VERSION CODE OUT.ipa. The phones of demo/cloud.yaml are in its profile.
package main

import (
	"fmt"
	"os"
	"path/filepath"

	"tessellant/internal/standin/cloudlab"
	"tessellant/internal/standin/ipa"
)

func main() {
	if err := run(os.Args[1:]); err != nil {
		fmt.Fprintln(os.Stderr, "build Kelpline for iOS:", err)
		os.Exit(1)
	}
}

func run(args []string) error {
	if len(args) != 3 {
		return fmt.Errorf("usage: ios VERSION CODE OUT.ipa")
	}
	cloud, err := cloudlab.ReadFile("demo/cloud.yaml")
	if err != nil {
		return err
	}
	app, err := ipa.Kelpline("demo/kelpline", args[0], args[1], cloud.UDIDs())
	if err != nil {
		return err
	}
	raw, err := ipa.Build(app)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(args[2]), 0o755); err != nil {
		return err
	}
	return os.WriteFile(args[2], raw, 0o644)
}
