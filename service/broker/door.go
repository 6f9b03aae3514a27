package broker

import (
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"time"

	"github.com/nats-io/nats.go"
)

// The workers of the service's machine come in by a socket in the data folder, which
// only its owner can open; so that no port is open for them.

const doorName = "door"

// at calls do with a path to a file of the folder that is short enough for a socket's
// address (unix(7): 108 bytes), however long the folder's own is.
func at[T any](dir, name string, do func(string) (T, error)) (out T, err error) {
	folder, err := os.Open(dir)
	if err != nil {
		return out, err
	}
	defer folder.Close()
	return do(fmt.Sprintf("/proc/self/fd/%d/%s", folder.Fd(), name))
}

func openDoor(dir string) (net.Listener, error) {
	if err := os.Remove(filepath.Join(dir, doorName)); err != nil && !os.IsNotExist(err) {
		return nil, err
	}
	return at(dir, doorName, func(name string) (net.Listener, error) {
		l, err := net.ListenUnix("unix", &net.UnixAddr{Name: name, Net: "unix"})
		if err != nil {
			return nil, err
		}
		l.SetUnlinkOnClose(false) // its path is gone by then; the next one removes it
		return l, os.Chmod(name, 0o600)
	})
}

// letIn joins each connection to the server, until the door is closed.
func (s *Server) letIn() {
	for {
		outside, err := s.door.Accept()
		if err != nil {
			return
		}
		inside, err := s.server.InProcessConn()
		if err != nil {
			outside.Close()
			continue
		}
		go pass(inside, outside)
		go pass(outside, inside)
	}
}

func pass(to, from net.Conn) {
	_, _ = io.CopyBuffer(struct{ io.Writer }{to}, from, make([]byte, 64<<10)) // an end is an end
	to.Close()
	from.Close()
}

// dialer dials the door of a folder, whatever address it is asked for.
type dialer struct{ dir string }

func (d dialer) Dial(string, string) (net.Conn, error) {
	return at(d.dir, doorName, func(name string) (net.Conn, error) {
		ctx, stop := context.WithTimeout(context.Background(), 5*time.Second)
		defer stop()
		return new(net.Dialer).DialContext(ctx, "unix", name)
	})
}

// Enter connects to the server of a folder by its door, from another process of the
// same machine. The connection is made again whenever it breaks.
func Enter(dir string, options ...nats.Option) (*nats.Conn, error) {
	key, err := keyOf(dir)
	if err != nil {
		return nil, err
	}
	return nats.Connect("nats://door:1", append(options, nats.SetCustomDialer(dialer{dir}), nats.UserInfo(insider, key))...)
}
