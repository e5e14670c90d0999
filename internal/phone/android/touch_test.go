package android

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/phone"
)

// keys is what `getevent -p` says of a phone's buttons, of a pen's tablet, and of two touch screens.
const (
	keys = `add device 1: /dev/input/event0
  name:     "gpio-keys"
  events:
    KEY (0001): 0072  0073  0074
  input props:
    <none>
`
	pad = `add device 2: /dev/input/event3
  name:     "touch-pad"
  events:
    ABS (0003): 0035  : value 0, min 0, max 999, fuzz 0, flat 0, resolution 0
                0036  : value 0, min 0, max 499, fuzz 0, flat 0, resolution 0
  input props:
    INPUT_PROP_POINTER
`
	fine = `add device 3: /dev/input/event2
  name:     "skerry-touch"
  events:
    KEY (0001): 014a
    ABS (0003): 002f  : value 0, min 0, max 9, fuzz 0, flat 0, resolution 0
                0035  : value 0, min 0, max 7199, fuzz 0, flat 0, resolution 0
                0036  : value 0, min 0, max 15999, fuzz 0, flat 0, resolution 0
                0039  : value 0, min 0, max 65535, fuzz 0, flat 0, resolution 0
                003a  : value 0, min 0, max 255, fuzz 0, flat 0, resolution 0
  input props:
    INPUT_PROP_DIRECT
`
)

func TestTheTouchScreenIsFoundAmongTheInputs(t *testing.T) {
	p, ok := readPanel(keys + pad + fine)
	require.True(t, ok)
	assert.Equal(t, panel{"/dev/input/event2", 7199, 15999, true}, p)
	p, ok = readPanel(strings.Replace(fine, "                003a  : value 0, min 0, max 255, fuzz 0, flat 0, resolution 0\n", "", 1))
	require.True(t, ok)
	assert.False(t, p.pressure)
	for name, out := range map[string]string{"nothing": "", "no permission": "could not open /dev/input/event2, Permission denied\n", "keys alone": keys, "a pad alone": keys + pad, "one axis": strings.Replace(fine, "0036", "0030", 1)} {
		_, ok := readPanel(out)
		assert.False(t, ok, name)
	}
}

// fingersOf gives what a panel is told, a moment a line: each finger's place, - for lifted; and how long it takes.
func fingersOf(t *testing.T, p panel, quarters int, strokes ...phone.Stroke) (string, time.Duration) {
	t.Helper()
	line, took := (&Device{api: 30}).sendevents(p, p.frames(strokes, 720, 1600, quarters))
	var out strings.Builder
	slot, touched := "?", false
	for _, c := range strings.Split(line, " && ") {
		f := strings.Fields(c)
		if f[0] == "sleep" {
			out.WriteString("[" + f[1] + "]")
			continue
		}
		require.Equal(t, []string{"sendevent", p.device}, f[:2], line)
		switch strings.Join(f[2:4], " ") {
		case "3 47":
			slot = f[4]
		case "3 57":
			if f[4] == "-1" {
				out.WriteString(" " + slot + "-")
			} else {
				out.WriteString(" " + slot + "+")
			}
		case "3 53":
			out.WriteString(" " + slot + ":" + f[4])
		case "3 54":
			out.WriteString("," + f[4])
		case "1 330":
			touched = f[4] == "1"
		case "0 0":
			out.WriteString(";")
		}
	}
	assert.False(t, touched, "no finger is left on the screen")
	return out.String(), took
}

func TestFingersArePlayedOnTheTouchScreen(t *testing.T) {
	p := panel{device: "/dev/input/event2", maxX: 7199, maxY: 15999}
	at := func(x, y int, ms int) phone.Contact {
		return phone.Contact{X: x, Y: y, At: time.Duration(ms) * time.Millisecond}
	}
	for name, c := range map[string]struct {
		quarters int
		strokes  []phone.Stroke
		want     string
		took     time.Duration
	}{
		"a tap": {0, []phone.Stroke{{at(10, 20, 0), at(10, 20, 30)}}, " 0+ 0:100,200;[0.030] 0-;", 30 * time.Millisecond},
		// A finger that lifts as soon as it touches is lifted nevertheless.
		"a tap without a pause":           {0, []phone.Stroke{{at(10, 20, 0), at(10, 20, 0)}}, " 0+ 0:100,200;[0.040] 0-;", 40 * time.Millisecond},
		"two fingers that tap at once":    {0, []phone.Stroke{{at(1, 1, 0), at(1, 1, 0)}, {at(2, 2, 0), at(2, 2, 0)}}, " 0+ 0:10,10 1+ 1:20,20;[0.040] 0- 1-;", 40 * time.Millisecond},
		"one after the other":             {0, []phone.Stroke{{at(1, 1, 0), at(1, 1, 20)}, {at(2, 2, 50), at(2, 2, 60)}}, " 0+ 0:10,10;[0.020] 0-;[0.030] 1+ 1:20,20;[0.010] 1-;", 60 * time.Millisecond},
		"a move, told every 40 ms":        {0, []phone.Stroke{{at(0, 0, 0), at(100, 0, 100), at(100, 0, 120)}}, " 0+ 0:0,0;[0.040] 0:400,0;[0.040] 0:800,0;[0.020] 0:1000,0;[0.020] 0-;", 120 * time.Millisecond},
		"fingers that go apart":           {0, []phone.Stroke{{at(50, 50, 0), at(10, 50, 40)}, {at(60, 50, 0), at(100, 50, 40)}}, " 0+ 0:500,500 1+ 1:600,500;[0.040] 0:100,500 1:1000,500; 0- 1-;", 40 * time.Millisecond},
		"a drag that lifts where it ends": {0, []phone.Stroke{{at(0, 0, 0), at(60, 0, 60), at(60, 0, 60)}}, " 0+ 0:0,0;[0.040] 0:400,0;[0.020] 0:600,0; 0-;", 60 * time.Millisecond},
		"one rests, one moves":            {0, []phone.Stroke{{at(5, 5, 0), at(5, 5, 80)}, {at(0, 0, 0), at(80, 0, 80)}}, " 0+ 0:50,50 1+ 1:0,0;[0.040] 1:400,0;[0.040] 1:800,0; 0- 1-;", 80 * time.Millisecond},
		"turned by a quarter":             {1, []phone.Stroke{{at(10, 20, 0), at(10, 20, 30)}}, " 0+ 0:6990,100;[0.030] 0-;", 30 * time.Millisecond},
		"turned upside down":              {2, []phone.Stroke{{at(10, 20, 0), at(10, 20, 30)}}, " 0+ 0:7090,15790;[0.030] 0-;", 30 * time.Millisecond},
		"turned by three quarters":        {3, []phone.Stroke{{at(10, 20, 0), at(10, 20, 30)}}, " 0+ 0:200,15890;[0.030] 0-;", 30 * time.Millisecond},
		"the first moment is not at zero": {0, []phone.Stroke{{at(1, 1, 500), at(1, 1, 510)}}, " 0+ 0:10,10;[0.010] 0-;", 10 * time.Millisecond},
	} {
		given := len(c.strokes[0])
		got, took := fingersOf(t, p, c.quarters, c.strokes...)
		assert.Equal(t, c.want, got, name)
		assert.Equal(t, c.took, took, name)
		assert.Len(t, c.strokes[0], given, "what was given stays as it is")
	}
	p.pressure = true
	line, _ := (&Device{api: 30}).sendevents(p, p.frames([]phone.Stroke{{at(1, 1, 0), at(1, 1, 9)}}, 720, 1600, 0))
	assert.Contains(t, line, "sendevent /dev/input/event2 3 58 50", "it is pressed where the screen wants that")
}
