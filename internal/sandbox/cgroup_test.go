package sandbox

import (
	"bytes"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestWhereControlGroupsAre(t *testing.T) {
	dir := t.TempDir()
	file := func(name, text string) string {
		p := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(p), 0o755))
		require.NoError(t, os.WriteFile(p, []byte(text), 0o644))
		return p
	}
	at := filepath.Join(dir, "groups")
	mounts := file("mountinfo", "22 1 0:21 / /proc rw - proc proc rw\n30 22 0:26 / "+at+" rw,nosuid - cgroup2 cgroup2 rw\n")
	member := file("cgroup", "0::/system.slice/tessellant.service\n")
	own := filepath.Join(at, "system.slice/tessellant.service")
	got, err := ownGroupOf(mounts, member)
	require.NoError(t, err)
	assert.Equal(t, own, got)
	file("groups/system.slice/tessellant.service/cgroup.controllers", "cpu io pids\n")
	_, err = findGroups(mounts, member)
	assert.ErrorContains(t, err, "have no controller memory here")
	file("groups/system.slice/tessellant.service/cgroup.controllers", "cpu io memory pids\n")
	file("groups/system.slice/tessellant.service/cgroup.subtree_control", "memory pids\n")
	got, err = findGroups(mounts, member)
	require.NoError(t, err)
	assert.Equal(t, own, got)
	_, err = findGroups(file("none", "22 1 0:21 / /proc rw - proc proc rw\n"), member)
	assert.ErrorContains(t, err, "not mounted")
	_, err = findGroups(mounts, file("v1", "4:memory:/x\n"))
	assert.ErrorContains(t, err, "in no control group")
}

// TestABoxIsInItsGroupAndEndsWithIt needs control groups of version 2, with or without controllers: bounds are not tried here.
func TestABoxIsInItsGroupAndEndsWithIt(t *testing.T) {
	b := box(t)
	own, err := ownGroupOf("/proc/self/mountinfo", "/proc/self/cgroup")
	if err == nil {
		var g *group
		if g, err = newGroup(own, Spec{}); err == nil {
			g.end()
		}
	}
	if err != nil {
		t.Skip("this machine gives no control groups of version 2: " + err.Error())
	}
	b.groups = own
	var out bytes.Buffer
	f, err := b.Make()
	require.NoError(t, err)
	defer b.Remove(f)
	ended, err := b.Run(t.Context(), Spec{Work: f.Work, Keep: f.Keep, Command: []string{"sh", "-c", "cat /proc/self/cgroup; (setsid sleep 77778.5 &); sleep 0.2"}, Output: &out})
	require.NoError(t, err)
	assert.Zero(t, ended.Code)
	assert.Contains(t, out.String(), "0::", out.String())
	left, err := filepath.Glob(filepath.Join(own, boxGroup+"*"))
	require.NoError(t, err)
	assert.Empty(t, left, "the group ends with the box")
	assert.Eventually(t, func() bool { return exec.Command("pgrep", "-f", "^sleep 77778.5").Run() != nil }, 5*time.Second, 20*time.Millisecond)
	// What is in a group ends with it, whatever it is.
	g, err := newGroup(own, Spec{})
	require.NoError(t, err)
	cmd := exec.Command("sh", "-c", "setsid sleep 77779.5 & setsid sleep 77779.5 & wait")
	cmd.SysProcAttr = inGroup(g, nil)
	require.NoError(t, cmd.Start())
	g.end()
	assert.Error(t, cmd.Wait(), "it was killed")
	assert.NoDirExists(t, g.dir)
}
