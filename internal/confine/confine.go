// Package confine takes rights away from the process that calls it, for good: before it runs what nobody here has read.
//
// Syscalls takes away the calls of the kernel by which a program could reach beyond what it was given (seccomp(2)); Files the opening of any file
// (landlock(7)); User makes it a user that owns nothing; Descriptors keeps what this process has open from what it starts. What a kernel does
// not have is an error: the caller decides whether it can do without.
package confine

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"runtime"
	"syscall"
	"unsafe"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"
)

// Offsets in struct seccomp_data (linux/seccomp.h), which the filter reads.
const (
	offNumber = 0
	offArch   = 4
	offArg0   = 16 // its lower half: little-endian
)

// denied are calls that no test needs: other processes' memory, keys of the kernel, mounts, namespaces, the kernel's own programs and queues,
// clocks, modules, and shared memory that no limit counts.
var denied = []uintptr{
	unix.SYS_PTRACE, unix.SYS_PROCESS_VM_READV, unix.SYS_PROCESS_VM_WRITEV, unix.SYS_KCMP, unix.SYS_PIDFD_GETFD, unix.SYS_PROCESS_MADVISE,
	unix.SYS_ADD_KEY, unix.SYS_REQUEST_KEY, unix.SYS_KEYCTL,
	unix.SYS_BPF, unix.SYS_PERF_EVENT_OPEN, unix.SYS_USERFAULTFD,
	unix.SYS_IO_URING_SETUP, unix.SYS_IO_URING_ENTER, unix.SYS_IO_URING_REGISTER,
	unix.SYS_MOUNT, unix.SYS_UMOUNT2, unix.SYS_PIVOT_ROOT, unix.SYS_CHROOT, unix.SYS_MOVE_MOUNT, unix.SYS_OPEN_TREE, unix.SYS_FSOPEN, unix.SYS_FSCONFIG, unix.SYS_FSMOUNT, unix.SYS_FSPICK, unix.SYS_MOUNT_SETATTR,
	unix.SYS_UNSHARE, unix.SYS_SETNS,
	unix.SYS_OPEN_BY_HANDLE_AT, unix.SYS_NAME_TO_HANDLE_AT, unix.SYS_QUOTACTL, unix.SYS_FANOTIFY_INIT,
	unix.SYS_INIT_MODULE, unix.SYS_FINIT_MODULE, unix.SYS_DELETE_MODULE, unix.SYS_KEXEC_LOAD, unix.SYS_REBOOT, unix.SYS_SWAPON, unix.SYS_SWAPOFF, unix.SYS_ACCT, unix.SYS_SYSLOG, unix.SYS_PERSONALITY,
	unix.SYS_SETTIMEOFDAY, unix.SYS_CLOCK_SETTIME, unix.SYS_CLOCK_ADJTIME, unix.SYS_ADJTIMEX, unix.SYS_SETHOSTNAME, unix.SYS_SETDOMAINNAME,
	unix.SYS_SHMGET, unix.SYS_MSGGET, unix.SYS_MQ_OPEN,
}

const (
	newNamespaces = unix.CLONE_NEWNS | unix.CLONE_NEWCGROUP | unix.CLONE_NEWUTS | unix.CLONE_NEWIPC | unix.CLONE_NEWUSER | unix.CLONE_NEWPID | unix.CLONE_NEWNET
	refused       = unix.SECCOMP_RET_ERRNO | uint32(unix.EPERM)
	notThere      = unix.SECCOMP_RET_ERRNO | uint32(unix.ENOSYS)
	noFamily      = unix.SECCOMP_RET_ERRNO | uint32(unix.EAFNOSUPPORT)
)

// families are those of sockets that a program may make.
var families = []uint32{unix.AF_UNIX, unix.AF_INET, unix.AF_INET6, unix.AF_NETLINK}

// program is the filter. Sockets: whether any may be made.
func program(sockets bool) []bpf.Instruction {
	f := []bpf.Instruction{
		bpf.LoadAbsolute{Off: offArch, Size: 4},
		bpf.JumpIf{Cond: bpf.JumpEqual, Val: arch, SkipTrue: 1},
		bpf.RetConstant{Val: unix.SECCOMP_RET_KILL_PROCESS},
		bpf.LoadAbsolute{Off: offNumber, Size: 4},
	}
	no := func(number uintptr, answer uint32) {
		f = append(f, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: uint32(number), SkipTrue: 1}, bpf.RetConstant{Val: answer})
	}
	if otherABI != 0 { // calls of the same kernel under other numbers
		f = append(f, bpf.JumpIf{Cond: bpf.JumpLessThan, Val: otherABI, SkipTrue: 1}, bpf.RetConstant{Val: refused})
	}
	for _, number := range append(denied, deniedHere...) {
		no(number, refused)
	}
	no(unix.SYS_CLONE3, notThere) // its flags lie in memory, which a filter can't read; libraries go on with clone
	f = append(f,
		bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: uint32(unix.SYS_CLONE), SkipTrue: 4},
		bpf.LoadAbsolute{Off: offArg0, Size: 4},
		bpf.JumpIf{Cond: bpf.JumpBitsNotSet, Val: newNamespaces, SkipTrue: 1},
		bpf.RetConstant{Val: refused},
		bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW})
	if !sockets {
		no(unix.SYS_SOCKET, refused)
		no(unix.SYS_SOCKETPAIR, refused)
		return append(f, bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW})
	}
	f = append(f, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: uint32(unix.SYS_SOCKET), SkipTrue: uint8(2 + 2*len(families))}, bpf.LoadAbsolute{Off: offArg0, Size: 4})
	for _, family := range families {
		f = append(f, bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: family, SkipTrue: 1}, bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW})
	}
	return append(f, bpf.RetConstant{Val: noFamily}, bpf.RetConstant{Val: unix.SECCOMP_RET_ALLOW})
}

// Syscalls takes away calls of the kernel, from all threads of this process and from what it starts. Sockets: whether any may be made from now on.
func Syscalls(sockets bool) error {
	raw, err := bpf.Assemble(program(sockets))
	if err != nil {
		return err
	}
	code := make([]unix.SockFilter, len(raw))
	for i, r := range raw {
		code[i] = unix.SockFilter{Code: r.Op, Jt: r.Jt, Jf: r.Jf, K: r.K}
	}
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	if err := unix.Prctl(unix.PR_SET_NO_NEW_PRIVS, 1, 0, 0, 0); err != nil {
		return fmt.Errorf("no new rights: %w", err)
	}
	of := unix.SockFprog{Len: uint16(len(code)), Filter: &code[0]}
	_, _, errno := unix.Syscall(unix.SYS_SECCOMP, unix.SECCOMP_SET_MODE_FILTER, unix.SECCOMP_FILTER_FLAG_TSYNC, uintptr(unsafe.Pointer(&of)))
	runtime.KeepAlive(code)
	if errno != 0 {
		return fmt.Errorf("filter the calls of the kernel: %w", errno)
	}
	return nil
}

// rights are all that Landlock's first version can take away (linux/landlock.h); later ones have more.
const rights = unix.LANDLOCK_ACCESS_FS_MAKE_SYM<<1 - 1

// Files takes away the opening, reading, making, removing and starting of any file, from all threads.
func Files() error {
	attr := unix.LandlockRulesetAttr{Handled_access_fs: rights}
	fd, _, errno := unix.Syscall(unix.SYS_LANDLOCK_CREATE_RULESET, uintptr(unsafe.Pointer(&attr)), unsafe.Sizeof(attr.Handled_access_fs), 0)
	if errno != 0 {
		return fmt.Errorf("take away files: %w", errno)
	}
	defer unix.Close(int(fd))
	if _, _, errno := syscall.AllThreadsSyscall(unix.SYS_PRCTL, unix.PR_SET_NO_NEW_PRIVS, 1, 0); errno != 0 {
		return fmt.Errorf("no new rights: %w", errno)
	}
	if _, _, errno := syscall.AllThreadsSyscall(unix.SYS_LANDLOCK_RESTRICT_SELF, fd, 0, 0); errno != 0 {
		return fmt.Errorf("take away files: %w", errno)
	}
	return nil
}

// Users that own nothing: above those that systems give away, and below those of a user namespace's maps.
const (
	firstUser = 1_900_000_000
	users     = 90_000_000
)

// NewUser gives a user that owns nothing; two are hardly ever the same.
func NewUser() int { return firstUser + rand.IntN(users) }

// User becomes a user that owns nothing, where this process is root's. It still ends with the process that started it: the kernel forgets that wish of
// whoever becomes another user (PR_SET_PDEATHSIG(2const)), so it is made again. The goroutine keeps its thread from then on, whose wish it is.
func User() error {
	if syscall.Geteuid() != 0 {
		return nil
	}
	id, parent := NewUser(), os.Getppid()
	runtime.LockOSThread()
	err := errors.Join(syscall.Setgroups(nil), syscall.Setresgid(id, id, id), syscall.Setresuid(id, id, id), unix.Prctl(unix.PR_SET_PDEATHSIG, uintptr(unix.SIGKILL), 0, 0, 0))
	if os.Getppid() != parent { // it has died in between
		os.Exit(1)
	}
	return err
}

// Descriptors keeps all that is open here, but for the first three, from what is started.
func Descriptors() error { return unix.CloseRange(3, math.MaxUint32, unix.CLOSE_RANGE_CLOEXEC) }
