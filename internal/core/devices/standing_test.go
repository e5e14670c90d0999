package devices

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestHowADeviceStands(t *testing.T) {
	for name, c := range map[string]struct {
		known Known
		want  Standing
	}{
		"one that is ready and nobody's": {Known{State: Ready}, Standing{State: Ready, Usable: true, Free: true, Name: "free"}},
		"one that somebody has":          {Known{State: Ready, Held: true}, Standing{State: Ready, Usable: true, Name: "held"}},
		"one in quarantine":              {Known{State: Ready, Quarantined: true, QuarantineWhy: "it gets hot"}, Standing{State: Ready, Why: "it gets hot", Name: "quarantined", Unusable: "it is in quarantine: it gets hot"}},
		"one in quarantine and held":     {Known{State: Ready, Held: true, Quarantined: true, QuarantineWhy: "x"}, Standing{State: Ready, Name: "held", Unusable: "it is in quarantine: x"}},
		"one that can't be tested":       {Known{State: Unusable, Why: "unlock it"}, Standing{State: Unusable, Why: "unlock it", Name: "unusable", Unusable: "unlock it"}},
		"one whose host is silent":       {Known{State: Ready, Silent: SilentAfter}, Standing{State: Away, Why: "its host has gone silent: see whether it runs", Name: "away", Unusable: "its host has gone silent: see whether it runs"}},
		"one whose host spoke just now":  {Known{State: Ready, Silent: SilentAfter - time.Second}, Standing{State: Ready, Usable: true, Free: true, Name: "free"}},
		"one that is away, and held":     {Known{State: Away, Why: "its cable", Held: true, Silent: time.Hour}, Standing{State: Away, Why: "its cable", Name: "away", Unusable: "its cable"}},
	} {
		assert.Equal(t, c.want, c.known.Standing(), name)
	}
}

func TestWhatAnAppNeeds(t *testing.T) {
	f := Facts{Platform: "android", OS: "11", API: 30, ABIs: []string{"arm64-v8a", "armeabi-v7a"}}
	for want, n := range map[string]Needs{
		"":                          {Platform: "android", MinAPI: 30, ABIs: []string{"armeabi-v7a"}},
		"the build is for iOS":      {Platform: "ios"},
		"needs API level 31":        {Platform: "android", MinAPI: 31},
		"the unreleased system Elm": {Platform: "android", MinAPI: 10_000, MinCode: "Elm"},
		"has code for x86_64":       {Platform: "android", ABIs: []string{"x86_64"}},
	} {
		what, remedy := n.Unmet(f)
		assert.Contains(t, what, want)
		assert.Equal(t, what == "", remedy == "")
	}
}
