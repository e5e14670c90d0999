package android

// A device that answers every command with the same, whatever it is: nothing hangs, and nothing is believed.

import (
	"context"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"tessellant/internal/phone"
)

func TestADeviceThatAnswersAnythingBringsNobodyDown(t *testing.T) {
	app := phone.App{ID: "a", Size: 3, Open: func() (io.ReadCloser, error) { return io.NopCloser(strings.NewReader("apk")), nil }}
	for name, answer := range map[string]string{
		"success": "Success\nStatus: ok\n", "timeouts": "Status: timeout\nmCurrentFocus=null\n", "a refusal": "Exception occurred while executing 'x':\njava.lang.SecurityException: forbidden GRANT INJECT_EVENTS\n",
		"a failure": "Failure [INSTALL_FAILED_VERIFICATION_FAILURE]", "a dialog that stays": `<hierarchy rotation="0"><node resource-id="com.android.permissioncontroller:id/permission_allow_button" package="com.android.permissioncontroller" bounds="[0,0][9,9]"/></hierarchy>`,
		"marks": strings.Repeat("---\n", 50), "much": strings.Repeat("granted=true ", 100_000), "nothing": "", "bytes": "\x00\xff\x89PNG\r\n\x1a\nIEND\xaeB`\x82",
		"a note of ours": "settings put system a 'b'\nrm -rf /\ncmd uimode night 'no'\n",
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			p := act(t, map[string]string{"": answer})
			p.gate(gateGrant)
			d := p.Device
			for what, do := range map[string]func(context.Context) error{
				"install": func(ctx context.Context) error { return d.Install(ctx, app) }, "launch": func(ctx context.Context) error { return d.Launch(ctx, phone.App{ID: "a"}) },
				"clear": func(ctx context.Context) error { return d.Clear(ctx, "a") }, "new": func(ctx context.Context) error { return d.AsNew(ctx, "a") }, "wake": d.Wake, "settle": d.Settle, "unsettle": d.Unsettle,
				"restore": d.Restore, "tree": func(ctx context.Context) error { _, err := d.Tree(ctx); return err }, "shot": func(ctx context.Context) error { _, err := d.Screenshot(ctx); return err },
				"pixels": func(ctx context.Context) error { _, err := d.Pixels(ctx); return err }, "facts": func(ctx context.Context) error { _, err := d.Facts(ctx); return err },
				"fit": func(ctx context.Context) error { _, err := d.Fit(ctx); return err }, "free": func(ctx context.Context) error { _, err := d.FreeMB(ctx); return err },
				"decide": func(ctx context.Context) error {
					return phone.Decide(ctx, d, "a", "location", true, 300*time.Millisecond)
				},
				"dark": func(ctx context.Context) error { return d.Dark(ctx, true) }, "touch": func(ctx context.Context) error {
					return d.Touch(ctx, []phone.Stroke{{{X: 1, Y: 1}}, {{X: 2, Y: 2}}})
				},
				"keyboard": func(ctx context.Context) error { _, err := d.KeyboardShown(ctx); return err }, "now": func(ctx context.Context) error { _, err := d.Now(ctx); return err },
			} {
				ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
				start := time.Now()
				_ = do(ctx)
				cancel()
				assert.Less(t, time.Since(start), 4*time.Second, what)
			}
			p.mu.Lock()
			defer p.mu.Unlock()
			for _, h := range p.heard {
				assert.NotContains(t, h, "rm -rf /", "what lies on the device is not run")
			}
		})
	}
}
