//go:build arm64

package confine

import "golang.org/x/sys/unix"

const (
	arch     = unix.AUDIT_ARCH_AARCH64
	otherABI = 0
)

// deniedHere are calls that this processor alone has.
var deniedHere = []uintptr{unix.SYS_KEXEC_FILE_LOAD}
