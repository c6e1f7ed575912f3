package main

import "golang.org/x/sys/unix"

// wasClosed reports whether the program was started without a descriptor: the runtime opens /dev/null in its place, for reading and
// writing, which a shell that was told to write there does not.
func wasClosed(fd int) bool {
	var here, null unix.Stat_t
	flags, err := unix.FcntlInt(uintptr(fd), unix.F_GETFL, 0)
	return err == nil && flags&unix.O_ACCMODE == unix.O_RDWR && unix.Fstat(fd, &here) == nil && unix.Stat("/dev/null", &null) == nil && here.Rdev == null.Rdev && here.Mode == null.Mode
}
