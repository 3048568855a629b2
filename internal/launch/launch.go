// Package launch starts a program with secret values and leaves none behind.
//
// Values are handed over in the program's environment, on its standard input, or as files that exist in memory only: each is
// an anonymous file (memfd_create(2)), private and sealed before the program starts, reached by the path of a descriptor that
// the program inherits, and gone with the last process that has it open, however that ends. Nothing is ever written to a file
// system, so that there is nothing to clean up after a crash.
//
// What the program writes passes through a masker, unless that is switched off.
package launch

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"runtime"
	"sync"
	"syscall"
	"time"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"tansu/internal/core/leak"
)

// File is a value that is handed over as a file in memory.
type File struct {
	Name     string // for people who look at the program's descriptors
	Variable string // gets the path; empty for none
	Mode     uint32
	Content  []byte
}

// Program is what is started, and what it gets.
type Program struct {
	Path        string
	Arguments   []string
	Environment []string // all of it
	Files       []File
	Stdin       []byte           // instead of our own standard input; nil for that
	Mask        *leak.Matcher    // nil lets everything through
	Signals     <-chan os.Signal // are sent to the program besides those that we get; nil for none
	In          *os.File
	Out, Err    io.Writer
}

// firstDescriptor is the number that the first file has in the program.
const firstDescriptor = 3

// Path is where the program finds one of its files.
func Path(index int) string { return fmt.Sprintf("/proc/self/fd/%d", firstDescriptor+index) }

// Run starts the program, passes signals on to it, and waits for it. It returns the program's exit code, which is 128 and the
// signal's number if one ended it, as shells have it. The error is only about starting.
func (p *Program) Run(ctx context.Context) (code int, err error) {
	// The kernel tells the program when the thread that started it ends, which must not be before we do.
	runtime.LockOSThread()
	defer runtime.UnlockOSThread()
	command := exec.CommandContext(ctx, p.Path, p.Arguments...)
	command.Env = p.Environment
	command.Cancel = func() error { return command.Process.Signal(syscall.SIGTERM) }
	command.WaitDelay = 10 * time.Second
	command.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGTERM}
	for i, f := range p.Files {
		inMemory, err := f.open()
		if err != nil {
			return 0, err
		}
		defer func() { _ = inMemory.Close() }()
		command.ExtraFiles = append(command.ExtraFiles, inMemory)
		if f.Variable != "" {
			command.Env = append(command.Env, f.Variable+"="+Path(i))
		}
	}
	streams, err := p.connect(command)
	if err != nil {
		return 0, err
	}
	defer streams.restore()
	signals := make(chan os.Signal, 8)
	signal.Notify(signals, passedOn...)
	defer func() { signal.Stop(signals); close(signals) }()
	if err := streams.start(command); err != nil {
		return 0, fmt.Errorf("start %s: %w", p.Path, err)
	}
	ended := make(chan struct{})
	defer close(ended)
	go func() {
		for {
			select {
			case s := <-p.Signals:
				_ = command.Process.Signal(s)
			case <-ended:
				return
			}
		}
	}()
	go func() {
		for s := range signals {
			if s == syscall.SIGWINCH {
				streams.resize()
			} else if !fromTerminal(s, p.In) || streams.terminal != nil {
				_ = command.Process.Signal(s)
			}
		}
	}()
	err = command.Wait()
	streams.finish()
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) && command.ProcessState == nil {
		return 0, fmt.Errorf("run %s: %w", p.Path, err)
	}
	status, _ := command.ProcessState.Sys().(syscall.WaitStatus)
	if status.Signaled() {
		return 128 + int(status.Signal()), nil
	}
	return command.ProcessState.ExitCode(), nil
}

var passedOn = []os.Signal{syscall.SIGINT, syscall.SIGTERM, syscall.SIGHUP, syscall.SIGQUIT, syscall.SIGUSR1, syscall.SIGUSR2,
	syscall.SIGWINCH}

// fromTerminal reports whether a signal comes from the terminal's keys, which send it to the program, too.
func fromTerminal(s os.Signal, in *os.File) bool {
	return (s == syscall.SIGINT || s == syscall.SIGQUIT) && in != nil && term.IsTerminal(int(in.Fd()))
}

// open makes the file. It is private before the first byte is in it, and cannot be changed afterwards.
func (f File) open() (*os.File, error) {
	descriptor, err := unix.MemfdCreate(f.Name, unix.MFD_CLOEXEC|unix.MFD_ALLOW_SEALING)
	if err != nil {
		return nil, fmt.Errorf("make a file in memory: %w", err)
	}
	file := os.NewFile(uintptr(descriptor), f.Name)
	err = file.Chmod(os.FileMode(f.Mode))
	if err == nil {
		_, err = file.Write(f.Content)
	}
	if err == nil {
		_, err = file.Seek(0, io.SeekStart)
	}
	if err == nil {
		_, err = unix.FcntlInt(file.Fd(), unix.F_ADD_SEALS, unix.F_SEAL_SHRINK|unix.F_SEAL_GROW|unix.F_SEAL_WRITE|unix.F_SEAL_SEAL)
	}
	if err != nil {
		return nil, errors.Join(fmt.Errorf("fill a file in memory: %w", err), file.Close())
	}
	return file, nil
}

// streams are what connects the program with our own input and output.
type streams struct {
	program  *Program
	terminal *os.File // our side of the program's own terminal, when our output is one and is masked
	state    *term.State
	theirs   []*os.File // the program's ends, which are its own once it has started
	begin    []func()   // what passes things on from then on
	copying  sync.WaitGroup
}

// connect decides how. With masking, what goes to a terminal goes through one of the program's own, so that it behaves as it
// always does there.
func (p *Program) connect(command *exec.Cmd) (s *streams, err error) {
	s = &streams{program: p}
	out, isFile := p.Out.(*os.File)
	switch {
	case p.Mask == nil:
		command.Stdin, command.Stdout, command.Stderr = p.In, p.Out, p.Err
	case p.Stdin == nil && p.In != nil && isFile && term.IsTerminal(int(out.Fd())) && term.IsTerminal(int(p.In.Fd())):
		return s, s.ownTerminal(command)
	default:
		command.Stdin = p.In
		if command.Stdout, err = s.masked(p.Out); err == nil {
			command.Stderr, err = s.masked(p.Err)
		}
	}
	if p.Stdin != nil && err == nil {
		command.Stdin, err = s.given()
	}
	return s, err
}

// given is what the program reads the value from that it gets on standard input.
func (s *streams) given() (*os.File, error) {
	theirs, ours, err := os.Pipe()
	if err != nil {
		return nil, fmt.Errorf("make a pipe: %w", err)
	}
	s.theirs = append(s.theirs, theirs)
	s.begin = append(s.begin, func() {
		_, _ = ours.Write(s.program.Stdin) // a program that does not read it all ends this with a broken pipe
		_ = ours.Close()
	})
	return theirs, nil
}

// masked is what the program writes to instead of one of our outputs.
func (s *streams) masked(to io.Writer) (*os.File, error) {
	ours, theirs, err := os.Pipe()
	if err != nil {
		return nil, fmt.Errorf("make a pipe: %w", err)
	}
	s.theirs = append(s.theirs, theirs)
	s.copying.Add(1)
	s.begin = append(s.begin, func() { s.copy(to, ours); _ = ours.Close() })
	return theirs, nil
}

func (s *streams) ownTerminal(command *exec.Cmd) error {
	ours, theirs, err := pty.Open()
	if err != nil {
		return fmt.Errorf("make a terminal: %w", err)
	}
	s.terminal, s.theirs = ours, append(s.theirs, theirs)
	s.resize()
	command.Stdin, command.Stdout, command.Stderr = theirs, theirs, theirs
	if e, isFile := s.program.Err.(*os.File); !isFile || !term.IsTerminal(int(e.Fd())) {
		if command.Stderr, err = s.masked(s.program.Err); err != nil {
			return err
		}
	}
	command.SysProcAttr.Setsid, command.SysProcAttr.Setctty = true, true
	s.copying.Add(1)
	s.begin = append(s.begin, func() { s.copy(s.program.Out, ours) }, func() { s.pass(command) })
	return nil
}

func (s *streams) start(command *exec.Cmd) (err error) {
	if s.terminal != nil {
		if s.state, err = term.MakeRaw(int(s.program.In.Fd())); err != nil {
			return err
		}
	}
	err = command.Start()
	for _, theirs := range s.theirs {
		_ = theirs.Close()
	}
	if err != nil {
		return err
	}
	for _, begin := range s.begin {
		go begin()
	}
	return nil
}

func (s *streams) resize() {
	if s.terminal != nil {
		_ = pty.InheritSize(s.program.In, s.terminal)
	}
}

// finish waits until all that the program wrote has passed.
func (s *streams) finish() { s.copying.Wait() }

func (s *streams) restore() {
	if s.state != nil {
		_ = term.Restore(int(s.program.In.Fd()), s.state)
	}
	if s.terminal != nil {
		_ = s.terminal.Close()
	}
}

// pause is how long a stream is silent before a few bytes that may begin a value are shown all the same.
const pause = 20 * time.Millisecond

// copy passes a stream on, masked.
func (s *streams) copy(to io.Writer, from io.Reader) {
	defer s.copying.Done()
	pieces, back := make(chan []byte), make(chan []byte, 1)
	back <- make([]byte, 64<<10)
	go func() {
		defer close(pieces)
		for {
			room := <-back
			n, err := from.Read(room[:cap(room)])
			if n > 0 {
				pieces <- room[:n]
			} else {
				back <- room
			}
			if err != nil {
				return
			}
		}
	}()
	masker := s.program.Mask.NewMasker()
	var out []byte
	write := func() { // what cannot be written is lost: the program must not hang for it
		_, _ = to.Write(out)
		clear(out)
		out = out[:0]
	}
	for {
		var silent <-chan time.Time
		if masker.Holds() {
			silent = time.After(pause)
		}
		select {
		case piece, more := <-pieces:
			if !more {
				out = masker.End(out)
				write()
				return
			}
			out = masker.Push(out, piece)
			clear(piece)
			back <- piece
		case <-silent:
			out = masker.Release(out)
		}
		write()
	}
}
