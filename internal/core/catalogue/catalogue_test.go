package catalogue_test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/catalogue"
)

func device(id string) catalogue.Device {
	return catalogue.Device{ID: id, Platform: "android", OS: "14", API: 34, Maker: "Orrery", Model: "Skerry 5", Width: 720, Height: 1600, Density: 280, State: catalogue.Free, Form: "phone"}
}

func TestACatalogueIsReadAsItWasWritten(t *testing.T) {
	c := catalogue.Catalogue{Name: "Heron", Place: "Heron Point", AtOnce: 3, Waiting: 2, Devices: []catalogue.Device{device("a"), {ID: "b", Platform: "ios", OS: "17.4", Maker: "Larch", Model: "Larch 4", Form: "phone", Width: 1170, Height: 2532, Density: 480, UDID: "0001", State: catalogue.Busy}}}
	raw, err := c.JSON()
	require.NoError(t, err)
	back, err := catalogue.Read(strings.NewReader(string(raw)))
	require.NoError(t, err)
	assert.Empty(t, back.LeftOut)
	again, err := back.JSON()
	require.NoError(t, err)
	assert.JSONEq(t, string(raw), string(again))
	f := back.Devices[1].Facts("cloud", "Heron Point")
	assert.Equal(t, 390, f.WidthDP(), "points are to iOS what dp are to Android")
	assert.Equal(t, "cloud", f.Origin)
}

func TestWhatCantBeUsedIsLeftOutAndToldAndTheRestIsTaken(t *testing.T) {
	bad := map[string]func(*catalogue.Device){
		"its id must be": func(d *catalogue.Device) { d.ID = "a\nb" }, "its platform is": func(d *catalogue.Device) { d.Platform = "palm" }, "it has no model": func(d *catalogue.Device) { d.Model = " " },
		"it has no os": func(d *catalogue.Device) { d.OS = "" }, "its form is": func(d *catalogue.Device) { d.Form = "watch" }, "its state is": func(d *catalogue.Device) { d.State = "asleep" },
		"its screen is": func(d *catalogue.Device) { d.Width = -1 }, "its density is": func(d *catalogue.Device) { d.Density = 1 }, "has no api": func(d *catalogue.Device) { d.API = 0 },
		"out of bounds": func(d *catalogue.Device) { d.MemoryMB = -3 }, "it is there twice": func(d *catalogue.Device) { d.ID = "good" },
	}
	for says, change := range bad {
		d := device("x")
		change(&d)
		raw, err := json.Marshal(map[string]any{"catalogue": 1, "devices": []any{device("good"), d, device("also")}})
		require.NoError(t, err)
		c, err := catalogue.Read(strings.NewReader(string(raw)))
		require.NoError(t, err)
		require.Len(t, c.Devices, 2, says)
		assert.Equal(t, "also", c.Devices[1].ID)
		require.Len(t, c.LeftOut, 1)
		assert.Contains(t, c.LeftOut[0], says)
	}
}

func TestWhatIsNoCatalogueIsSaidSo(t *testing.T) {
	many := `{"catalogue": 1, "devices": [` + strings.Repeat(`{},`, catalogue.MaxDevices) + `{}]}`
	for says, raw := range map[string]string{
		"it is not JSON": `{"catalogue": 1, "devices": [{"id": `, "not an object": `[]`, "which it can't be": `{"catalogue": 1, "devices": "none"}`, "this version of tessellant reads": `{"catalogue": 2, "devices": []}`,
		"is the most": many, "behind its end": `{"catalogue": 1, "devices": []} and more`, "more than": `{"catalogue": 1, "name": "` + strings.Repeat("x", catalogue.MaxBytes) + `"}`,
	} {
		_, err := catalogue.Read(strings.NewReader(raw))
		require.Error(t, err, says)
		assert.Contains(t, err.Error(), says)
	}
}

func TestManyDevicesWithDoublesAreTaken(t *testing.T) {
	var list []catalogue.Device
	for i := range 10_000 {
		list = append(list, device(fmt.Sprintf("d%d", i%9_000)))
	}
	raw, err := (&catalogue.Catalogue{Devices: list}).JSON()
	require.NoError(t, err)
	c, err := catalogue.Read(strings.NewReader(string(raw)))
	require.NoError(t, err)
	assert.Len(t, c.Devices, 9_000)
	assert.Equal(t, 1_000, c.Left)
	assert.Len(t, c.LeftOut, 20, "the first are told")
}

func FuzzRead(f *testing.F) {
	raw, err := (&catalogue.Catalogue{Devices: []catalogue.Device{device("a"), device("b")}}).JSON()
	require.NoError(f, err)
	f.Add(raw)
	f.Fuzz(func(t *testing.T, raw []byte) {
		c, err := catalogue.Read(strings.NewReader(string(raw)))
		if err != nil {
			return
		}
		for _, d := range c.Devices {
			if why := d.Mend(); why != "" {
				t.Fatalf("a device that can't be used was taken: %s", why)
			}
		}
	})
}
