//go:build unix

package files

import (
	"io/fs"
	"os"
	"syscall"
)

// ownership returns how many names a file has, and what gives another its owner.
func ownership(info fs.FileInfo) (links uint64, keep func(*os.File) error) {
	s, ok := info.Sys().(*syscall.Stat_t)
	if !ok {
		return 1, nil
	}
	return uint64(s.Nlink), func(f *os.File) error {
		now, err := f.Stat()
		if err != nil {
			return err
		}
		if n := now.Sys().(*syscall.Stat_t); n.Uid == s.Uid && n.Gid == s.Gid {
			return nil
		}
		if f.Chown(int(s.Uid), int(s.Gid)) != nil {
			return errOwner
		}
		return nil
	}
}
