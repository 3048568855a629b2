package outlet

import (
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"net/url"
	"os"
	"strings"
	"time"

	"tansu/internal/addressed"
	"tansu/internal/core/trail"
)

// syslog sends each entry as a message of RFC 5424 over a stream, with octet counting (RFC 6587, section 3.4.1), inside TLS
// (RFC 5425). A stream has no receipts: what was on its way when the connection broke may be lost or come twice.
type syslog struct {
	address string
	config  *tls.Config // nil for no TLS
	host    string
	origin  string
	conn    net.Conn
}

const dialTime = 10 * time.Second

func newSyslog(address *url.URL, origin string) (*syslog, error) {
	if address.Port() == "" {
		return nil, errors.New("say the port, such as :6514")
	}
	s := &syslog{address: address.Host, origin: origin}
	if s.host, _ = os.Hostname(); s.host == "" {
		s.host = "-"
	}
	if address.Scheme == "syslog" {
		s.config = &tls.Config{MinVersion: tls.VersionTLS12, ServerName: address.Hostname()}
		var err error
		if s.config.RootCAs, err = addressed.Authority(address); err != nil {
			return nil, err
		}
	}
	return s, nil
}

func (s *syslog) send(ctx context.Context, entries []Entry) error {
	var messages []string
	for _, e := range entries {
		messages = append(messages, s.message(e))
	}
	return s.write(ctx, messages)
}

// write sends messages, within dialTime for all of it: to connect, to shake hands and to write. It ends at once with its context.
func (s *syslog) write(ctx context.Context, messages []string) error {
	ctx, cancel := context.WithTimeout(ctx, dialTime)
	defer cancel()
	if s.conn == nil {
		conn, err := s.dial(ctx)
		if err != nil {
			return err
		}
		s.conn = conn
	}
	var text strings.Builder
	for _, message := range messages {
		fmt.Fprintf(&text, "%d %s", len(message), message)
	}
	conn := s.conn
	deadline, _ := ctx.Deadline()
	err := conn.SetDeadline(deadline)
	if err == nil {
		ends := context.AfterFunc(ctx, func() { _ = conn.SetDeadline(time.Unix(1, 0)) }) // whoever stops waits for no write
		_, err = conn.Write([]byte(text.String()))
		ends()
	}
	if err != nil {
		s.close()
	}
	return err
}

func (s *syslog) dial(ctx context.Context) (net.Conn, error) {
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", s.address)
	if err != nil || s.config == nil {
		return conn, err
	}
	secure := tls.Client(conn, s.config)
	if err := secure.HandshakeContext(ctx); err != nil {
		return nil, errors.Join(err, conn.Close())
	}
	return secure, nil
}

// The facility "log audit" of RFC 5424, section 6.2.1, and the severities that are used.
const (
	logAudit      = 13
	warning       = 4
	notice        = 5
	informational = 6
)

// message writes one message. The entry is its text: it is JSON, in which control characters are escaped.
func (s *syslog) message(entry Entry) string {
	severity, at := informational, "-"
	if e, err := trail.Decode([]byte(entry.Body)); err == nil {
		at = trail.FormatTime(e.At)
		switch e.Outcome {
		case trail.Refused:
			severity = notice
		case trail.Failed:
			severity = warning
		}
	}
	return s.head(severity, at, "trail", entry.Seq, s.origin) + entry.Body
}

// head is what comes before the text of a message. 32473 is the number that RFC 5612 has for examples: there is no
// registered one.
func (s *syslog) head(severity int, at, kind string, seq uint64, origin string) string {
	return fmt.Sprintf(`<%d>1 %s %s tansu - %s [tansu@32473 seq="%d" origin="%s"] `, logAudit*8+severity, at, s.host, kind, seq, origin)
}

// SyslogWitness sends each checkpoint to a syslog server, with its size as the number. It cannot be asked what it saw: an
// auditor takes that out of the log, and verifies an export with it.
type SyslogWitness struct {
	name string
	to   *syslog
}

// OpenSyslogWitness makes one of what an operator names: syslog://HOST:PORT, or syslog+tcp://HOST:PORT on this machine.
func OpenSyslogWitness(name string) (*SyslogWitness, error) {
	o, err := Open(name, "", "", nil)
	if err != nil {
		return nil, err
	}
	to, is := o.receiver.(*syslog)
	if !is {
		return nil, fmt.Errorf("%s is not a syslog server", name)
	}
	return &SyslogWitness{name, to}, nil
}

func (w *SyslogWitness) String() string { return "the witness " + w.name }

// Keep sends a checkpoint. The text of the message is the signed note as a JSON string, because it has several lines.
func (w *SyslogWitness) Keep(note string) error {
	point, err := trail.ReadUnverified(note)
	if err != nil {
		return err
	}
	text, err := json.Marshal(note)
	if err != nil {
		return err
	}
	message := w.to.head(notice, trail.FormatTime(point.At), "checkpoint", point.Size, point.Origin) + string(text)
	return w.to.write(context.Background(), []string{message})
}

// Last knows nothing.
func (w *SyslogWitness) Last() (string, error) { return "", nil }

func (s *syslog) close() {
	if s.conn != nil {
		_ = s.conn.Close()
		s.conn = nil
	}
}
