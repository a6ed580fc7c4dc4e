package httpproxy

import (
	"errors"
	"net"
	"os"

	"golang.org/x/sys/unix"
)

// descriptors returns how many the process may have open. Go raises it to what the system allows when it starts.
func descriptors() int64 {
	var limit unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &limit); err != nil {
		return 1024
	}
	return int64(min(limit.Cur, 1<<20))
}

// waiting waits until there is something to read, and returns how many bytes; 0 at the end.
func waiting(conn *net.TCPConn) (n int64, err error) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0, err
	}
	var failed error
	err = raw.Read(func(fd uintptr) bool {
		var first [1]byte
		got, _, err := unix.Recvfrom(int(fd), first[:], unix.MSG_PEEK|unix.MSG_DONTWAIT)
		for errors.Is(err, unix.EINTR) {
			got, _, err = unix.Recvfrom(int(fd), first[:], unix.MSG_PEEK|unix.MSG_DONTWAIT)
		}
		switch {
		case errors.Is(err, unix.EAGAIN):
			return false
		case err != nil:
			failed = os.NewSyscallError("recvfrom", err)
			return true
		case got == 0:
			return true
		}
		all, err := unix.IoctlGetInt(int(fd), unix.TIOCINQ)
		n, failed = max(1, int64(all)), os.NewSyscallError("ioctl", err)
		return true
	})
	return n, errors.Join(err, failed)
}
