// Package server runs a chest: it opens the data directory, listens, and stops so that nothing acknowledged is lost.
package server

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"time"

	"tansu/internal/acme"
	"tansu/internal/backup"
	"tansu/internal/chest"
	"tansu/internal/core/envelope"
	"tansu/internal/core/secretvalue"
	"tansu/internal/core/trail"
	"tansu/internal/datadir"
	"tansu/internal/hardware"
	"tansu/internal/httpapi"
	"tansu/internal/issuer"
	"tansu/internal/opening"
	"tansu/internal/outlet"
	"tansu/internal/record"
	"tansu/internal/recovery"
	"tansu/internal/service"
	"tansu/internal/store"
)

// Transport is how clients reach the service.
type Transport int

// The transports.
const (
	TLS       Transport = iota // with the chest's own authority
	PlainHTTP                  // on loopback only
)

// Options of a server.
type Options struct {
	Dir          string
	Listen       string // host:port
	Transport    Transport
	Hosts        []string // more names that clients reach it by, with a port where a tunnel ends; in the certificate from the next unlock on
	KeyFile      string   // unlocks at start; empty to stay locked
	Console      http.Handler
	Log          *slog.Logger
	Version      string
	Now          func() time.Time // nil for the machine's clock
	Witnesses    []record.Witness
	ArchiveAfter time.Duration // how long entries stay in the database; 0 for ever
	Restored     bool          // unlock although the trail is not what it was
	TrustClock   bool          // although what is recorded is of a later time
	// IssuerNetworks are networks, besides the public Internet, in which issuers may be.
	IssuerNetworks []netip.Prefix
	// How ACME clients are looked at when they prove a name: the DNS server that is asked, as host and port, empty for the machine's own; and
	// the ports, 0 for 80 and 443.
	ACMEResolver              string
	ACMEHTTPPort, ACMETLSPort int
	Outlets                   []string // where the trail is passed on to: see package outlet
	Backup                    recovery.Options
	Tokens                    map[string]string // PKCS #11 URIs of tokens that keep master keys, by name
}

// Server is a running chest.
type Server struct {
	Service     *service.Service
	store       *store.Store
	options     Options
	listener    net.Listener
	http        *http.Server
	certificate atomic.Pointer[tls.Certificate]
	issuers     *issuer.Known
	failed      chan error
	endBackups  func()
	backing     sync.WaitGroup
	looked      time.Time     // when it was looked whether the certificate is due
	quit, kept  chan struct{} // end the upkeep, and say that it has ended
	outlets     atomic.Pointer[outlet.Running]
	stop        sync.Once
	stopped     error
}

// Limits of a connection. An answer is small, so that a client that takes longer than this to read it is gone.
const (
	headerTimeout = 10 * time.Second
	readTimeout   = 30 * time.Second
	writeTimeout  = 60 * time.Second
	idleTimeout   = 120 * time.Second
	stopTimeout   = 5 * time.Second
	maxHeader     = 16 << 10
)

// Start opens the chest and listens. The chest is locked unless a key file is given.
func Start(o Options) (*Server, error) {
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	if err := checkListen(o); err != nil {
		return nil, err
	}
	records, err := open(o)
	if err != nil {
		return nil, err
	}
	if err := records.RemoveCopies(time.Now().Add(-datadir.KeepCopies)); err != nil {
		o.Log.Warn("old copies stay", "error", err)
	}
	if u := records.Upgraded; u != nil {
		o.Log.Info("the database was brought up to date", "from_schema", u.From, "to_schema", u.To, "copy_of_how_it_was", u.Copy,
			"kept_until", time.Now().Add(datadir.KeepCopies).Format(time.DateOnly))
	}
	s := &Server{store: records, options: o, issuers: issuer.New(), failed: make(chan error, 1)}
	s.issuers.Networks = o.IssuerNetworks
	if err := s.start(); err != nil {
		if s.Service != nil { // what was begun behind the scenes ends before the file is closed under it
			s.Service.Stop()
		}
		_ = records.Close()
		return nil, err
	}
	return s, nil
}

// open opens the data directory. One that is started as restored has a trail with each number once before anybody looks at it.
func open(o Options) (*store.Store, error) {
	records, err := store.Open(o.Dir)
	if err != nil || !o.Restored {
		return records, err
	}
	if err := records.Close(); err != nil {
		return nil, err
	}
	var known []uint64
	for _, w := range o.Witnesses {
		note, err := w.Last()
		if err != nil || note == "" {
			continue
		}
		if point, err := trail.ReadUnverified(note); err == nil { // whether it is good is seen with the key
			known = append(known, point.Size)
		}
	}
	mended, err := backup.Mend(o.Dir, known, time.Now())
	if err != nil {
		return nil, err
	}
	if mended.Skipped > 0 {
		o.Log.Warn("entries of the trail are lost", "kept", mended.Kept, "numbers_not_used_again", mended.Skipped)
	}
	return store.Open(o.Dir)
}

// backups are what is to be done by itself.
func (s *Server) backups() recovery.Options {
	o := s.options.Backup
	o.Dir = s.options.Dir
	return o
}

// spareProcessor lets one more goroutine run than there are processors: a commit waits for the disk in a system call, which keeps a
// place in Go's scheduler until somebody notices. It made a read at 64 connections cost a seventh less and its p99 a third. Whoever sets
// GOMAXPROCS decides for themselves.
func spareProcessor() {
	if os.Getenv("GOMAXPROCS") == "" && runtime.GOMAXPROCS(0) == runtime.NumCPU() {
		runtime.GOMAXPROCS(runtime.NumCPU() + 1)
	}
}

func (s *Server) start() (err error) {
	spareProcessor()
	s.Service, err = service.New(s.store, service.Options{Now: s.options.Now, Log: s.options.Log, OnUnlock: s.renew,
		Names: s.names, IssuerKeys: s.issuers.Keys, IssuerHosts: s.issuers.AllowsHost, IsHere: s.isHere, Witnesses: s.options.Witnesses,
		Restored: s.options.Restored, TrustClock: s.options.TrustClock,
		ArchiveAfter: s.options.ArchiveAfter, Outlets: s.followers, Recovery: s.backups(), Tokens: s.options.Tokens})
	var pathError *fs.PathError
	if errors.As(err, &pathError) {
		return err
	}
	if err != nil {
		return &datadir.Error{Dir: s.options.Dir, Problem: "holds an initialisation that did not finish",
			Remedy: "remove the directory and run tansu init again", Err: err}
	}
	if missing := s.store.Missing(); len(missing) == 0 {
		if err := s.loadCertificate(); err != nil {
			return err
		}
	} else if s.options.KeyFile == "" {
		return &datadir.Error{Dir: s.options.Dir, Problem: strings.Join(missing, ", ") + " missing, without which nobody can connect",
			Remedy: "put them back from a backup, or make them anew: tansu renew-certificate --dir " + s.options.Dir}
	}
	if s.options.KeyFile != "" {
		if err := s.unlockWith(s.options.KeyFile); err != nil && !s.mayWait(err) {
			return err
		} else if err != nil {
			s.Service.StartedLocked(err)
		}
	}
	var outlets []*outlet.Outlet
	for _, name := range s.options.Outlets {
		o, err := outlet.Open(name, s.Service.Origin(), s.options.Dir, s.Service.SignDelivery)
		if err != nil {
			return err
		}
		outlets = append(outlets, o)
	}
	if err := s.listen(); err != nil {
		return err
	}
	s.outlets.Store(outlet.Run(outlets, s.store, s.options.Log))
	s.keepUp()
	s.keepBackups()
	return nil
}

// followers tells how far the outlets are.
func (s *Server) followers() (list []record.Follower) {
	if running := s.outlets.Load(); running != nil {
		for _, state := range running.States() {
			list = append(list, record.Follower(state))
		}
	}
	return list
}

// upkeepEvery is how often a checkpoint is signed while entries come: what was recorded since the last one could be cut
// off without a trace by whoever writes the file of a chest that was killed.
const upkeepEvery = 10 * time.Second

// keepUp lets the service do what is due from time to time, until the server stops.
func (s *Server) keepUp() {
	s.quit, s.kept = make(chan struct{}), make(chan struct{})
	go func() {
		defer close(s.kept)
		tick, limit := time.NewTicker(upkeepEvery), time.NewTicker(limitEvery)
		defer tick.Stop()
		defer limit.Stop()
		for {
			select {
			case <-limit.C:
				limitMemory()
			case <-tick.C:
				s.Upkeep()
			case <-s.quit:
				return
			}
		}
	}()
}

// keepBackups makes backups when they are due, and rehearses restoring them, until the server stops.
func (s *Server) keepBackups() {
	ctx, cancel := context.WithCancel(context.Background())
	s.endBackups = func() {
		cancel()
		s.backing.Wait()
	}
	if s.options.Backup.To == nil {
		return
	}
	s.backing.Go(func() {
		tick := time.NewTicker(upkeepEvery)
		defer tick.Stop()
		for {
			s.Service.MakeDue(ctx)
			select {
			case <-tick.C:
			case <-ctx.Done():
				return
			}
		}
	})
}

// Upkeep does what is due from time to time. It is not called by two at a time.
func (s *Server) Upkeep() {
	s.Service.Upkeep()
	if st, now := s.Service.Heart.Newest(), s.Service.Heart.Now(); st != nil && now.Sub(s.looked) >= time.Hour {
		s.looked = now
		s.renew(st.Root()) // it may end while the service runs
	}
}

// checkListen refuses plain HTTP anywhere but on this machine.
func checkListen(o Options) error {
	host, _, err := net.SplitHostPort(o.Listen)
	if err != nil {
		return fmt.Errorf("the address to listen on, %q, is not of the form host:port", o.Listen)
	}
	if o.Transport != PlainHTTP || host == "localhost" {
		return nil
	}
	if ip := net.ParseIP(host); ip == nil || !ip.IsLoopback() {
		return fmt.Errorf("plain HTTP is only for loopback, and %q is not: leave out --plain-http, or listen on 127.0.0.1", o.Listen)
	}
	return nil
}

// mayWait reports whether a chest that the key file did not open can be opened by people: who holds another method can reach it only while
// the service runs. What keeps the chest itself from opening, such as rows that were changed, still ends the start.
func (s *Server) mayWait(err error) bool {
	var answer *chest.Error
	opens := errors.As(err, &answer) && answer.Code != chest.WrongMaterial
	return !opens && s.certificate.Load() != nil && len(s.Service.Status().Methods) > 1
}

func (s *Server) unlockWith(file string) error {
	material, err := ReadKeyFile(file)
	if err != nil {
		return err
	}
	defer material.Wipe()
	if err := s.Service.Unlock(chest.Origin{Addr: "local", RequestID: "start"}, material); err != nil {
		return fmt.Errorf("unlock with %s: %w", file, err)
	}
	return nil
}

// ReadKeyFile reads unlock material and refuses a file that others can read. What is sealed by hardware is opened by it.
func ReadKeyFile(file string) (secretvalue.Value, error) {
	f, err := os.Open(file)
	if err != nil {
		return secretvalue.Value{}, fmt.Errorf("open key file: %w", err)
	}
	defer func() { _ = f.Close() }()
	info, err := f.Stat()
	if err != nil {
		return secretvalue.Value{}, fmt.Errorf("open key file: %w", err)
	}
	if info.Mode().Perm()&0o077 != 0 {
		return secretvalue.Value{}, fmt.Errorf("key file %s has mode %04o and is open to others: run chmod 0600 %s", file, info.Mode().Perm(),
			file)
	}
	content, err := io.ReadAll(io.LimitReader(f, 16<<10))
	if err != nil {
		return secretvalue.Value{}, fmt.Errorf("read key file: %w", err)
	}
	if hardware.IsSealed(content) {
		return hardware.Open(content)
	}
	return secretvalue.New(content), nil
}

// protocols are what the service speaks: a browser fetches the console's files over one connection (RFC 9113).
var protocols = []string{"h2", "http/1.1"}

// mostStreams bounds what one connection asks at once, as the number of connections is bounded for each network.
const mostStreams = 64

func (s *Server) listen() (err error) {
	if s.listener, err = net.Listen("tcp", s.options.Listen); err != nil {
		if errors.Is(err, syscall.EADDRINUSE) {
			return fmt.Errorf("%s is in use by another program: stop it, or choose another address with --listen", s.options.Listen)
		}
		return fmt.Errorf("listen on %s: %w", s.options.Listen, err)
	}
	s.http = &http.Server{
		Handler: httpapi.New(httpapi.Options{Service: s.Service, Console: s.options.Console, Log: s.options.Log,
			Version: s.options.Version, SecureCookies: s.options.Transport == TLS, ACME: s.acme()}),
		ReadHeaderTimeout: headerTimeout, ReadTimeout: readTimeout, WriteTimeout: writeTimeout, IdleTimeout: idleTimeout,
		MaxHeaderBytes: maxHeader, HTTP2: &http.HTTP2Config{MaxConcurrentStreams: mostStreams},
		ErrorLog: slog.NewLogLogger(s.options.Log.Handler(), slog.LevelDebug),
	}
	// What never ends by itself, such as a live view of the trail, ends when the chest stops: nobody waits for it.
	ctx, cancel := context.WithCancel(context.Background())
	s.http.BaseContext = func(net.Listener) context.Context { return ctx }
	s.http.RegisterOnShutdown(cancel)
	var listener net.Listener = limited(s.listener, s.options.Log)
	if s.options.Transport == TLS {
		listener = tls.NewListener(listener, &tls.Config{
			MinVersion: tls.VersionTLS13,
			NextProtos: protocols,
			// An app may show a certificate that was registered for it (RFC 8705, section 2.2).
			ClientAuth: tls.RequestClientCert, GetConfigForClient: s.forClient,
			GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return s.certificate.Load(), nil },
		})
	}
	go func() { s.failed <- s.http.Serve(listener) }()
	return nil
}

// acme serves ACME clients.
func (s *Server) acme() *acme.Server {
	o := acme.Options{People: s.Service.People, Certs: s.Service.Certs, Log: s.options.Log, Now: s.Service.Heart.Now,
		HTTPPort: s.options.ACMEHTTPPort, TLSPort: s.options.ACMETLSPort}
	if at := s.options.ACMEResolver; at != "" {
		o.Resolver = &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
			return new(net.Dialer).DialContext(ctx, network, at)
		}}
	}
	return acme.New(o)
}

// forClient is the configuration of one handshake: it names those who have issued the certificates that apps are registered with, so that
// clients show theirs. Browsers, which have none of these, do not ask a person which one to show.
func (s *Server) forClient(*tls.ClientHelloInfo) (*tls.Config, error) {
	names, all := s.Service.CertificateIssuers()
	config := &tls.Config{MinVersion: tls.VersionTLS13, NextProtos: protocols, ClientAuth: tls.RequestClientCert,
		GetCertificate: func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return s.certificate.Load(), nil }}
	if all {
		config.ClientCAs = x509.NewCertPool()
		for _, name := range append(names, noIssuer) {
			config.ClientCAs.AddCert(&x509.Certificate{Raw: name, RawSubject: name})
		}
	}
	return config, nil
}

// noIssuer is the name of nobody: without any name in the list, a client may show whatever it has.
var noIssuer = []byte{0x30, 0x00}

// isHere reports whether an address of this machine is where it listens, or one that it was told leads to it, such as that of a tunnel.
func (s *Server) isHere(address string) bool {
	_, here, _ := net.SplitHostPort(s.listener.Addr().String())
	_, port, err := net.SplitHostPort(address)
	return err == nil && port == here || slices.Contains(s.options.Hosts, address)
}

// hostNames are the further names that clients use, without ports.
func (s *Server) hostNames() (list []string) {
	for _, name := range s.options.Hosts {
		if host, _, err := net.SplitHostPort(name); err == nil {
			name = host
		}
		list = append(list, name)
	}
	return list
}

// names are those that the server's certificate is for.
func (s *Server) names() (list []string) {
	certificate := s.certificate.Load()
	if certificate == nil || certificate.Leaf == nil {
		return nil
	}
	list = slices.Clone(certificate.Leaf.DNSNames)
	for _, ip := range certificate.Leaf.IPAddresses {
		list = append(list, ip.String())
	}
	return list
}

func (s *Server) loadCertificate() error {
	files, err := s.store.ReadTLS()
	if err != nil {
		return err
	}
	certificate, err := tls.X509KeyPair(files.Certificate, files.Key)
	if err != nil {
		return fmt.Errorf("read the server certificate: %w", err)
	}
	s.certificate.Store(&certificate)
	return nil
}

// renew replaces the server certificate when it is due; a failure is logged, for the old one may still serve.
func (s *Server) renew(root *envelope.Root) {
	hosts := s.hostNames()
	if len(s.store.Missing()) > 0 {
		hosts = append(opening.LocalHosts(), hosts...)
	}
	renewed, err := opening.RenewServer(s.store, root, hosts, s.Service.Heart.Now())
	if err == nil && renewed {
		s.options.Log.Info("server certificate renewed")
		err = s.loadCertificate()
	}
	if err != nil {
		s.options.Log.Error("server certificate not renewed", "error", err)
	}
}

// URL is where the service can be reached.
func (s *Server) URL() string {
	scheme := "https"
	if s.options.Transport == PlainHTTP {
		scheme = "http"
	}
	return scheme + "://" + s.listener.Addr().String()
}

// Authority returns the certificate that clients pin, PEM.
func (s *Server) Authority() ([]byte, error) {
	files, err := s.store.ReadTLS()
	return files.Authority, err
}

// Wait returns when the context ends or serving fails.
func (s *Server) Wait(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return nil
	case err := <-s.failed:
		return fmt.Errorf("serve: %w", err)
	}
}

// Stop lets running requests finish, for at most five seconds, makes durable what they submitted, and erases the keys.
// To stop again does nothing.
func (s *Server) Stop() error {
	s.stop.Do(func() { s.stopped = s.end() })
	return s.stopped
}

func (s *Server) end() error {
	ctx, cancel := context.WithTimeout(context.Background(), stopTimeout)
	defer cancel()
	err := s.http.Shutdown(ctx)
	if errors.Is(err, context.DeadlineExceeded) { // somebody connected and asks nothing, or takes their time: they are not waited for
		err = s.http.Close()
	}
	s.endBackups()
	close(s.quit)
	select {
	case <-s.kept:
	case <-time.After(stopTimeout): // the upkeep is in the middle of something long, which it goes on with after the next start
	}
	s.outlets.Load().Stop()
	s.Service.Stop()
	return errors.Join(err, s.store.Close())
}
