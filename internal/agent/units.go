package agent

import (
	"context"
	"encoding/base64"
	"net"
	"strings"
	"time"

	"tansu/internal/core/reference"
)

// unitTime is how long systemd is served.
const unitTime = 30 * time.Second

// unitRule lets a unit's items be asked for.
func unitRule(u Unit) *Rule {
	pattern, err := reference.ParsePattern(u.Drawer + "/**")
	if err != nil {
		panic(err) // the name was checked
	}
	return &Rule{Profile: u.Profile, References: []string{u.Drawer}, patterns: []reference.Pattern{pattern}}
}

// serveUnits gives systemd what LoadCredential=NAME:SOCKET asks for (systemd.exec(5)): whoever connects is systemd itself, and
// says by the abstract name that it has bound its end to which unit wants which credential. The bytes are the answer.
func (a *Agent) serveUnits(ctx context.Context, units map[string]*served) {
	for {
		connection, err := a.units.Accept()
		if err != nil {
			return
		}
		a.work.Go(func() {
			defer func() { _ = connection.Close() }()
			_ = connection.SetDeadline(time.Now().Add(unitTime))
			a.serveUnit(ctx, connection, units)
		})
	}
}

func (a *Agent) serveUnit(ctx context.Context, connection net.Conn, units map[string]*served) {
	p, err := peerOf(connection)
	unit, name, is := unitOf(connection.RemoteAddr().String())
	if err != nil || p.UID != 0 {
		a.options.Log.Warn("refused a credential", "peer", p.String(), "unit", unit)
		return
	}
	s := units[unit]
	if !is || s == nil {
		a.options.Log.Warn("refused a credential", "peer", p.String(), "unit", unit)
		sayNo(connection)
		return
	}
	drawer := a.drawerOf(unit)
	v, err := a.read(ctx, s, Peer{UID: p.UID, PID: p.PID, Program: unit}, drawer+"/"+name)
	if err != nil {
		a.options.Log.Warn("a credential is not served", "unit", unit, "reference", drawer+"/"+name, "error", err)
		sayNo(connection)
		return
	}
	content, err := base64.StdEncoding.DecodeString(v.Value)
	if err != nil {
		sayNo(connection)
		return
	}
	_, _ = connection.Write(content)
	clear(content)
}

// mostCredential is the most that systemd takes as a credential, in bytes.
const mostCredential = 1 << 20

// sayNo makes the unit fail to start. The protocol has no word for it: an answer without a byte is an empty credential, with which the
// unit would be started. But a credential that is too large is refused by systemd.
func sayNo(connection net.Conn) { _, _ = connection.Write(make([]byte, mostCredential+1)) }

func (a *Agent) drawerOf(unit string) string {
	for _, u := range a.options.Config.Units {
		if u.Unit == unit {
			return u.Drawer
		}
	}
	return ""
}

// unitOf reads the name to which systemd binds its end: a random number, "/unit/", the unit, "/", and the credential.
func unitOf(address string) (unit, credential string, is bool) {
	_, rest, found := strings.Cut(strings.TrimPrefix(address, "@"), "/unit/")
	unit, credential, is = strings.Cut(rest, "/")
	return unit, credential, found && is && strings.HasPrefix(address, "@")
}
