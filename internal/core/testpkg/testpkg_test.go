package testpkg

import (
	"archive/zip"
	"bytes"
	"fmt"
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
		"no entry file":          {map[string]string{"a.star": ""}, "", 0, "there is no tessellant.yaml"},
		"an unknown key":         {map[string]string{Entry: "name: a\nkind: script\nowner: me\n"}, Entry, 3, "field owner not found"},
		"a name with blanks":     {map[string]string{Entry: "name: My Suite\nkind: script\n"}, Entry, 0, `name is "My Suite"`},
		"another kind":           {map[string]string{Entry: "name: a\nkind: magic\n"}, Entry, 0, `kind is "magic"`},
		"no script":              {map[string]string{Entry: entry}, "", 0, "holds no .star file"},
		"no case":                {map[string]string{Entry: entry, "a.star": "x = 1\n"}, "", 0, "starts with test_"},
		"a syntax error":         {map[string]string{Entry: entry, "a.star": "def test_a(phone):\n    phone.tap(\n"}, "a.star", 3, "got"},
		"an undefined name":      {map[string]string{Entry: entry, "a.star": "def test_a(phone):\n    wobble()\n"}, "a.star", 2, "undefined: wobble"},
		"a misspelt word":        {map[string]string{Entry: entry, "a.star": "def test_a(phone):\n    phone.tpa('#x')\n"}, "a.star", 2, "a phone has no tpa"},
		"a misspelt check":       {map[string]string{Entry: entry, "a.star": "def test_a(phone):\n    check.same(1, 1)\n"}, "a.star", 2, "check has no same"},
		"a bad locator":          {map[string]string{Entry: entry, "a.star": "def test_a(phone):\n    phone.tap('button[')\n"}, "a.star", 2, "can't be used"},
		"two parameters":         {map[string]string{Entry: entry, "a.star": "def test_a(phone, x):\n    pass\n"}, "a.star", 1, "exactly one parameter"},
		"one name twice":         {map[string]string{Entry: entry, "a.star": "def test_a(p):\n    pass\ndef test_a(p):\n    pass\n"}, "a.star", 3, "defined twice, first in line 1"},
		"a file not there":       {map[string]string{Entry: entry, "a.star": "load('b.star', 'x')\ndef test_a(p):\n    pass\n"}, "a.star", 1, "there is no file b.star"},
		"a name not there":       {map[string]string{Entry: entry, "a.star": "load('b.star', 'x')\ndef test_a(p):\n    x()\n", "b.star": "y = 1\n"}, "a.star", 1, "b.star does not define x"},
		"files in a circle":      {map[string]string{Entry: entry, "a.star": "load('b.star', 'x')\ndef test_a(p):\n    x()\n", "b.star": "load('a.star', 'test_a')\nx = 1\n"}, "a.star", 1, "load one another"},
		"a data file not there":  {map[string]string{Entry: entry, "a.star": "def test_a(p):\n    data.rows('x.csv')\n"}, "a.star", 2, "there is no file x.csv"},
		"a data file amiss":      {map[string]string{Entry: entry, "x.json": "{", "a.star": "def test_a(p):\n    data.json('x.json')\n"}, "a.star", 2, "x.json holds no JSON value"},
		"no word of data":        {map[string]string{Entry: entry, "a.star": "def test_a(p):\n    data.yaml('x')\n"}, "a.star", 2, "data has no yaml"},
		"rows, one parameter":    {map[string]string{Entry: entry, "a.star": "def test_a(p):\n    pass\ncase(test_a, rows = [{'n': 1}])\n"}, "a.star", 1, "must take two parameters"},
		"rows that are computed": {map[string]string{Entry: entry, "a.star": "def test_a(p, row):\n    pass\ncase(test_a, rows = [r for r in [1]])\n"}, "a.star", 3, "it must be written out"},
		"no rows":                {map[string]string{Entry: entry, "a.star": "def test_a(p, row):\n    pass\ncase(test_a, rows = [])\n"}, "a.star", 3, "there are no rows"},
		"rows of one name":       {map[string]string{Entry: entry, "a.star": "def test_a(p, row):\n    pass\ncase(test_a, rows = [{'name': 'x'}, {'name': 'x'}])\n"}, "a.star", 3, `two rows of test_a are called "x"`},
		"a tag with blanks":      {map[string]string{Entry: entry, "a.star": "def test_a(p):\n    pass\ncase(test_a, tags = ['a b'])\n"}, "a.star", 3, "tags must be a list of names"},
		"case of nothing":        {map[string]string{Entry: entry, "a.star": "hi = 1; test_a = 2\ncase(hi)\n"}, "a.star", 2, "hi is no test function"},
		"case in a function":     {map[string]string{Entry: entry, "a.star": "def test_a(p):\n    case(test_a)\n"}, "a.star", 2, "is inside a function"},
		"file with nonsense":     {map[string]string{Entry: entry, "a.star": "def test_a(p):\n    pass\nfile(clear_between = 1)\n"}, "a.star", 3, "True or False"},
		"a hook with two":        {map[string]string{Entry: entry, "a.star": "def before_case(p, q):\n    pass\ndef test_a(p):\n    pass\n"}, "a.star", 1, "before_case must take exactly one"},
		"a secret by default":    {map[string]string{Entry: entry + "inputs:\n  code: {secret: true, default: x}\n", "a.star": "def test_a(p):\n    pass\n"}, Entry, 0, "is secret and has a default"},
		"brackets without end":   {map[string]string{Entry: entry, "a.star": strings.Repeat("(", 5000)}, "a.star", 1, "nested more than"},
		"signs without end":      {map[string]string{Entry: entry, "a.star": "x = " + strings.Repeat("- ", 5000) + "1"}, "a.star", 1, "nested more than"},
		"a file that is a book":  {map[string]string{Entry: entry, "a.star": strings.Repeat("# hm\n", maxScript/4)}, "a.star", 0, "longer than"},
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

func TestRowsTagsHooksAndInputsAreRead(t *testing.T) {
	p, err := Read(folder(map[string]string{
		Entry:        entry + "inputs:\n  observer: {about: who, default: Ines}\n  code: {secret: true}\n",
		"a.star":     "load('lib/x.star', 'hi')\ndef before_case(phone):\n    hi(phone)\ndef test_a(phone, row):\n    pass\ncase(test_a, tags = ['smoke'], rows = 'd/r.csv')\ndef test_b(phone, row):\n    pass\ncase(test_b, rows = [{'n': -1}, {'name': 'two', 'on': True}])\nfile(clear_between = False)\n",
		"lib/x.star": "def hi(phone):\n    phone.back()\n",
		"d/r.csv":    "name,n\none,1\n\"two, three\",2\n",
	}))
	require.NoError(t, err)
	require.Empty(t, p.Findings)
	var names []string
	for _, c := range p.Cases {
		names = append(names, c.Name)
	}
	assert.Equal(t, []string{"a.test_a/one", "a.test_a/two, three", "a.test_b/1", "a.test_b/two"}, names)
	assert.Equal(t, []string{"smoke"}, p.Cases[0].Tags)
	assert.Equal(t, map[string]any{"n": -1.0}, p.Cases[2].Row)
	assert.True(t, p.Has("a.star", "before_case"))
	assert.False(t, p.Has("a.star", "after_case"))
	assert.True(t, p.KeepsData("a.star"))
	ines := "Ines"
	assert.Equal(t, []Input{{Name: "code", Secret: true}, {Name: "observer", About: "who", Default: &ines}}, p.Inputs)
}

func TestCasesAreChosenByNameAndTag(t *testing.T) {
	cases := []Case{{Name: "a.test_x", File: "a.star", Func: "test_x", Tags: []string{"smoke"}}, {Name: "a.test_y/1", File: "a.star", Func: "test_y"}, {Name: "a.test_y/two/2", File: "a.star", Func: "test_y"}, {Name: "sub/b.test_z", File: "sub/b.star", Func: "test_z", Tags: []string{"smoke", "slow"}}}
	for name, c := range map[string]struct {
		patterns, tags []string
		want           []int
		err            string
	}{
		"all":                        {nil, nil, []int{0, 1, 2, 3}, ""},
		"a name":                     {[]string{"a.test_x"}, nil, []int{0}, ""},
		"a function means its rows":  {[]string{"a.test_y"}, nil, []int{1, 2}, ""},
		"a row":                      {[]string{"a.test_y/1"}, nil, []int{1}, ""},
		"a pattern":                  {[]string{"a.*"}, nil, []int{0, 1, 2}, ""},
		"a tag":                      {nil, []string{"smoke"}, []int{0, 3}, ""},
		"two tags: either":           {nil, []string{"smoke", "slow"}, []int{0, 3}, ""},
		"a name and a tag":           {[]string{"a.*"}, []string{"smoke"}, []int{0}, ""},
		"no such name":               {[]string{"a.test_x", "q.*"}, nil, nil, `no case is called "q.*"`},
		"no such tag":                {nil, []string{"big"}, nil, `no case has the tag "big"; there are slow, smoke`},
		"each alone, but never both": {[]string{"a.test_x"}, []string{"slow"}, nil, "both such a name and such a tag"},
		"no pattern":                 {[]string{"["}, nil, nil, "can't be read"},
	} {
		t.Run(name, func(t *testing.T) {
			got, err := Choose(cases, c.patterns, c.tags)
			if c.err != "" {
				require.ErrorContains(t, err, c.err)
				return
			}
			require.NoError(t, err)
			var want []Case
			for _, i := range c.want {
				want = append(want, cases[i])
			}
			assert.Equal(t, want, got)
		})
	}
}

func TestInputsAreWhatThePackageDeclaresAndTheRunGives(t *testing.T) {
	ines := "Ines"
	declared := []Input{{Name: "observer", Default: &ines}, {Name: "code", Secret: true, About: "to sign in"}}
	values, hidden, err := Inputs(declared, map[string]string{"observer": "Jon"}, map[string]string{"code": "4711"})
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"observer": "Jon", "code": "4711"}, values)
	assert.Equal(t, []string{"4711"}, hidden)
	for name, c := range map[string]struct {
		plain, secret map[string]string
		err           string
	}{
		"one is missing":        {nil, nil, "wants the input code (to sign in)"},
		"a secret written out":  {map[string]string{"code": "4711"}, nil, "must not be written out"},
		"a secret too short":    {nil, map[string]string{"code": "1"}, "shorter than 4"},
		"one nobody knows":      {map[string]string{"x": "1"}, map[string]string{"code": "4711"}, "declares no input x"},
		"one that is a book":    {map[string]string{"observer": strings.Repeat("x", 5000)}, map[string]string{"code": "4711"}, "4096 is the most"},
		"a plain one as secret": {nil, map[string]string{"code": "4711", "y": "12345"}, "declares no input y"},
	} {
		t.Run(name, func(t *testing.T) {
			_, _, err := Inputs(declared, c.plain, c.secret)
			assert.ErrorContains(t, err, c.err)
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
			for i := range maxProgramFiles + 1 {
				_, _ = z.Create(fmt.Sprint(i))
			}
		}, "is the most"},
		"a directory that is longer than all honest ones": {func(z *zip.Writer) {
			for i := range 600 {
				_, _ = z.Create(fmt.Sprint(i) + strings.Repeat("/a", 30_000))
			}
		}, "directory is"},
		"what unpacks to too much": {func(z *zip.Writer) {
			w, _ := z.Create("zeros")
			block := make([]byte, 1<<20)
			for range 1025 {
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

func TestScriptsHaveNoNeedOfManyFiles(t *testing.T) {
	f := folder(map[string]string{Entry: entry, "a.star": "def test_a(phone):\n    pass\n"})
	for i := range maxFiles {
		f[fmt.Sprintf("data/%d.json", i)] = &fstest.MapFile{Data: []byte("{}")}
	}
	p, err := Read(f)
	require.NoError(t, err)
	require.Len(t, p.Blocked(), 1)
	assert.Contains(t, p.Blocked()[0].What, "it holds 2002 files")
	f[Entry] = &fstest.MapFile{Data: []byte("name: many\nkind: program\nrun: make\nresults: [r.xml]\n")}
	p, err = Read(f)
	require.NoError(t, err)
	assert.Empty(t, p.Blocked(), "programs bring along what they need")
	var zip bytes.Buffer
	require.NoError(t, Pack(f, &zip))
	_, err = Open(bytes.NewReader(zip.Bytes()), int64(zip.Len()))
	assert.NoError(t, err)
}

func FuzzReadScript(f *testing.F) {
	f.Add("def test_a(phone):\n    phone.tap('#x')\n")
	f.Add("def test_a(phone, row):\n    pass\ncase(test_a, rows = [{'name': 'x', 'n': -1}], tags = ['a'])\nfile(clear_between = False)\n")
	f.Add("load('a', 'b')\nx = [i for i in range(3)]\n")
	f.Fuzz(func(t *testing.T, src string) {
		p, err := Read(folder(map[string]string{Entry: entry, "a.star": src}))
		require.NoError(t, err)
		if len(p.Cases) == 0 && len(p.Blocked()) == 0 {
			t.Fatal("neither a case nor a reason")
		}
	})
}
