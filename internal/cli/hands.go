package cli

// What is done by hand on a held device, from a terminal.

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"github.com/jedib0t/go-pretty/v6/table"
	"github.com/spf13/cobra"

	"tessellant/api"
	"tessellant/internal/core/conditions"
)

// deedHelp are the things that can be done, as they are typed.
const deedHelp = `  tap LOCATOR | X,Y              touch an element, or a place in pixels of the screen as it is held
  press KEY                      back, home, recent, power, enter, volume_up, volume_down …
  type TEXT [LOCATOR]            type into the element, or into what has the focus
  swipe X,Y X,Y                  move a finger
  rotate portrait | landscape
  set CONDITIONS                 as for a run, such as dark:on,font-scale:1.3,network:edge
  install [BUILD]                a build of the workspace; the hold's own unless named
  launch | stop | clear [APP]    an app by its id; the hold's own unless named
  remove APP                     an app that was installed for the hold
  put FILE [PATH]                write a file on the device; under /sdcard/Download/ unless said
  keep NAME                      keep a screenshot under a name, on the hold's timeline`

func (a *App) deviceDoCmd() *cobra.Command {
	var long time.Duration
	cmd := &cobra.Command{Use: "do SERIAL WHAT [WITH...]", Short: "Do something on a device that you hold", Args: between(2, 4),
		Long:    "Do something on a device that your workspace holds. WHAT is one of:\n\n" + deedHelp + "\n\nA LOCATOR is a CSS selector, or XPath where it begins with / or (. It must mean one element of the screen.",
		Example: "  tessellant device do orr-01 tap '#shore_gull-ledge'\n  tessellant device do orr-01 press back\n  tessellant device do orr-01 type 'Tern' '#search'\n  tessellant device do orr-01 set dark:on,font-scale:1.3\n  tessellant device do orr-01 keep 'the empty list'",
		RunE: func(c *cobra.Command, args []string) error {
			d, err := deedOf(args[1], args[2:], long)
			if err != nil {
				return usage(c, err.Error())
			}
			return a.deviceDo(c.Context(), args[0], d)
		}}
	cmd.Flags().DurationVar(&long, "takes", 0, "how long a swipe takes (300ms unless said), or the finger of a tap stays")
	return cmd
}

// placeOf reads X,Y; ok is false for what is a locator.
func placeOf(s string) (x, y *int, ok bool) {
	left, right, cut := strings.Cut(s, ",")
	nx, err1 := strconv.Atoi(strings.TrimSpace(left))
	ny, err2 := strconv.Atoi(strings.TrimSpace(right))
	return &nx, &ny, cut && err1 == nil && err2 == nil
}

var errTooMany = errors.New("there is a word too many")

// deedOf reads what is to be done.
func deedOf(what string, with []string, takes time.Duration) (d api.Deed, err error) {
	d.Do = api.DeedDo(what)
	if !d.Do.Valid() {
		return d, fmt.Errorf("nothing is called %q that could be done; see: tessellant device do --help", what)
	}
	if takes > 0 {
		ms := int(takes.Milliseconds())
		d.Ms = &ms
	}
	least := map[api.DeedDo]int{api.DeedTap: 1, api.DeedPress: 1, api.DeedType: 1, api.DeedSwipe: 2, api.DeedRotate: 1, api.DeedSet: 1, api.DeedRemove: 1, api.DeedPut: 1, api.DeedKeep: 1}[d.Do]
	most := max(least, map[api.DeedDo]int{api.DeedType: 2, api.DeedInstall: 1, api.DeedLaunch: 1, api.DeedStop: 1, api.DeedClear: 1, api.DeedPut: 2}[d.Do])
	if len(with) < least {
		return d, fmt.Errorf("%s needs more: see tessellant device do --help", what)
	}
	if len(with) > most {
		return d, errTooMany
	}
	word := func(i int) *string {
		if i < len(with) {
			return &with[i]
		}
		return nil
	}
	switch d.Do {
	case api.DeedTap, api.DeedSwipe:
		var ok bool
		if d.X, d.Y, ok = placeOf(with[0]); !ok {
			d.X, d.Y, d.Locator = nil, nil, word(0)
		}
		if d.Do == api.DeedSwipe {
			if d.ToX, d.ToY, ok = placeOf(with[1]); !ok {
				return d, fmt.Errorf("%q is no place: write X,Y, such as 200,800", with[1])
			}
		}
	case api.DeedType:
		d.Text, d.Locator = word(0), word(1)
	case api.DeedPress:
		d.Key = word(0)
	case api.DeedRotate:
		d.Orientation = word(0)
	case api.DeedSet:
		set, err := conditions.Parse(with[0])
		if err != nil {
			return d, err
		}
		m := map[string]string(set)
		d.Conditions = &m
	case api.DeedInstall:
		d.Build = word(0)
	case api.DeedLaunch, api.DeedStop, api.DeedClear, api.DeedRemove:
		d.App = word(0)
	case api.DeedPut:
		raw, err := os.ReadFile(with[0])
		if err != nil {
			return d, err
		}
		to := path.Join("/sdcard/Download", filepath.Base(with[0]))
		if len(with) > 1 {
			to = with[1]
		}
		d.Path, d.Content = &to, &raw
	case api.DeedKeep:
		d.Name = word(0)
	}
	return d, nil
}

func (a *App) deviceDo(ctx context.Context, serial string, d api.Deed) error {
	client, err := a.Client()
	if err != nil {
		return err
	}
	r, err := client.DoOnHeldWithResponse(ctx, serial, d)
	if err != nil || r.StatusCode() != 204 {
		return a.Failed(string(d.Do)+" on the device", err, r)
	}
	return a.Show(map[string]any{"did": d.Do, "device": serial}, func() {
		if d.Do == api.DeedPut {
			fmt.Fprintf(a.Out, "The file is at %s on %s.\n", *d.Path, serial)
			return
		}
		fmt.Fprintf(a.Out, "Done on %s: %s.\n", serial, d.Do)
	})
}

func (a *App) deviceAppsCmd() *cobra.Command {
	return &cobra.Command{Use: "apps SERIAL", Short: "List the apps on a device that you hold", Args: Exactly(1),
		Long:    "List the apps on a device that your workspace holds, but for those of its system.",
		Example: "  tessellant device apps orr-01",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.GetHeldAppsWithResponse(c.Context(), args[0])
			if err != nil || r.JSON200 == nil {
				return a.Failed("list the apps", err, r)
			}
			return a.Show(r.JSON200, func() {
				if len(r.JSON200.Apps) == 0 {
					fmt.Fprintf(a.Out, "There is none. Install a build with: tessellant device do %s install BUILD\n", args[0])
					return
				}
				list := NewTable(a.Out, "app", "version code")
				for _, x := range r.JSON200.Apps {
					list.AppendRow(table.Row{x.App, Deref(x.Version)})
				}
				list.Render()
			})
		}}
}

func (a *App) devicePictureCmd() *cobra.Command {
	var out string
	cmd := &cobra.Command{Use: "picture SERIAL", Short: "Save the screen of a device that you hold", Args: Exactly(1),
		Long:    "Save the screen of a device that your workspace holds as a PNG. To keep it with the hold's evidence: tessellant device do SERIAL keep NAME.",
		Example: "  tessellant device picture orr-01\n  tessellant device picture orr-01 --out empty-list.png",
		RunE: func(c *cobra.Command, args []string) error {
			client, err := a.Client()
			if err != nil {
				return err
			}
			r, err := client.GetHeldPicture(c.Context(), args[0])
			png, err := a.Bytes("take a picture of the screen", r, err)
			if err != nil {
				return err
			}
			defer png.Close()
			if out == "-" {
				_, err := io.Copy(a.Out, png)
				return err
			}
			if out == "" {
				out = strings.Map(func(r rune) rune {
					if strings.ContainsRune(`/\:`, r) {
						return '_'
					}
					return r
				}, args[0]) + ".png"
			}
			n, err := a.save(png, r.ContentLength, out, func() error { return nil })
			if err != nil {
				return err
			}
			return a.Show(map[string]any{"file": out, "bytes": n}, func() { fmt.Fprintf(a.Out, "The screen is in %s.\n", out) })
		}}
	cmd.Flags().StringVarP(&out, "out", "o", "", "the file to write; SERIAL.png unless said; - is the standard output")
	return cmd
}
