package phonetest

// How a device is set, what can be read of it beside the commands, and how its apps reach the network.

import (
	"io"
	"net"
	"net/http"
	"strings"
	"time"

	"github.com/stretchr/testify/require"

	"tessellant/internal/core/conditions"
	"tessellant/internal/core/gauges"
	"tessellant/internal/core/h264"
	"tessellant/internal/phone"
)

var surroundings = []check{
	{"settings", "Settings turn the screen and return when it is turned, and Restore puts back what was changed; a device that can't go dark says so.", func(p *probe) {
		settings, ok := p.unit.Settings, p.unit.Settings != nil
		if !ok {
			p.Skip("this phone has no settings that can be changed")
		}
		f, err := p.Phone.Facts(p.ctx)
		require.NoError(p, err)
		size := func() (w, h int) {
			s, err := p.Phone.Tree(p.ctx)
			require.NoError(p, err)
			b := s.Elements[0].Bounds
			return b.Right - b.Left, b.Bottom - b.Top
		}
		p.find("#shore_gull-ledge")
		require.NoError(p, settings.Rotate(p.ctx, f.Width < f.Height))
		w, h := size()
		require.Equal(p, []int{f.Height, f.Width}, []int{w, h}, "turned")
		before, err := p.Phone.Screenshot(p.ctx)
		require.NoError(p, err)
		var refused *phone.Refused
		if err := settings.Dark(p.ctx, true); f.Platform == "android" && f.API < 29 {
			require.ErrorAs(p, err, &refused)
			require.Contains(p, refused.Remedy, "Android 10")
		} else {
			require.NoError(p, err)
			dark, err := p.Phone.Screenshot(p.ctx)
			require.NoError(p, err)
			require.NotEqual(p, before, dark)
		}
		require.NoError(p, settings.Restore(p.ctx))
		w, h = size()
		require.Equal(p, []int{f.Width, f.Height}, []int{w, h}, "put back")
		require.NoError(p, settings.Restore(p.ctx), "nothing is left to be put back")
	}},
	{"conditions", "Condition sets what the device's facts say that it can be set to, and Unsettle puts all of it back; the app sees its language and size.", func(p *probe) {
		conditioner, ok := p.unit.Conditioner, p.unit.Conditioner != nil
		settler, settles := p.unit.Settler, p.unit.Settler != nil
		if !ok || !settles {
			p.Skip("this phone can't be set to conditions")
		}
		before, err := p.Phone.Facts(p.ctx)
		require.NoError(p, err)
		want := conditions.Set{conditions.Language: map[string]string{"de": "en"}[p.Language], conditions.Orientation: "landscape", conditions.Dark: conditions.On, conditions.FontScale: "1.3", conditions.DisplaySize: "1.25",
			conditions.Location: "38.71,-9.14", conditions.TimeZone: "Europe/Lisbon", conditions.Animations: conditions.Off, conditions.WiFi: conditions.Off, conditions.MobileData: conditions.Off,
			conditions.Bluetooth: conditions.Off, conditions.GPS: conditions.Off, conditions.AirplaneMode: conditions.On, conditions.BatterySaver: conditions.On}
		if want[conditions.Language] == "" {
			want[conditions.Language] = "de"
		}
		require.Len(p, want, len(conditions.Table)-1, "all but the network, which is the host's")
		for _, l := range want.Lacks(before, true) {
			delete(want, l.Name)
		}
		require.NoError(p, conditioner.Condition(p.ctx, p.App.ID, want, true))
		require.NoError(p, conditioner.Condition(p.ctx, p.App.ID, want, true), "it stands so already")
		now, err := p.Phone.Facts(p.ctx)
		require.NoError(p, err)
		require.InDelta(p, 1.25, float64(now.Density)/float64(before.Density), 0.01)
		require.NoError(p, p.Phone.Clear(p.ctx, p.App.ID))
		require.NoError(p, p.Phone.Launch(p.ctx, p.App))
		_, other := want[conditions.Language]
		require.Equal(p, (p.Language == "de") != other, strings.Contains(p.find("#retry").Label+p.find("#retry").Text, "Noch einmal"), "it is offline, and its language outlives clearing the app")
		require.NoError(p, settler.Unsettle(p.ctx))
		now, err = p.Phone.Facts(p.ctx)
		require.NoError(p, err)
		require.Equal(p, before, now)
		require.NoError(p, settler.Settle(p.ctx))
		require.NoError(p, p.Phone.Clear(p.ctx, p.App.ID))
		require.NoError(p, p.Phone.Launch(p.ctx, p.App))
		require.Equal(p, p.Language == "de", strings.Contains(p.find("#settings").Label+p.find("#settings").Text, "Einstellungen"))
	}},
	{"starts", "Launch tells how long a cold start took, where the phone says so.", func(p *probe) {
		starter, ok := p.unit.Phone.(phone.Starter)
		if !ok {
			p.Skip("this phone does not say how apps come up")
		}
		require.NoError(p, p.Phone.Stop(p.ctx, p.App.ID))
		require.NoError(p, p.Phone.Launch(p.ctx, p.App))
		if said := starter.Start(p.App.ID); said != "" {
			require.Regexp(p, `^(cold )?start, [1-9]\d* ms$`, said)
		}
	}},
	{"gauges", "A meter reads the app and the device beside all commands, all gauges when all are wanted, and understands what the phone says.", func(p *probe) {
		gauged, ok := p.unit.Gauged, p.unit.Gauged != nil
		if !ok {
			p.Skip("this phone's gauges can't be read")
		}
		m := gauged.Meter(p.App.ID)
		defer m.Close()
		first, err := m.Read(p.ctx, true)
		require.NoError(p, err)
		require.Greater(p, first[gauges.Memory], 10.0)
		require.Less(p, first[gauges.Memory], 1000.0)
		require.Positive(p, first[gauges.Threads])
		require.Positive(p, first[gauges.DeviceMemory])
		require.Positive(p, first[gauges.Battery])
		require.InDelta(p, 30, first[gauges.Temperature], 20)
		x, y := p.find("#shore_gull-ledge").Bounds.Center()
		require.NoError(p, p.Phone.Tap(p.ctx, x, y))
		second, err := m.Read(p.ctx, false)
		require.NoError(p, err)
		for _, g := range []string{gauges.Processor, gauges.DeviceProcessor, gauges.Received, gauges.Sent} {
			require.Contains(p, second, g, "a rate comes with the second reading")
		}
		require.LessOrEqual(p, second[gauges.DeviceProcessor], 100.0)
		require.Empty(p, m.Unread())
		none := gauged.Meter("")
		defer none.Close()
		v, err := none.Read(p.ctx, true)
		require.NoError(p, err)
		require.NotContains(p, v, gauges.Memory)
	}},
	{"film", "Film streams the screen as H.264, a picture for each change, until it is closed; once more at the same time and later again, or it says that it can't.", func(p *probe) {
		filmer, ok := p.unit.Filmer, p.unit.Filmer != nil
		if !ok {
			p.Skip("this phone does not film its screen")
		}
		require.NoError(p, p.Phone.Stop(p.ctx, p.App.ID))
		require.NoError(p, p.Phone.Launch(p.ctx, p.App))
		r, err := filmer.Film(p.ctx, 540, 2_000_000)
		if p.NoFilm {
			var refused *phone.Refused
			require.ErrorAs(p, err, &refused, "a phone that can't says so")
			return
		}
		require.NoError(p, err)
		shown := func(r io.Reader) <-chan h264.Picture { // each when the next begins
			out := make(chan h264.Picture, 1000)
			go func() {
				defer close(out)
				var s h264.Splitter
				for buf := make([]byte, 32<<10); ; {
					n, err := r.Read(buf)
					whole, wrong := s.Feed(buf[:n], 0)
					for _, p := range whole {
						out <- p
					}
					if err != nil || wrong != nil {
						return
					}
				}
			}()
			return out
		}
		next := func(pictures <-chan h264.Picture) h264.Picture { // a quick phone is there and back between two pictures, now and then
			for p.ctx.Err() == nil {
				select {
				case picture := <-pictures:
					return picture
				default:
				}
				x, y := p.find("#shore_gull-ledge").Bounds.Center()
				require.NoError(p, p.Phone.Tap(p.ctx, x, y))
				p.find("#start")
				require.NoError(p, p.Phone.Press(p.ctx, phone.Back))
			}
			require.FailNow(p, "no picture of what changed came")
			return h264.Picture{}
		}
		pictures := shown(r)
		first := next(pictures)
		require.True(p, first.Key, "it begins with a picture that needs none before it")
		w, h, err := first.Parameters.Size()
		require.NoError(p, err)
		f, err := p.Phone.Facts(p.ctx)
		require.NoError(p, err)
		require.InDelta(p, float64(f.Width)/float64(f.Height), float64(w)/float64(h), 0.03, "as the screen is")
		require.LessOrEqual(p, min(w, h), 560)
		other, err := filmer.Film(p.ctx, 540, 2_000_000)
		require.NoError(p, err)
		more := shown(other)
		require.True(p, next(more).Key)
		require.NoError(p, r.Close())
		for range pictures { // it ends
		}
		require.False(p, next(more).Key, "the other one goes on")
		require.NoError(p, other.Close())
	}},
	{"any text", "LayKeyboard puts a keyboard on the phone with which Type takes any text, and Unsettle puts its own back; it is uninstalled like any app.", func(p *probe) {
		typist, types := p.unit.Typist, p.unit.Typist != nil
		settler, settles := p.unit.Settler, p.unit.Settler != nil
		if !types || !settles {
			p.Skip("this phone takes no keyboard of ours")
		}
		require.NoError(p, typist.LayKeyboard(p.ctx))
		require.NoError(p, typist.LayKeyboard(p.ctx), "once more")
		require.NoError(p, p.Phone.Launch(p.ctx, p.App))
		p.tap("#search")
		const text = "Küste 100% 'a' 潮だまり 🦀"
		require.NoError(p, p.Phone.Type(p.ctx, text))
		require.Equal(p, text, p.find("#search").Value)
		require.NoError(p, p.Phone.Type(p.ctx, " plain"))
		require.Equal(p, text+" plain", p.find("#search").Value, "the input command goes on beside it")
		var u *phone.Untypable
		require.ErrorAs(p, p.Phone.Type(p.ctx, "a\x07"), &u)
		require.NoError(p, p.Phone.Clear(p.ctx, p.App.ID))
		require.NoError(p, p.Phone.Launch(p.ctx, p.App))
		p.find("#search")
		var refused *phone.Refused
		require.ErrorAs(p, p.Phone.Type(p.ctx, "ü"), &refused, "no field has the focus")
		require.NoError(p, settler.Unsettle(p.ctx))
		require.ErrorAs(p, p.Phone.Type(p.ctx, "ü"), &u)
		require.NoError(p, p.Phone.Uninstall(p.ctx, typist.KeyboardApp()))
		require.NoError(p, settler.Settle(p.ctx))
	}},
	{"proxy", "Proxy leads the apps through a port of this machine, and Unsettle puts it back.", func(p *probe) {
		proxied, ok := p.unit.Proxied, p.unit.Proxied != nil
		settler, settles := p.unit.Settler, p.unit.Settler != nil
		if !ok || !settles {
			p.Skip("this phone's apps can't be led through a proxy")
		}
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(p, err)
		asked := make(chan string, 20)
		s := &http.Server{ReadHeaderTimeout: time.Minute, Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			asked <- r.URL.String()
			http.Error(w, "no way", http.StatusBadGateway)
		})}
		go func() { _ = s.Serve(l) }()
		defer s.Close()
		address, _ := l.Addr().(*net.TCPAddr)
		if err = proxied.Proxy(p.ctx, address.Port); err != nil {
			var refused *phone.Refused
			require.ErrorAs(p, err, &refused, "a phone that won't says so")
			return
		}
		require.NoError(p, proxied.Proxy(p.ctx, address.Port), "once more is no harm")
		require.NoError(p, p.Phone.Clear(p.ctx, p.App.ID))
		require.NoError(p, p.Phone.Launch(p.ctx, p.App))
		p.find("#retry")
		require.Contains(p, <-asked, "/shores")
		require.NoError(p, settler.Unsettle(p.ctx))
		require.NoError(p, settler.Settle(p.ctx))
		require.NoError(p, p.Phone.Clear(p.ctx, p.App.ID))
		require.NoError(p, p.Phone.Launch(p.ctx, p.App))
		p.find("#shore_gull-ledge")
	}},
}
