package launch

import (
	"bytes"
	"os"
	"os/exec"
	"os/signal"
	"syscall"

	"golang.org/x/sys/unix"
	"golang.org/x/term"
)

// pass hands on what is typed. The key that suspends (Ctrl-Z) suspends us, too: the program is the only one on its terminal, and
// the kernel suspends nobody whom no shell could continue (POSIX.1-2017, 3.264, orphaned process group).
func (s *streams) pass(command *exec.Cmd) {
	room := make([]byte, 4096)
	for {
		n, err := s.program.In.Read(room)
		typed := room[:n]
		for at := s.suspends(typed, command); at >= 0; at = s.suspends(typed, command) {
			_, _ = s.terminal.Write(typed[:at])
			typed = typed[at+1:]
			s.suspend(command)
		}
		if _, lost := s.terminal.Write(typed); lost != nil || err != nil {
			return
		}
	}
}

// suspends finds the key that shall suspend the program: where the program lets the terminal see to it, has not put another one in
// front of it, as shells do, and there is a shell around us that can continue us. It is -1 for none.
func (s *streams) suspends(typed []byte, command *exec.Cmd) int {
	terminal := int(s.terminal.Fd())
	settings, err := unix.IoctlGetTermios(terminal, unix.TCGETS)
	if err != nil || settings.Lflag&unix.ISIG == 0 {
		return -1
	}
	front, err := unix.IoctlGetInt(terminal, unix.TIOCGPGRP)
	if err != nil || front != command.Process.Pid || !inJob() {
		return -1
	}
	return bytes.IndexByte(typed, settings.Cc[unix.VSUSP])
}

// inJob reports whether our parent is a shell that has put us into a job of our own.
func inJob() bool {
	parent := os.Getppid()
	theirs, err := unix.Getsid(parent)
	ours, bad := unix.Getsid(0)
	group, worse := unix.Getpgid(parent)
	return err == nil && bad == nil && worse == nil && theirs == ours && group != unix.Getpgrp()
}

// suspend stops the program, gives the terminal back, stops us, and goes on when the shell says so.
func (s *streams) suspend(command *exec.Cmd) {
	goesOn := make(chan os.Signal, 1)
	signal.Notify(goesOn, syscall.SIGCONT)
	defer signal.Stop(goesOn)
	_ = unix.Kill(-command.Process.Pid, syscall.SIGSTOP)
	_ = term.Restore(int(s.program.In.Fd()), s.state)
	_ = unix.Kill(0, syscall.SIGTSTP)
	<-goesOn
	if _, err := term.MakeRaw(int(s.program.In.Fd())); err != nil {
		return // there is no terminal any more
	}
	s.resize()
	_ = unix.Kill(-command.Process.Pid, syscall.SIGCONT)
}
