package pools

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tessellant/internal/core/devices"
)

// fleet is n made-up devices, in an order that says nothing.
func fleet(n int) (out []Device) {
	r := rand.New(rand.NewPCG(1, 2))
	one := func(of ...string) string { return of[r.IntN(len(of))*r.IntN(len(of))/len(of)] } // the first more often
	for i := range n {
		maker := one("Orrery", "Fennel", "Quillon", "Marrow")
		out = append(out, Device{Ready: true, Free: r.IntN(2) == 0, Facts: devices.Facts{Serial: fmt.Sprintf("d-%05d", i), Platform: "android", OS: one("14", "13", "12", "11", "9", "8.1"), Maker: maker,
			Model: maker + " " + one("A", "B", "C", "D", "E"), Form: one("phone", "phone", "tablet"), Origin: one("real", "emulated"), Width: 300 + 10*r.IntN(60), Height: 1600, Density: 160,
			MemoryMB: 1024 * (2 + r.IntN(10)), ABIs: []string{one("arm64-v8a", "x86_64")}, Language: one("en", "de", "fr", "nl")}})
	}
	return out
}

func TestThoseThatDifferMostCoverMoreThanAnyOthersOfASmallFleet(t *testing.T) {
	from := fleet(12)
	c := Definition{Take: Differ, N: 4}.Choose(from)
	require.Len(t, c.Serials, 4)
	best := 0.0
	var pick func(at int, chosen []string)
	pick = func(at int, chosen []string) {
		if len(chosen) == 4 {
			best = max(best, CoverOf(from, nil, chosen).Share)
			return
		}
		for i := at; i < len(from); i++ {
			pick(i+1, append(chosen, from[i].Facts.Serial))
		}
	}
	pick(0, nil)
	assert.InDelta(t, c.Cover.Share, CoverOf(from, nil, c.Serials).Share, 1e-9)
	assert.GreaterOrEqual(t, c.Cover.Share, 0.98*best, "of the best of all 495")
}

func TestNoExchangeOfOneDeviceCoversMore(t *testing.T) {
	from := fleet(300)
	c := Definition{Take: Differ, N: 10}.Choose(from)
	s := newField(from, nil).none()
	for k, x := range s.kinds {
		for _, i := range x.devices {
			if !s.in[k] && assert.ObjectsAreEqual(true, contains(c.Serials, from[i].Facts.Serial)) {
				s.add(k)
			}
		}
	}
	assert.False(t, s.exchange())
}

func contains(all []string, one string) bool {
	return strings.Contains(strings.Join(all, " ")+" ", one+" ")
}

func TestTheSameDevicesInAnyOrderGiveTheSameAnswer(t *testing.T) {
	from := fleet(200)
	for _, d := range []Definition{{Take: All}, {Take: Any, N: 7}, {Take: Differ, N: 7}, {Take: Differ, N: 7, Models: true}} {
		want := d.Choose(from)
		for range 3 {
			rand.Shuffle(len(from), func(i, j int) { from[i], from[j] = from[j], from[i] })
			assert.Equal(t, want, d.Choose(from), d.String())
		}
	}
}

func TestWhichDifferMostDoesNotDependOnWhatIsFreeNow(t *testing.T) {
	from := fleet(200)
	for _, models := range []bool{false, true} {
		d := Definition{Take: Differ, N: 8, Models: models}
		values := func(c Choice) (out []string) {
			for _, s := range c.Serials {
				x := from[slices.IndexFunc(from, func(x Device) bool { return x.Facts.Serial == s })].Facts
				x.Serial = ""
				out = append(out, fmt.Sprintf("%+v", x))
			}
			slices.Sort(out)
			return out
		}
		want := d.Choose(from)
		for n := range 20 {
			for i := range from {
				from[i].Free = (i+n)%3 > 0
			}
			got := d.Choose(from)
			assert.Equal(t, values(want), values(got))
			assert.Equal(t, want.Cover.Traits, got.Cover.Traits)
		}
	}
}

func TestSharesOfUsersSayWhatMattersMost(t *testing.T) {
	var from []Device
	for i, os := range []string{"14", "14", "9", "12"} {
		from = append(from, Device{Ready: true, Facts: devices.Facts{Serial: fmt.Sprint("d-", i), OS: os, Maker: "Orrery", Width: 360, Density: 160}})
	}
	for share, want := range map[string]string{"os,9,90%\nos,12,5%": "d-2", "os,12,0.7\nos,9,0.1": "d-3"} {
		shares, err := ReadShares(strings.NewReader("trait,value,share\n" + share))
		require.NoError(t, err)
		c := Definition{Take: Differ, N: 1, Shares: shares}.Choose(from)
		assert.Equal(t, []string{want}, c.Serials, share)
	}
	c := Definition{Take: Differ, N: 2}.Choose(from)
	assert.Equal(t, []string{"d-0", "d-2"}, c.Serials)
	os := c.Cover.Traits[0]
	assert.Equal(t, []string{"9", "14"}, os.Covered, "by number")
	assert.Equal(t, []string{"12"}, os.Missing)
	assert.InDelta(t, 2./3, os.Share, 1e-9)
	assert.Equal(t, "d-3", c.Cover.Next.Serial)
	assert.Equal(t, []string{"os=12"}, c.Cover.Next.Adds)
	assert.InDelta(t, 1, c.Cover.Share+c.Cover.Next.Share, 1e-9)
}

func TestWhatIsTaken(t *testing.T) {
	dev := func(serial, os string, free, ready bool) Device {
		return Device{Facts: devices.Facts{Serial: serial, OS: os}, Free: free, Ready: ready}
	}
	from := []Device{dev("d", "14", true, true), dev("c", "14", false, true), dev("b", "9", true, true), dev("a", "9", false, false)}
	for how, want := range map[*Definition]string{
		{Take: All}:                     "a b c d",
		{Take: All, Models: true}:       "b d",
		{Take: Any, N: 2}:               "b d", // those that are free
		{Take: Any, N: 3}:               "b c d",
		{Take: Any, N: 9}:               "a b c d",
		{Take: Differ, N: 1}:            "b",
		{Take: Differ, N: 2}:            "b d",
		{Take: Differ, N: 3}:            "b c d", // more units of what is there, and those last that can't be used
		{Take: Any, N: 2, Models: true}: "b d",
	} {
		assert.Equal(t, want, strings.Join(how.Choose(from).Serials, " "), how.String())
		assert.NoError(t, how.Check())
	}
	empty := Definition{Take: Differ, N: 3}.Choose(nil)
	assert.Empty(t, empty.Serials)
	assert.Equal(t, 3, empty.Wanted)
}

func TestBadPoolsSayWhy(t *testing.T) {
	for why, d := range map[string]Definition{
		"there is no trait":            {Take: All, Where: []string{"colour=red"}},
		"can't be made of other pools": {Take: All, Where: []string{"pool=bench"}},
		"takes all, any or differ":     {Take: "some"},
		"can't take 0 devices":         {Take: Any},
		"can't take 1001 devices":      {Take: Differ, N: MaxN + 1},
		"has no number":                {Take: All, N: 2},
		"they go with differ alone":    {Take: Any, N: 2, Shares: []Share{{"os", "9", 1}}},
	} {
		assert.ErrorContains(t, d.Check(), why)
	}
	for _, name := range []string{"", "Bench", "a b", "-x", strings.Repeat("a", 64), "größe"} {
		assert.Error(t, CheckName(name), name)
	}
	assert.NoError(t, CheckName("every-day.8"))
}

func TestAFileThatIsNoListOfShares(t *testing.T) {
	for text, why := range map[string]string{
		"":                                      "has no column trait",
		"trait;value;share\nos;9;1":             "has no column trait",
		"trait,value,share\n":                   "has no lines",
		"trait,value,share\nos,9":               "no CSV: record on line 2",
		"trait,value,share\n\"os,9,1":           "no CSV",
		"trait,value,share\nmakr,Orrery,1":      `line 2 of the file of shares: there is no trait "makr"; was maker meant?`,
		"trait,value,share\nos,9,much":          "line 2 of the file of shares: \"much\" is no share",
		"trait,value,share\nos,9,NaN":           "is no share",
		"trait,value,share\nos,9,-1":            "is no share",
		"trait,value,share\nos,,1":              "the value is missing",
		"trait,value,share\nos,9,.1\n\nOS,9,.2": "line 4 of the file of shares: os=9 was there before",
		"trait,value,share\nos,9,80%\nos,8,80%": "come to 160%",
		"trait,value,share\nos,9,80\nos,8,80":   "come to 160%",
		strings.Repeat("x", MaxSharesBytes+1):   "more than 256 kB",
	} {
		_, err := ReadShares(strings.NewReader(text))
		assert.ErrorContains(t, err, why, text[:min(len(text), 60)])
	}
	got, err := ReadShares(strings.NewReader("\uFEFFShare, Value, Trait\n34%, 14, os\n6,9,OS\n0.25,Orrery,maker\n1, 3, label:desk"))
	require.NoError(t, err)
	assert.Equal(t, []Share{{"os", "14", .34}, {"os", "9", .06}, {"maker", "Orrery", .25}, {"label:desk", "3", 1}}, got)
}
