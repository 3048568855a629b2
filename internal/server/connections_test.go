package server

import (
	"bytes"
	"log/slog"
	"net"
	"strings"
	"testing"
)

// Whoever holds connections open gets as many as there are for one network, others still come in, and it is said.
func TestConnectionsAreBounded(t *testing.T) {
	inner, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	var log bytes.Buffer
	l := limited(inner, slog.New(slog.NewTextHandler(&log, nil)))
	l.most, l.each = 4, 2
	defer func() { _ = l.Close() }()
	accepted := make(chan net.Conn)
	go func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				close(accepted)
				return
			}
			accepted <- conn
		}
	}()
	dial := func() net.Conn {
		t.Helper()
		conn, err := net.Dial("tcp", inner.Addr().String())
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { _ = conn.Close() })
		return conn
	}
	dial()
	dial()
	first, second := <-accepted, <-accepted
	turned := dial()
	if _, err := turned.Read(make([]byte, 1)); err == nil {
		t.Error("a third connection is not turned away")
	}
	if !l.enter("192.0.2.1") {
		t.Error("somebody else does not come in")
	}
	_ = first.Close()
	_ = first.Close() // which counts once
	dial()
	_ = (<-accepted).Close()
	_ = second.Close()
	if l.leave("192.0.2.1"); l.open != 0 || len(l.by) != 0 {
		t.Errorf("%d are counted after all have left: %v", l.open, l.by)
	}
	_ = l.Close()
	<-accepted
	if !strings.Contains(log.String(), "connections are turned away") {
		t.Errorf("the log says %q", log.String())
	}
}
