package cli

import (
	"bufio"
	"bytes"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"strings"
	"time"

	"golang.org/x/sys/unix"
	"golang.org/x/term"

	"tansu/internal/core/secretvalue"
)

// exitInterrupted is what a shell expects of a program that Ctrl-C ended.
const exitInterrupted = 130

// quietly runs ask with the terminal's echo off, from before the first prompt to after the last answer, so that what is
// typed ahead does not show either. Ctrl-C ends the program with the terminal as it was.
func (a *app) quietly(ask func() (secretvalue.Value, error)) (secretvalue.Value, error) {
	fd := int(a.In.Fd())
	before, err := term.GetState(fd)
	if err != nil {
		return secretvalue.Value{}, fmt.Errorf("read the terminal: %w", err)
	}
	interrupted := make(chan os.Signal, 1)
	signal.Notify(interrupted, os.Interrupt)
	done := make(chan struct{})
	defer func() {
		signal.Stop(interrupted)
		close(done)
		_ = term.Restore(fd, before)
	}()
	settings, err := unix.IoctlGetTermios(fd, unix.TCGETS)
	if err != nil {
		return secretvalue.Value{}, fmt.Errorf("read the terminal: %w", err)
	}
	settings.Lflag &^= unix.ECHO
	settings.Lflag |= unix.ICANON | unix.ISIG
	settings.Iflag |= unix.ICRNL
	if err := unix.IoctlSetTermios(fd, unix.TCSETS, settings); err != nil {
		return secretvalue.Value{}, fmt.Errorf("switch the terminal's echo off: %w", err)
	}
	// Only from here on, and nothing sets the terminal after it: what Ctrl-C restores stays restored.
	go func() {
		select {
		case <-interrupted:
			_ = term.Restore(fd, before)
			fmt.Fprintln(a.Err, "\ntansu: interrupted; nothing was done")
			os.Exit(exitInterrupted)
		case <-done:
		}
	}()
	return ask()
}

// prompt asks for one line; the echo is off already.
func (a *app) prompt(text string) (secretvalue.Value, error) {
	fmt.Fprint(a.Err, text)
	content, err := a.readLine()
	fmt.Fprintln(a.Err)
	if errors.Is(err, io.EOF) && len(content) == 0 {
		return secretvalue.Value{}, usagef("nothing was given")
	}
	if err != nil && !errors.Is(err, io.EOF) {
		return secretvalue.Value{}, fmt.Errorf("read the terminal: %w", err)
	}
	return secretvalue.New(content), nil
}

// hidden asks for something without showing it.
func (a *app) hidden(prompt string) (secretvalue.Value, error) {
	return a.quietly(func() (secretvalue.Value, error) { return a.prompt(prompt) })
}

// hiddenTwice asks twice and compares.
func (a *app) hiddenTwice(what string) (secretvalue.Value, error) {
	return a.quietly(func() (secretvalue.Value, error) {
		first, err := a.prompt(what + ": ")
		if err != nil {
			return first, err
		}
		second, err := a.prompt(what + " again: ")
		if err != nil {
			return second, err
		}
		defer second.Wipe()
		if !first.Equal(second) {
			return secretvalue.Value{}, usagef("the two do not match; nothing was done")
		}
		return first, nil
	})
}

func (a *app) terminal() bool { return term.IsTerminal(int(a.In.Fd())) }

// readLine reads one line, without its end, and nothing that follows it; io.EOF says that the input ended before the line did.
func (a *app) readLine() ([]byte, error) {
	var content []byte
	var err error
	one := make([]byte, 1)
	for len(content) < 4096 && err == nil {
		var n int
		n, err = a.In.Read(one)
		if n == 1 && one[0] == '\n' {
			err = nil
			break
		}
		content = append(content, one[:n]...)
	}
	return bytes.TrimSuffix(content, []byte("\r")), err
}

// one line of standard input, when it is not a terminal: for passphrases, passwords and codes in scripts.
func (a *app) line(what string) (secretvalue.Value, error) {
	content, err := a.readLine()
	if err != nil && !errors.Is(err, io.EOF) {
		return secretvalue.Value{}, usagef("standard input is closed; %s comes from a terminal or from standard input", what)
	}
	if len(content) == 0 {
		return secretvalue.Value{}, usagef("standard input is empty; %s comes from a terminal or from standard input", what)
	}
	return secretvalue.New(content), nil
}

// ask gets something that must not be shown: hidden from a terminal, else one line of standard input.
func (a *app) ask(what string) (secretvalue.Value, error) {
	if a.terminal() {
		return a.hidden(upperFirst(what) + ": ")
	}
	return a.line(what)
}

// askNew is ask for something that is being chosen.
func (a *app) askNew(what string) (secretvalue.Value, error) {
	if a.terminal() {
		return a.hiddenTwice(upperFirst(what))
	}
	return a.line(what)
}

func upperFirst(text string) string { return strings.ToUpper(text[:1]) + text[1:] }

// content gets the exact bytes of a value: from a file, from standard input, or hidden from a terminal.
func (a *app) content(file string) (secretvalue.Value, error) {
	if file != "" {
		f, err := os.Open(file)
		if err != nil {
			return secretvalue.Value{}, fmt.Errorf("read the value: %w", err)
		}
		defer func() { _ = f.Close() }()
		return readValue(f)
	}
	if a.terminal() {
		return a.hiddenTwice("Value")
	}
	return readValue(a.In)
}

func readValue(r io.Reader) (secretvalue.Value, error) {
	content, err := io.ReadAll(io.LimitReader(r, secretvalue.MaxSize+1))
	switch {
	case err != nil:
		return secretvalue.Value{}, usagef("the value cannot be read: standard input is closed or the file is not readable")
	case len(content) == 0:
		return secretvalue.Value{}, usagef("the value is empty; a value has 1 to %d bytes", secretvalue.MaxSize)
	case len(content) > secretvalue.MaxSize:
		return secretvalue.Value{}, usagef("the value has more than %d bytes, which is the limit", secretvalue.MaxSize)
	}
	return secretvalue.New(content), nil
}

// typed asks for a line that may be shown; a script gives it by an option instead.
func (a *app) typed(prompt string) (string, error) {
	if !a.terminal() {
		return "", usagef("this asks for the name as confirmation, and there is no terminal to ask on; give it with --name")
	}
	fmt.Fprint(a.Err, prompt)
	line, err := bufio.NewReader(a.In).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return "", fmt.Errorf("read the terminal: %w", err)
	}
	return strings.TrimSpace(line), nil
}

// confirm asks for a yes on the terminal; a script says --yes instead.
func (a *app) confirm(text string) (bool, error) {
	if !a.terminal() {
		return false, usagef("this asks for confirmation, and there is no terminal to ask on; give --yes")
	}
	fmt.Fprintf(a.Err, "%s\nDo it? [y/N] ", text)
	answer, err := bufio.NewReader(a.In).ReadString('\n')
	if err != nil && !errors.Is(err, io.EOF) {
		return false, fmt.Errorf("read the terminal: %w", err)
	}
	answer = strings.ToLower(strings.TrimSpace(answer))
	return answer == "y" || answer == "yes", nil
}

// waiting says on a terminal what is waited for and how long it has taken, once that is more than a moment, until it is
// told that it is over.
func (a *app) waiting(what string) (over func()) {
	if !toTerminal(a.Err) {
		return func() {}
	}
	stop, stopped := make(chan struct{}), make(chan struct{})
	go func() {
		defer close(stopped)
		started, shown := time.Now(), false
		tick := time.NewTicker(500 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-tick.C:
				shown = true
				fmt.Fprintf(a.Err, "\r%s: %.1f s", what, time.Since(started).Seconds())
			case <-stop:
				if shown {
					fmt.Fprintln(a.Err)
				}
				return
			}
		}
	}()
	return func() { close(stop); <-stopped }
}

// counting says on a terminal how many of something are done.
func (a *app) counting(what string) func(uint64) {
	if !toTerminal(a.Err) {
		return nil
	}
	last := time.Now()
	return func(n uint64) {
		if now := time.Now(); now.Sub(last) > 200*time.Millisecond {
			last = now
			fmt.Fprintf(a.Err, "\r%d %s ", n, what)
		}
	}
}
