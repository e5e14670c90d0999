package sandbox

import (
	"context"
	"time"

	"tessellant/internal/core/testpkg"
)

// Runtimes finds which runtimes programs find here, with their versions: it asks them where programs run.
func (b *Box) Runtimes(ctx context.Context) map[string]string {
	out := map[string]string{}
	f, err := b.Make()
	if err != nil {
		return out
	}
	defer b.Remove(f)
	for _, r := range testpkg.Runtimes {
		var said sayings
		one, cancel := context.WithTimeout(ctx, 10*time.Second)
		end, err := b.Run(one, Spec{Work: f.Work, Keep: f.Keep, Command: r.Command, MemoryMB: 2048, Processes: 256, DiskMB: 100, Output: &said})
		cancel()
		if err == nil && end.Code == 0 {
			if v := testpkg.Version(said.String()); v != "" {
				out[r.Name] = v
			}
		}
	}
	return out
}
