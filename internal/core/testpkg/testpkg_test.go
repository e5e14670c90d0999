package testpkg

import (
	"archive/zip"
	"bytes"
	"io/fs"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func folder(files map[string]string) fstest.MapFS {
	out := fstest.MapFS{}
	for n, s := range files {
		out[n] = &fstest.MapFile{Data: []byte(s), Mode: 0o644}
	}
	return out
}

const entry = "name: shore-suite\nkind: script\nabout: walks the shores\n"

func TestReadDiscoversCases(t *testing.T) {
	p, err := Read(folder(map[string]string{
		Entry:           entry,
		"shores.star":   "def helper(phone):\n    phone.back()\n\ndef test_list(phone):\n    \"\"\"The list shows.\n    More.\"\"\"\n    phone.launch()\n    helper(phone)\n",
		"more/two.star": "def test_b(p):\n    p.tap('#x')\n",
		".git/x.star":   "nonsense(",
	}))
	require.NoError(t, err)
	assert.Empty(t, p.Findings)
	assert.Equal(t, []Case{
		{Name: "more/two.test_b", File: "more/two.star", Line: 1, Func: "test_b"},
		{Name: "shores.test_list", File: "shores.star", Line: 4, Func: "test_list", About: "The list shows."},
	}, p.Cases)
	assert.Equal(t, "walks the shores", p.About)
}

func TestMistakesAreFoundWithFileAndLine(t *testing.T) {
	for name, c := range map[string]struct {
		files map[string]string
		file  string
		line  int
		what  string
	}{
		"no entry file":         {map[string]string{"a.star": ""}, "", 0, "there is no tessellant.yaml"},
		"an unknown key":        {map[string]string{Entry: "name: a\nkind: script\nowner: me\n"}, Entry, 3, "field owner not found"},
		"a name with blanks":    {map[string]string{Entry: "name: My Suite\nkind: script\n"}, Entry, 0, `name is "My Suite"`},
		"another kind":          {map[string]string{Entry: "name: a\nkind: magic\n"}, Entry, 0, `kind is "magic"`},
		"no script":             {map[string]string{Entry: entry}, "", 0, "holds no .star file"},
		"no case":               {map[string]string{Entry: entry, "a.star": "x = 1\n"}, "", 0, "starts with test_"},
		"a syntax error":        {map[string]string{Entry: entry, "a.star": "def test_a(phone):\n    phone.tap(\n"}, "a.star", 3, "got"},
		"an undefined name":     {map[string]string{Entry: entry, "a.star": "def test_a(phone):\n    wobble()\n"}, "a.star", 2, "undefined: wobble"},
		"a misspelt word":       {map[string]string{Entry: entry, "a.star": "def test_a(phone):\n    phone.tpa('#x')\n"}, "a.star", 2, "a phone has no tpa"},
		"a misspelt check":      {map[string]string{Entry: entry, "a.star": "def test_a(phone):\n    check.same(1, 1)\n"}, "a.star", 2, "check has no same"},
		"a bad locator":         {map[string]string{Entry: entry, "a.star": "def test_a(phone):\n    phone.tap('button[')\n"}, "a.star", 2, "can't be used"},
		"two parameters":        {map[string]string{Entry: entry, "a.star": "def test_a(phone, x):\n    pass\n"}, "a.star", 1, "exactly one parameter"},
		"one name twice":        {map[string]string{Entry: entry, "a.star": "def test_a(p):\n    pass\ndef test_a(p):\n    pass\n"}, "a.star", 3, "defined twice, first in line 1"},
		"load":                  {map[string]string{Entry: entry, "a.star": "load('b.star', 'x')\ndef test_a(p):\n    pass\n"}, "a.star", 1, "can't load one another"},
		"brackets without end":  {map[string]string{Entry: entry, "a.star": strings.Repeat("(", 5000)}, "a.star", 1, "nested more than"},
		"signs without end":     {map[string]string{Entry: entry, "a.star": "x = " + strings.Repeat("- ", 5000) + "1"}, "a.star", 1, "nested more than"},
		"a file that is a book": {map[string]string{Entry: entry, "a.star": strings.Repeat("# hm\n", maxScript/4)}, "a.star", 0, "longer than"},
	} {
		t.Run(name, func(t *testing.T) {
			p, err := Read(folder(c.files))
			require.NoError(t, err)
			require.NotEmpty(t, p.Blocked())
			f := p.Blocked()[0]
			assert.Equal(t, c.file, f.File)
			assert.Equal(t, c.line, f.Line)
			assert.Contains(t, f.What, c.what)
			assert.NotEmpty(t, f.Remedy)
		})
	}
}

func TestDeepButBracketlessNestingDoesNotBringTheReaderDown(t *testing.T) {
	for _, src := range []string{"x = " + strings.Repeat("not ", 60_000) + "True", "x = " + strings.Repeat("lambda: ", 30_000) + "1",
		"x = " + strings.Repeat("1 if 1 else ", 20_000) + "1", "x = 1" + strings.Repeat("+1", 100_000), "x = a" + strings.Repeat(".a", 100_000)} {
		_, err := Read(folder(map[string]string{Entry: entry, "a.star": src}))
		require.NoError(t, err)
	}
}

func TestPackGivesTheSameBytesAndOpensAgain(t *testing.T) {
	f := folder(map[string]string{Entry: entry, "a.star": "def test_a(p):\n    pass\n", ".hidden": "no"})
	var one, two bytes.Buffer
	require.NoError(t, Pack(f, &one))
	require.NoError(t, Pack(f, &two))
	assert.Equal(t, one.Bytes(), two.Bytes())
	back, err := Open(bytes.NewReader(one.Bytes()), int64(one.Len()))
	require.NoError(t, err)
	p, err := Read(back)
	require.NoError(t, err)
	assert.Len(t, p.Cases, 1)
	_, err = fs.Stat(back, ".hidden")
	assert.ErrorIs(t, err, fs.ErrNotExist)
}

func TestOpenRefuses(t *testing.T) {
	for name, c := range map[string]struct {
		fill func(z *zip.Writer)
		why  string
	}{
		"a name that climbs out": {func(z *zip.Writer) { _, _ = z.Create("../evil.star") }, "leads outside"},
		"an absolute name":       {func(z *zip.Writer) { _, _ = z.Create("/etc/evil") }, "leads outside"},
		"a link": {func(z *zip.Writer) {
			h := &zip.FileHeader{Name: "link"}
			h.SetMode(fs.ModeSymlink | 0o777)
			_, _ = z.CreateHeader(h)
		}, "is a link"},
		"one name twice": {func(z *zip.Writer) { _, _ = z.Create("a"); _, _ = z.Create("a") }, "two files named"},
		"too many files": {func(z *zip.Writer) {
			for i := range maxFiles + 1 {
				_, _ = z.Create(strings.Repeat("a", i%200+1) + "/" + strings.Repeat("b", i/200+1))
			}
		}, "is the most"},
		"what unpacks to too much": {func(z *zip.Writer) {
			w, _ := z.Create("zeros")
			block := make([]byte, 1<<20)
			for range 65 {
				_, _ = w.Write(block)
			}
		}, "unpacks to more"},
	} {
		t.Run(name, func(t *testing.T) {
			var buf bytes.Buffer
			z := zip.NewWriter(&buf)
			c.fill(z)
			require.NoError(t, z.Close())
			_, err := Open(bytes.NewReader(buf.Bytes()), int64(buf.Len()))
			assert.ErrorContains(t, err, c.why)
		})
	}
	_, err := Open(strings.NewReader("no zip"), 6)
	assert.ErrorContains(t, err, "not a zip file")
}

func FuzzReadScript(f *testing.F) {
	f.Add("def test_a(phone):\n    phone.tap('#x')\n")
	f.Add("load('a', 'b')\nx = [i for i in range(3)]\n")
	f.Fuzz(func(t *testing.T, src string) {
		p, err := Read(folder(map[string]string{Entry: entry, "a.star": src}))
		require.NoError(t, err)
		if len(p.Cases) == 0 && len(p.Blocked()) == 0 {
			t.Fatal("neither a case nor a reason")
		}
	})
}
