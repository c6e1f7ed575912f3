package live

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

const (
	// maxAnswer bounds what is read of a gate's answer.
	maxAnswer = 32 << 20
	// maxAsking bounds how many ask a gate at a time.
	maxAsking = 16
)

// controlDirs are the folders in which a gate of this user says where it listens, the best first.
func controlDirs() (dirs []string) {
	if os.Geteuid() == 0 {
		dirs = append(dirs, systemDir)
	} else if run := os.Getenv("XDG_RUNTIME_DIR"); run != "" {
		dirs = append(dirs, filepath.Join(run, "imbrel"))
	}
	return append(dirs, filepath.Join(os.TempDir(), fmt.Sprintf("imbrel-%d", os.Geteuid())))
}

const systemDir = "/run/imbrel"

// ownDir makes a folder in which nobody else can write, or says why it is none.
func ownDir(dir string) error {
	if err := os.Mkdir(dir, 0o755); err != nil && !errors.Is(err, os.ErrExist) {
		return err
	}
	return trusted(dir, os.Geteuid())
}

// trusted reports whether a folder is one in which only a user can write.
func trusted(dir string, user int) error {
	i, err := os.Lstat(dir)
	if err != nil {
		return err
	}
	owner := int(i.Sys().(*syscall.Stat_t).Uid)
	if !i.IsDir() || owner != user || i.Mode().Perm()&0o022 != 0 {
		return fmt.Errorf("%s is not a folder in which only this user can write", dir)
	}
	return nil
}

// controlName is what a gate at an interface of this network namespace is called.
func controlName(device string) string {
	var s unix.Stat_t
	_ = unix.Stat("/proc/thread-self/ns/net", &s)
	return fmt.Sprintf("%s@%d", device, s.Ino)
}

// takeControl makes an interface that of this gate alone, and listens for those who ask it. The lock goes with the process. Where
// nobody can be listened to, that is said, and the gate runs all the same.
func takeControl(device string, log *slog.Logger) (lock *os.File, l net.Listener, err error) {
	var why error
	for _, dir := range controlDirs() {
		if err := ownDir(dir); err != nil {
			why = errors.Join(why, err)
			continue
		}
		name := filepath.Join(dir, controlName(device))
		lock, err := os.OpenFile(name+".lock", os.O_RDWR|os.O_CREATE|unix.O_NOFOLLOW, 0o600)
		if err != nil {
			why = errors.Join(why, err)
			continue
		}
		if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
			lock.Close()
			return nil, nil, fmt.Errorf("another gate has the interface %s: end it first, or change its file and run `imbrel gate reload %s`", device, device)
		}
		_ = os.Remove(name) // of a gate that was killed
		l, err := net.Listen("unix", name)
		if err != nil {
			lock.Close()
			why = errors.Join(why, err)
			continue
		}
		_ = os.Chmod(name, 0o600)
		return lock, l, nil
	}
	log.Warn(fmt.Sprintf("nobody can ask the gate at %s for anything, for it can listen nowhere: %v", device, why), "device", device)
	return nil, nil, nil
}

// serve answers those of the same user who ask.
func (r *runner) serve(l net.Listener) {
	places := make(chan struct{}, maxAsking)
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		places <- struct{}{}
		r.serving.Go(func() {
			defer func() {
				c.Close()
				<-places
			}()
			if user, ok := peer(c); !ok || user != 0 && user != os.Geteuid() {
				return
			}
			_ = c.SetReadDeadline(time.Now().Add(5 * time.Second))
			line, err := bufio.NewReader(io.LimitReader(c, 100)).ReadString('\n')
			if err != nil {
				return
			}
			answer := r.answer(strings.TrimSpace(line))
			_ = c.SetWriteDeadline(time.Now().Add(10 * time.Second))
			_, _ = c.Write(answer)
		})
	}
}

// peer returns the user at the other end.
func peer(c net.Conn) (user int, ok bool) {
	raw, err := c.(*net.UnixConn).SyscallConn()
	if err != nil {
		return 0, false
	}
	_ = raw.Control(func(fd uintptr) {
		if u, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED); err == nil {
			user, ok = int(u.Uid), true
		}
	})
	return user, ok
}

// Ask asks the gate that has an interface, one of this user or of root.
func Ask(device, what string) ([]byte, error) {
	var denied error
	for _, dir := range append(controlDirs(), systemDir) {
		c, err := net.DialTimeout("unix", filepath.Join(dir, controlName(device)), time.Second)
		if errors.Is(err, os.ErrPermission) {
			denied = fmt.Errorf("the gate at %s is another user's: ask as that user, or as root", device)
		}
		if err != nil {
			continue
		}
		defer c.Close()
		if user, ok := peer(c); !ok || user != 0 && user != os.Geteuid() {
			denied = fmt.Errorf("who answers for %s is neither this user nor root, and is not asked", device)
			continue
		}
		return ask(c, device, what)
	}
	if denied != nil {
		return nil, denied
	}
	return nil, fmt.Errorf("no gate has the interface %s here", device)
}

func ask(c net.Conn, device, what string) ([]byte, error) {
	_ = c.SetDeadline(time.Now().Add(60 * time.Second))
	if _, err := io.WriteString(c, what+"\n"); err != nil {
		return nil, fmt.Errorf("the gate at %s does not listen: %w", device, err)
	}
	answer, err := io.ReadAll(io.LimitReader(c, maxAnswer+1))
	if err != nil {
		return nil, fmt.Errorf("the gate at %s does not answer: %w", device, err)
	}
	if len(answer) > maxAnswer {
		return nil, fmt.Errorf("the answer of the gate at %s is longer than a gate's can be", device)
	}
	if text, failed := bytes.CutPrefix(answer, []byte("error ")); failed {
		return nil, errors.New(string(text))
	}
	if len(answer) == 0 {
		return nil, fmt.Errorf("the gate at %s does not answer to this user", device)
	}
	return answer, nil
}
