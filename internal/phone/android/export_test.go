package android

import "context"

// Ask runs a line in the device's shell, and gives what it says on its first output.
func (d *Device) Ask(ctx context.Context, line string) (string, error) {
	a, err := d.shell(ctx, "answer the test", line, quick)
	return value(string(a.out)), err
}
