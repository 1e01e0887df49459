package remote

import (
	"errors"
	"net"
	"os"
	"path/filepath"

	"lumtra/client"

	"golang.org/x/sys/unix"
)

// listenPrivately listens on a socket that nobody else can open, not even for the
// moment before its permissions are set: it is made in a folder that only its owner
// can enter, and moved from there.
func listenPrivately(path string) (net.Listener, error) {
	dir, err := os.MkdirTemp(filepath.Dir(path), "s-") // with permissions 0700
	if err != nil {
		return nil, err
	}
	defer os.RemoveAll(dir)
	made := filepath.Join(dir, "s")
	short, done, err := client.SocketName(made)
	if err != nil {
		return nil, err
	}
	defer done()
	listener, err := net.ListenUnix("unix", &net.UnixAddr{Name: short, Net: "unix"})
	if err != nil {
		return nil, err
	}
	listener.SetUnlinkOnClose(false)
	if err := errors.Join(os.Chmod(made, 0o600), os.Rename(made, path)); err != nil {
		listener.Close()
		return nil, err
	}
	return &private{listener, path}, nil
}

// private is a socket for its owner: whoever else comes through, as the permissions
// of a folder above can be changed, is turned away.
type private struct {
	*net.UnixListener
	path string
}

// Accept waits for the next of our own processes.
func (p *private) Accept() (net.Conn, error) {
	for {
		conn, err := p.AcceptUnix()
		if err != nil {
			return nil, err
		}
		if user, err := peer(conn); err == nil && (user == os.Geteuid() || user == 0) {
			return conn, nil
		}
		conn.Close()
	}
}

// Close removes the socket, too.
func (p *private) Close() error {
	return errors.Join(p.UnixListener.Close(), os.Remove(p.path))
}

// peer is the user at the other end of a connection (unix(7), SO_PEERCRED).
func peer(conn *net.UnixConn) (user int, err error) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0, err
	}
	var cred *unix.Ucred
	controlled := raw.Control(func(fd uintptr) {
		cred, err = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET,
			unix.SO_PEERCRED)
	})
	if err = errors.Join(controlled, err); err != nil {
		return 0, err
	}
	return int(cred.Uid), nil
}
