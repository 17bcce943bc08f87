package control

import (
	"log/slog"
	"net"
	"os"

	"golang.org/x/sys/unix"
)

// ownUsers accepts connections of processes of this user, and of root, alone.
type ownUsers struct{ net.Listener }

// Accept gives the next connection of somebody who may act on the field.
func (l ownUsers) Accept() (net.Conn, error) {
	for {
		conn, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		if uid, err := peerOf(conn); err == nil && (uid == os.Geteuid() || uid == 0) {
			return conn, nil
		} else {
			slog.Warn("somebody else was turned away at the socket", "uid", uid, "error", err)
		}
		conn.Close()
	}
}

// peerOf gives the user of the process at the other end of a Unix socket.
func peerOf(conn net.Conn) (uid int, err error) {
	raw, err := conn.(*net.UnixConn).SyscallConn()
	if err != nil {
		return -1, err
	}
	uid = -1
	failed := raw.Control(func(fd uintptr) {
		var cred *unix.Ucred
		if cred, err = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED); err == nil {
			uid = int(cred.Uid)
		}
	})
	if failed != nil {
		err = failed
	}
	return uid, err
}
