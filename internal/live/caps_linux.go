package live

import (
	"syscall"
	"unsafe"

	"golang.org/x/sys/unix"
)

// capset sets the capabilities of all threads. Where that cannot be done, nothing is lost but the
// caution.
func capset(header *unix.CapUserHeader, data *[2]unix.CapUserData) {
	_, _, _ = syscall.AllThreadsSyscall(unix.SYS_CAPSET, uintptr(unsafe.Pointer(header)), uintptr(unsafe.Pointer(data)), 0)
}
