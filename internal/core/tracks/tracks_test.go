package tracks

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
)

func TestANameSaysWhatAFileIs(t *testing.T) {
	for name, kind := range map[string]string{
		"timeline.jsonl": "timeline", "looks.jsonl": "looks", "device.log": "device-log", "remote-end.log": "remote-end-log", "output.log": "output", "video.mp4": "video",
		"results/001-junit.xml": "results", "screenshots/001-open.png": "screenshot", "trees/001-open.xml": "tree", "kept/notes.txt": "kept",
		"": "", "video.mp4.bak": "", "results/001.txt": "", "screenshots/x.svg": "", "../timeline.jsonl": "", "closing.json": "",
		"kept/" + strings.Repeat("x", MaxKeptName): "", "kept/a\nb": "", "kept/../timeline.jsonl": "", "results/../../x.xml": "", "screenshots//x.png": "", "/video.mp4": "", "kept/": "", "kept/a\\..\\b": "", "kept/./a": "",
	} {
		a, ok := Named(name)
		assert.Equal(t, kind != "", ok, "%q", name)
		assert.Equal(t, kind, a.Kind, "%q", name)
		if ok {
			assert.Equal(t, name, a.Name)
			assert.NotEmpty(t, a.ContentType, "%q", name)
		}
	}
}

func TestEachLegOfARunHasAFolderOfItsOwn(t *testing.T) {
	taken := map[string]bool{}
	var got []string
	for _, l := range [][2]string{{"orr-01", ""}, {"orr-01", "de"}, {"orr-01", ""}, {"127.0.0.1:5555", ""}, {"../x", "a/b"}, {"..", ""}} {
		got = append(got, Folder(l[0], l[1], taken))
	}
	assert.Equal(t, []string{"orr-01", "orr-01-de", "orr-01 (2)", "127.0.0.1-5555", "-x-a-b", "leg"}, got)
}

func TestOnlyTracksGrow(t *testing.T) {
	list := Growing()
	for _, a := range list {
		same, ok := Named(a.Name)
		assert.True(t, ok)
		assert.Equal(t, a, same)
	}
	list[0].Name = "changed"
	assert.Equal(t, Timeline, Growing()[0].Name, "a caller can't change the table")
}
