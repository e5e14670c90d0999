package confine

// Namespaces of its own for a process that is started: no network, and none of the host's shared memory.

import (
	"os"
	"os/exec"
	"sync"
	"syscall"
)

// Namespaces has a process start with a network and shared memory of its own.
func Namespaces(a *syscall.SysProcAttr) {
	a.Cloneflags = syscall.CLONE_NEWNET | syscall.CLONE_NEWIPC
	if id := os.Geteuid(); id != 0 {
		a.Cloneflags |= syscall.CLONE_NEWUSER
		a.UidMappings = []syscall.SysProcIDMap{{ContainerID: id, HostID: id, Size: 1}}
		a.GidMappings = []syscall.SysProcIDMap{{ContainerID: os.Getegid(), HostID: os.Getegid(), Size: 1}}
	}
}

// Apart says whether this kernel gives this process such namespaces. It is tried once.
var Apart = sync.OnceValue(func() bool {
	cmd := exec.Command("/bin/true")
	cmd.SysProcAttr = &syscall.SysProcAttr{}
	Namespaces(cmd.SysProcAttr)
	return cmd.Run() == nil
})
