//go:build amd64

package confine

import "golang.org/x/sys/unix"

const (
	arch     = unix.AUDIT_ARCH_X86_64
	otherABI = 0x40000000 // x32
)

// deniedHere are calls that this processor alone has.
var deniedHere = []uintptr{unix.SYS_IOPL, unix.SYS_IOPERM, unix.SYS_MODIFY_LDT, unix.SYS_USELIB, unix.SYS_KEXEC_FILE_LOAD}
