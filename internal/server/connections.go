package server

import (
	"log/slog"
	"net"
	"sync"
	"syscall"
	"time"

	"tansu/internal/core/throttle"
)

// connections is a listener that bounds how many connections there are at once, in all and from one network: whoever opens them by the
// thousand and says nothing keeps others waiting no longer than it takes to turn one away.
type connections struct {
	net.Listener
	log  *slog.Logger
	most int // in all
	each int // from one network, see [throttle.Neighbours]

	mu     sync.Mutex
	open   int
	by     map[string]int
	turned int // turned away since that was logged last
	said   time.Time
}

// What files the service needs besides connections, how many connections are enough for anybody, and how often it is logged that some are
// turned away.
const (
	otherFiles      = 256
	mostConnections = 60_000
	saidEvery       = time.Minute
)

// limited bounds a listener by the number of files that the process may have open, so that it turns connections away itself, and says so,
// and never has none left for its own files.
func limited(listener net.Listener, log *slog.Logger) *connections {
	most := mostConnections
	var files syscall.Rlimit
	if err := syscall.Getrlimit(syscall.RLIMIT_NOFILE, &files); err == nil { // Go's runtime has raised it as far as it may
		most = min(most, max(int(min(files.Cur, 1<<20))-otherFiles, 16))
	}
	return &connections{Listener: listener, log: log, most: most, each: max(most/2, 8), by: map[string]int{}}
}

// Accept returns the next connection for which there is room.
func (l *connections) Accept() (net.Conn, error) {
	for {
		conn, err := l.Listener.Accept()
		if err != nil {
			return nil, err
		}
		host, _, _ := net.SplitHostPort(conn.RemoteAddr().String()) // it is one of the system's
		network := throttle.Neighbours(host)
		if l.enter(network) {
			return &connection{Conn: conn, left: sync.OnceFunc(func() { l.leave(network) })}, nil
		}
		_ = conn.Close()
	}
}

func (l *connections) enter(network string) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.open < l.most && l.by[network] < l.each {
		l.open++
		l.by[network]++
		return true
	}
	if l.turned++; time.Since(l.said) >= saidEvery {
		l.log.Warn("connections are turned away", "how_many", l.turned, "now_from", network, "open", l.open, "from_there", l.by[network],
			"most", l.most, "most_from_one_network", l.each)
		l.turned, l.said = 0, time.Now()
	}
	return false
}

func (l *connections) leave(network string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.open--
	if l.by[network]--; l.by[network] == 0 {
		delete(l.by, network)
	}
}

// connection tells its listener when it is closed.
type connection struct {
	net.Conn
	left func()
}

// Close closes it.
func (c *connection) Close() error {
	c.left()
	return c.Conn.Close()
}
