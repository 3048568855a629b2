package agent

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os"
	"os/user"
	"strconv"

	"golang.org/x/sys/unix"
)

// Peer is who asks, as the kernel says.
type Peer struct {
	UID     uint32
	PID     int32
	Program string // the file that the process runs; empty when that cannot be seen
}

// String is how people and the trail name a peer.
func (p Peer) String() string {
	name := strconv.FormatUint(uint64(p.UID), 10)
	if found, err := user.LookupId(name); err == nil {
		name = found.Username
	}
	if p.Program == "" {
		return "user " + name
	}
	return "user " + name + ", " + p.Program
}

// peerOf asks the kernel who is at the other end. The user is who connected, whatever becomes of the process; the program is
// looked up while the connection is new, and is no more than a further restriction: who may run as that user may run the program.
func peerOf(connection net.Conn) (p Peer, err error) {
	socket, is := connection.(*net.UnixConn)
	if !is {
		return p, errors.New("not a Unix socket")
	}
	raw, err := socket.SyscallConn()
	if err != nil {
		return p, err
	}
	var credentials *unix.Ucred
	if failed := raw.Control(func(descriptor uintptr) {
		credentials, err = unix.GetsockoptUcred(int(descriptor), unix.SOL_SOCKET, unix.SO_PEERCRED)
	}); failed != nil || err != nil {
		return p, errors.Join(failed, err)
	}
	p = Peer{UID: credentials.Uid, PID: credentials.Pid}
	p.Program, _ = os.Readlink(fmt.Sprintf("/proc/%d/exe", p.PID)) // what cannot be seen matches no rule with a program
	return p, nil
}

type peerKey struct{}

func withPeer(ctx context.Context, connection net.Conn) context.Context {
	p, err := peerOf(connection)
	if err != nil {
		return ctx
	}
	return context.WithValue(ctx, peerKey{}, p)
}

func peerIn(ctx context.Context) (p Peer, known bool) {
	p, known = ctx.Value(peerKey{}).(Peer)
	return p, known
}
