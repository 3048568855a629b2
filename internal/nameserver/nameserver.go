// Package nameserver is a small DNS server that stands in for one (RFC 1035): every host is this machine, and it has the TXT records that
// were put into it.
package nameserver

import (
	"net"
	"strings"
	"sync"

	"golang.org/x/net/dns/dnsmessage"
)

// Server is a running one. It is safe for concurrent use.
type Server struct {
	socket net.PacketConn
	mu     sync.Mutex
	texts  map[string]string
}

// Start starts one on a free port of loopback.
func Start() (*Server, error) {
	socket, err := net.ListenPacket("udp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	s := &Server{socket: socket, texts: map[string]string{}}
	go s.serve()
	return s, nil
}

// Address is where it is, as host and port.
func (s *Server) Address() string { return s.socket.LocalAddr().String() }

// Stop ends it.
func (s *Server) Stop() { _ = s.socket.Close() }

// Put makes a text the TXT record of a name, and the only one.
func (s *Server) Put(name, text string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.texts[strings.ToLower(name)+"."] = text
}

// Remove takes the TXT record of a name away.
func (s *Server) Remove(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.texts, strings.ToLower(name)+".")
}

// Len is how many TXT records there are.
func (s *Server) Len() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	return len(s.texts)
}

func (s *Server) serve() {
	buffer := make([]byte, 4096)
	for {
		length, from, err := s.socket.ReadFrom(buffer)
		if err != nil {
			return
		}
		var asked dnsmessage.Message
		if asked.Unpack(buffer[:length]) != nil || len(asked.Questions) != 1 {
			continue
		}
		if packed, err := s.answer(asked).Pack(); err == nil {
			_, _ = s.socket.WriteTo(packed, from)
		}
	}
}

func (s *Server) answer(asked dnsmessage.Message) *dnsmessage.Message {
	q := asked.Questions[0]
	answer := &dnsmessage.Message{Questions: asked.Questions,
		Header: dnsmessage.Header{ID: asked.ID, Response: true, RecursionAvailable: true}}
	head := dnsmessage.ResourceHeader{Name: q.Name, Type: q.Type, Class: q.Class, TTL: 1}
	s.mu.Lock()
	text, known := s.texts[strings.ToLower(q.Name.String())]
	s.mu.Unlock()
	switch {
	case q.Type == dnsmessage.TypeA:
		answer.Answers = []dnsmessage.Resource{{Header: head, Body: &dnsmessage.AResource{A: [4]byte{127, 0, 0, 1}}}}
	case q.Type == dnsmessage.TypeTXT && known:
		answer.Answers = []dnsmessage.Resource{{Header: head, Body: &dnsmessage.TXTResource{TXT: []string{text}}}}
	}
	return answer
}
