package testpkg

import (
	"testing"
	"testing/fstest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func program(t *testing.T, more string, files ...string) *Package {
	t.Helper()
	f := fstest.MapFS{Entry: {Data: []byte("name: prog\nkind: program\n" + more)}}
	for _, n := range files {
		f[n] = &fstest.MapFile{Data: []byte("x")}
	}
	p, err := Read(f)
	require.NoError(t, err)
	return p
}

func TestAProgramDeclaresHowItIsRun(t *testing.T) {
	p := program(t, "prepare: make\nrun: [python3, run.py]\nneeds: [python3>=3.9, node]\nresults: [results/*.xml]\nlimits: {prepare: 90s, memory-mb: 512}\n", "run.py")
	require.Empty(t, p.Findings)
	assert.Equal(t, &Program{Run: []string{"python3", "run.py"}, Prepare: []string{"sh", "-c", "make"}, Needs: []Need{{"python3", "3.9"}, {"node", ""}}, Results: []string{"results/*.xml"},
		Limits: ProgramLimits{90 * time.Second, 512, defaultProcs, defaultDisk}}, p.Program)
}

func TestWhatIsWrongWithAProgramIsFound(t *testing.T) {
	const good = "run: [python3, run.py]\nresults: [r.xml]\n"
	for more, want := range map[string]string{
		"results: [r.xml]\n":                          "a program needs a command that runs it",
		"run: make\n":                                 "results: is missing: the service reads the results of the cases from the JUnit XML that it names",
		good + "needs: [cobol]\n":                     `needs: no host looks for "cobol"`,
		good + "needs: ['python3 > 3']\n":             `needs: "python3 > 3" can't be read`,
		"run: make\nresults: [../r.xml]\n":            `results: "../r.xml" is no pattern of files below the package's root`,
		"run: make\nresults: [/r.xml]\n":              `results: "/r.xml" is no pattern of files below the package's root`,
		"run: make\nresults: [\"**/[.xml\"]\n":        `results: "**/[.xml" is no pattern of files below the package's root`,
		good + "limits: {prepare: 1h}\n":              `limits: "1h" is no time that preparing may take`,
		good + "limits: {memory-mb: 999999}\n":        "limits: memory-mb can't be 999999",
		"run: [python3, gone.py]\nresults: [r.xml]\n": "run names gone.py, which is not in the package",
		"run: {a: b}\nresults: [r.xml]\n":             "it can't be read: line 3: a command is a line for the shell, or a list of arguments",
	} {
		p := program(t, more, "run.py")
		require.NotEmpty(t, p.Blocked(), more)
		assert.Equal(t, want, p.Blocked()[0].What)
		assert.NotEmpty(t, p.Blocked()[0].Remedy)
	}
	p, err := Read(fstest.MapFS{Entry: {Data: []byte("name: s\nkind: script\nrun: make\n")}, "a.star": {Data: []byte("def test_a(phone):\n    pass\n")}})
	require.NoError(t, err)
	assert.Equal(t, "run, prepare, results and limits are for the kind program", p.Blocked()[0].What)
}

func TestRuntimesAreHeldAgainstNeeds(t *testing.T) {
	has := map[string]string{"python3": "3.11.2", "node": "18.20.4"}
	assert.Empty(t, Missing([]Need{{"python3", "3.9"}, {"node", ""}, {"python3", "3.11.2"}}, has))
	assert.Equal(t, []string{"node>=20 (it has 18.20.4)", "java>=11"}, Missing([]Need{{"node", "20"}, {"java", "11"}}, has))
	for said, want := range map[string]string{"v20.20.2": "20.20.2", "Python 3.11.7": "3.11.7", `openjdk version "17.0.15" 2025`: "17.0.15", "none": ""} {
		assert.Equal(t, want, Version(said))
	}
}
