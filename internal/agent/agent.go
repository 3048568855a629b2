package agent

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sync/singleflight"

	"tansu/client"
	"tansu/internal/certfiles"
	"tansu/internal/core/reference"
)

// Options of an agent.
type Options struct {
	Config  Config
	Connect func(profile string) (*client.Client, error) // a client that signs in by itself
	Host    string                                       // what the trail calls this host
	Log     *slog.Logger
	Now     func() time.Time // nil for the machine's clock
}

// Agent is a running agent.
type Agent struct {
	options  Options
	rules    []*served
	journal  *journal
	listener net.Listener
	http     *http.Server
	stop     context.CancelFunc
	work     sync.WaitGroup
	units    net.Listener // for systemd; nil for none
	failed   chan error
	once     sync.Once
	stopped  error
}

// served is a rule together with the connection to the chest as its app, which the rules of one profile share.
type served struct {
	*Rule
	*account
}

// account is one app of this host.
type account struct {
	profile string
	chest   *client.Client
	shelf   *shelf
	disk    *disk // where that is kept across restarts; nil for nowhere
	fetches singleflight.Group
	away    atomic.Int64 // until when the chest counts as away without being asked, in Unix nanoseconds
	relisten,
	report chan struct{} // something is kept that is not listened for; something is to be reported
}

// Times.
const (
	quick        = 2 * time.Second  // to wait for the chest when there is something to serve without it
	patient      = 30 * time.Second // when there is not
	awayFor      = 5 * time.Second  // the chest counts as away after it did not answer: not everybody waits for that
	reportEvery  = time.Second
	mostInReport = 500
	mostInBatch  = 100
)

// Start opens the socket and serves.
func Start(o Options) (*Agent, error) {
	if o.Now == nil {
		o.Now = time.Now
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	a := &Agent{options: o, failed: make(chan error, 1)}
	accounts := map[string]*account{}
	for i := range o.Config.Serves {
		rule := &o.Config.Serves[i]
		acc, err := a.accountOf(accounts, rule.Profile)
		if err != nil {
			return nil, err
		}
		a.rules = append(a.rules, &served{rule, acc})
	}
	byUnit := map[string]*served{}
	for _, u := range o.Config.Units {
		acc, err := a.accountOf(accounts, u.Profile)
		if err != nil {
			return nil, err
		}
		byUnit[u.Unit] = &served{unitRule(u), acc}
	}
	var keepers []*certfiles.Keeper
	for _, one := range o.Config.Certificates {
		acc, err := a.accountOf(accounts, one.Profile)
		if err != nil {
			return nil, err
		}
		keepers = append(keepers, &certfiles.Keeper{Files: one.Files, Chest: acc.chest, Log: o.Log})
	}
	var err error
	if a.journal, err = openJournal(o.Config.Journal); err != nil {
		return nil, err
	}
	if a.listener, err = listen(o.Config.Socket); err != nil {
		return nil, errors.Join(err, a.journal.close())
	}
	ctx, cancel := context.WithCancel(context.Background())
	a.stop = cancel
	if o.Config.Credentials != "" {
		if a.units, err = listen(o.Config.Credentials); err != nil {
			return nil, errors.Join(err, a.listener.Close(), a.journal.close())
		}
		a.work.Go(func() { a.serveUnits(ctx, byUnit) })
	}
	for _, keeper := range keepers {
		a.work.Go(func() { keeper.Keep(ctx) })
	}
	for _, account := range accounts {
		a.work.Go(func() { a.listenTo(ctx, account) })
		a.work.Go(func() { a.reportFor(ctx, account) })
		if account.disk != nil {
			a.work.Go(func() { a.keepOnDisk(ctx, account) })
		}
	}
	a.http = &http.Server{Handler: a.routes(), ConnContext: withPeer, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute,
		BaseContext: func(net.Listener) context.Context { return ctx }, ErrorLog: slog.NewLogLogger(o.Log.Handler(), slog.LevelDebug)}
	go func() { a.failed <- a.http.Serve(a.listener) }()
	return a, nil
}

func (a *Agent) accountOf(known map[string]*account, profile string) (*account, error) {
	if known[profile] != nil {
		return known[profile], nil
	}
	chest, err := a.options.Connect(profile)
	if err != nil {
		return nil, fmt.Errorf("profile %s: %w", profile, err)
	}
	shelf, err := newShelf()
	if err != nil {
		return nil, err
	}
	acc := &account{profile: profile, chest: chest, shelf: shelf, relisten: make(chan struct{}, 1), report: make(chan struct{}, 1)}
	if directory := a.options.Config.Shelf; directory != "" {
		if err := os.MkdirAll(directory, 0o700); err != nil {
			return nil, fmt.Errorf("make the directory for what is kept: %w", err)
		}
		acc.disk = newDisk(directory, profile)
		if err := acc.disk.open(shelf); err != nil { // it is made anew from what the chest serves
			a.options.Log.Warn("what an earlier agent has left is not used", "profile", profile, "error", err)
		}
	}
	known[profile] = acc
	return acc, nil
}

// listen opens the socket to everybody: the rules say who may ask for what. A socket left behind by an agent that was killed is
// removed; one that answers is not.
func listen(path string) (net.Listener, error) {
	if connection, err := net.Dial("unix", path); err == nil {
		_ = connection.Close()
		return nil, fmt.Errorf("another agent listens at %s", path)
	}
	if info, err := os.Lstat(path); err == nil && info.Mode()&fs.ModeSocket == 0 {
		return nil, fmt.Errorf("%s is there and is not a socket", path)
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o755); err != nil {
		return nil, fmt.Errorf("make the directory of the socket: %w", err)
	}
	_ = os.Remove(path)
	listener, err := net.Listen("unix", path)
	if err != nil {
		return nil, fmt.Errorf("listen at %s: %w", path, err)
	}
	if err := os.Chmod(path, 0o666); err != nil {
		return nil, errors.Join(err, listener.Close())
	}
	return listener, nil
}

// Wait returns when the context ends or serving fails.
func (a *Agent) Wait(ctx context.Context) error {
	select {
	case <-ctx.Done():
		return nil
	case err := <-a.failed:
		return fmt.Errorf("serve: %w", err)
	}
}

// Stop ends what is being served, reports once more, and forgets every value. Stopping again does nothing.
func (a *Agent) Stop() error {
	a.once.Do(func() { a.stopped = a.end() })
	return a.stopped
}

func (a *Agent) end() error {
	a.stop()
	asked, answered := context.WithTimeout(context.Background(), 3*time.Second)
	defer answered()
	err := a.http.Shutdown(asked)
	if errors.Is(err, context.DeadlineExceeded) { // somebody connected and asks nothing: they are not waited for
		err = a.http.Close()
	}
	ctx, cancel := context.WithTimeout(context.Background(), 5*time.Second) // to report
	defer cancel()
	if a.units != nil {
		err = errors.Join(err, a.units.Close())
	}
	a.work.Wait()
	for _, r := range a.rules {
		_ = a.reportOnce(ctx, r.account) // what cannot be reported now stays in the journal
		if r.disk != nil && !r.shelf.erased() {
			err = errors.Join(err, r.disk.save(r.shelf, a.options.Now()))
		}
		r.shelf.erase()
	}
	return errors.Join(err, a.journal.close())
}

// ruleFor finds what is served to a peer.
func (a *Agent) ruleFor(p Peer) *served {
	for _, r := range a.rules {
		if r.uid == p.UID && (r.Program == "" || r.Program == p.Program) {
			return r
		}
	}
	return nil
}

// refused is an answer of the agent's own.
func refused(status int, code, format string, arguments ...any) *client.Problem {
	return &client.Problem{Type: "about:blank", Title: http.StatusText(status), Status: status, Code: code,
		Detail: fmt.Sprintf(format, arguments...)}
}

// read serves one value: from what is kept if the chest would serve the same, else from the chest, else, while that is away,
// from what is kept for then.
func (a *Agent) read(ctx context.Context, r *served, p Peer, text string) (v client.Value, err error) {
	ref, err := reference.Parse(text)
	if err != nil || ref.Item == "" {
		return v, refused(http.StatusBadRequest, "invalid_input",
			"that is not a reference of the form drawer/item, drawer/item@3 or drawer/item#field")
	}
	if !r.selects(ref) {
		a.options.Log.Warn("refused", "peer", p.String(), "target", ref.Drawer+"/"+ref.Item)
		return v, refused(http.StatusForbidden, "refused",
			"the agent on this host serves %s only %v, and not %s/%s: whoever runs the host adds it to the rule", p, r.References, ref.Drawer,
			ref.Item)
	}
	text = ref.String()
	kept, as := r.shelf.get(text, a.options.Now())
	if as == current {
		return a.serveKept(r, p, text, kept, false)
	}
	if as == spare && time.Now().UnixNano() < r.away.Load() {
		return a.serveKept(r, p, text, kept, true)
	}
	limit := patient
	if as == spare {
		limit = quick
	}
	// Others may wait for the same: it goes on when the one who asked first is gone.
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), limit)
	defer cancel()
	v, shared, err := a.fetch(ctx, r, text)
	var away *client.Unreachable
	if errors.As(err, &away) {
		r.away.Store(time.Now().Add(awayFor).UnixNano())
	} else {
		r.away.Store(0)
	}
	if as == spare && away != nil {
		return a.serveKept(r, p, text, kept, true)
	}
	a.heardNo(r.account, err)
	if shared && err == nil {
		return a.serveKept(r, p, text, v, false)
	}
	return v, err
}

// serveKept answers with what the chest has not recorded that it was served, after it is in the journal.
func (a *Agent) serveKept(r *served, p Peer, text string, v client.Value, away bool) (client.Value, error) {
	v.Kept, v.Away = true, away
	err := a.journal.add(kept{Profile: r.profile,
		KeptRead: client.KeptRead{Reference: text, Version: v.Version, At: a.options.Now().UTC(), By: p.String(), Away: away}})
	if err != nil {
		a.options.Log.Error("a read cannot be recorded", "error", err)
		return client.Value{}, refused(http.StatusServiceUnavailable, "not_recorded",
			"the agent cannot record reads on this host, and serves nothing from what it keeps: its log says why")
	}
	select {
	case r.report <- struct{}{}:
	default:
	}
	return v, nil
}

// fetch asks the chest. Those who ask for the same at once share one fetch if the value may be kept, and all but one of them are
// told so.
func (a *Agent) fetch(ctx context.Context, r *served, text string) (v client.Value, shared bool, err error) {
	first := false
	result, err, _ := r.fetches.Do(text, func() (any, error) {
		first = true
		v, err := r.chest.ReadValue(ctx, text)
		if err == nil {
			r.shelf.put(text, v, a.options.Now())
			if v.KeepFor > 0 && !r.shelf.listened(text) {
				select {
				case r.relisten <- struct{}{}:
				default:
				}
			}
		} else if problem := new(client.Problem); errors.As(err, &problem) && problem.Code != "locked" {
			r.shelf.drop(text)
		}
		return v, err
	})
	v, _ = result.(client.Value)
	if !first && (err != nil || v.KeepFor == 0) { // another's fetch, which is not for sharing
		v, err = r.chest.ReadValue(ctx, text)
		return v, false, err
	}
	return v, !first, err
}

// listenTo hears from the chest what becomes of the values that are kept.
func (a *Agent) listenTo(ctx context.Context, acc *account) {
	for ctx.Err() == nil {
		references := acc.shelf.listens()
		if len(references) == 0 {
			acc.shelf.deaf(a.options.Now())
			select {
			case <-ctx.Done():
			case <-acc.relisten:
			}
			continue
		}
		listening, cancel := context.WithCancel(ctx)
		var parts sync.WaitGroup
		for part := range slices.Chunk(references, mostInBatch) {
			parts.Go(func() {
				defer cancel()
				err := acc.chest.WatchValues(listening, part, func(ch client.Check) error { acc.shelf.hears(ch, a.options.Now()); return nil })
				if err != nil && listening.Err() == nil {
					a.options.Log.Info("the chest is not heard any more", "profile", acc.profile, "error", err)
					a.heardNo(acc, err)
				}
			})
		}
		broken := true
		select {
		case <-listening.Done():
		case <-acc.relisten: // something more is kept
			broken = false
		}
		heard := a.options.Now()
		if broken {
			heard = heard.Add(-silence)
		}
		acc.shelf.deaf(heard)
		cancel()
		parts.Wait()
		if broken && ctx.Err() == nil {
			select {
			case <-ctx.Done():
			case <-time.After(reportEvery + rand.N(reportEvery)):
			}
		}
	}
}

// reportFor tells the chest of reads that it has not recorded.
func (a *Agent) reportFor(ctx context.Context, acc *account) {
	for {
		if err := a.reportOnce(ctx, acc); err != nil && ctx.Err() == nil {
			a.options.Log.Info("reads are not reported yet", "profile", acc.profile, "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-time.After(reportEvery): // those of a second go together
		}
		select {
		case <-ctx.Done():
			return
		case <-acc.report:
		case <-time.After(10 * reportEvery): // the chest may be back
		}
	}
}

func (a *Agent) reportOnce(ctx context.Context, acc *account) error {
	for {
		reads := a.journal.of(acc.profile, mostInReport)
		if len(reads) == 0 {
			return nil
		}
		if err := acc.chest.ReportReads(ctx, client.KeptReads{Host: a.options.Host, Reads: reads}); err != nil {
			return err
		}
		if err := a.journal.reported(acc.profile, reads); err != nil {
			return err
		}
	}
}

// routes is the part of the chest's API that the agent speaks.
func (a *Agent) routes() http.Handler {
	mux := http.NewServeMux()
	handle := func(pattern string, answer func(*http.Request, *served, Peer) (any, error)) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) { a.answer(w, r, answer) })
	}
	handle("GET /api/status", func(r *http.Request, s *served, _ Peer) (any, error) { return s.chest.Status(r.Context()) })
	handle("GET /api/me", func(r *http.Request, s *served, _ Peer) (any, error) {
		me, err := s.chest.Me(r.Context())
		me.Grants = []client.Grant{} // what the app may do elsewhere is not for whoever may use a part of it here
		return me, err
	})
	handle("GET /api/values/{drawer}/{item}", func(r *http.Request, s *served, p Peer) (any, error) {
		text := r.PathValue("drawer") + "/" + r.PathValue("item")
		if field := r.URL.Query().Get("field"); field != "" {
			text += "#" + field
		}
		return a.read(r.Context(), s, p, text)
	})
	handle("POST /api/values", a.readMany)
	handle("POST /api/preflight", func(r *http.Request, s *served, _ Peer) (any, error) {
		var asked client.Preflight
		if err := decode(r, &asked); err != nil {
			return nil, err
		}
		if asked.Subject != "" {
			return nil, refused(http.StatusForbidden, "refused", "an agent asks only about the app that it serves")
		}
		checks, err := s.check(r.Context(), asked)
		return map[string]any{"checks": checks}, err
	})
	mux.HandleFunc("/", func(w http.ResponseWriter, _ *http.Request) {
		write(w, http.StatusNotFound, refused(http.StatusNotFound, "not_found",
			"an agent serves values and nothing else: talk to the chest for that"))
	})
	return mux
}

// check asks the chest what would come of reads, as far as the rule lets them be asked for here at all.
func (s *served) check(ctx context.Context, asked client.Preflight) (checks []client.Check, err error) {
	checks = make([]client.Check, len(asked.References))
	var allowed client.Preflight
	var at []int
	for i, text := range asked.References {
		if ref, err := reference.Parse(text); err == nil && ref.Item != "" && s.selects(ref) {
			allowed.References, at = append(allowed.References, text), append(at, i)
			continue
		}
		checks[i] = client.Check{Reference: text, Reason: "refused",
			Detail: fmt.Sprintf("the agent on this host serves only %v here: whoever runs the host adds it to the rule", s.References)}
	}
	if len(at) == 0 {
		return checks, nil
	}
	answers, err := s.chest.Check(ctx, allowed)
	for i, one := range answers[:min(len(answers), len(at))] {
		checks[at[i]] = one
	}
	return checks, err
}

func (a *Agent) readMany(r *http.Request, s *served, p Peer) (any, error) {
	var asked struct {
		References []string `json:"references"`
	}
	if err := decode(r, &asked); err != nil {
		return nil, err
	}
	if len(asked.References) == 0 || len(asked.References) > mostInBatch {
		return nil, refused(http.StatusBadRequest, "invalid_input", "references are 1 to %d", mostInBatch)
	}
	outcomes := make([]client.Outcome, len(asked.References))
	for i, text := range asked.References {
		outcomes[i].Reference = text
		v, err := a.read(r.Context(), s, p, text)
		var problem *client.Problem
		switch {
		case errors.As(err, &problem):
			outcomes[i].Problem = problem
		case err != nil:
			return nil, err
		default:
			outcomes[i].Value = &v
		}
	}
	return map[string]any{"values": outcomes}, nil
}

const mostAsked = 64 << 10

func decode(r *http.Request, into any) error {
	decoder := json.NewDecoder(http.MaxBytesReader(nil, r.Body, mostAsked))
	decoder.DisallowUnknownFields()
	if decoder.Decode(into) != nil {
		return refused(http.StatusBadRequest, "invalid_input", "the body is not what this route takes")
	}
	return nil
}

// answer finds out who asks, and answers with what comes of it.
func (a *Agent) answer(w http.ResponseWriter, r *http.Request, with func(*http.Request, *served, Peer) (any, error)) {
	p, known := peerIn(r.Context())
	if !known {
		write(w, http.StatusForbidden, refused(http.StatusForbidden, "refused", "the kernel does not say who is asking"))
		return
	}
	s := a.ruleFor(p)
	if s == nil {
		a.options.Log.Warn("refused", "peer", p.String())
		write(w, http.StatusForbidden, refused(http.StatusForbidden, "refused",
			"the agent on this host serves nothing to %s: whoever runs the host adds a rule", p))
		return
	}
	answer, err := with(r, s, p)
	var problem *client.Problem
	var away *client.Unreachable
	switch {
	case errors.As(err, &problem):
		write(w, max(problem.Status, http.StatusBadRequest), problem)
	case errors.As(err, &away):
		write(w, http.StatusServiceUnavailable,
			refused(http.StatusServiceUnavailable, "chest_away", "the chest is not reached from this host, and nothing is kept for that: %v", away))
	case err != nil:
		write(w, http.StatusInternalServerError, refused(http.StatusInternalServerError, "internal", "the agent failed: its log says why"))
		a.options.Log.Error("failed", "error", err)
	default:
		write(w, http.StatusOK, answer)
	}
}

func write(w http.ResponseWriter, status int, answer any) {
	kind := "application/json"
	if _, is := answer.(*client.Problem); is {
		kind = "application/problem+json"
	}
	w.Header().Set("Content-Type", kind)
	w.Header().Set("Cache-Control", "no-store")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(answer)
}
