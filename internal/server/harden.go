package server

import (
	"fmt"
	"os"
	"runtime"
	"runtime/debug"
	"syscall"

	"golang.org/x/sys/unix"
)

// Tune lets garbage grow to three times of what is used before it is collected, unless the environment says otherwise
// (GOGC): what a chest uses is small and bounded, and each collection is time that readers wait for.
//
// A thread that waits for the disk keeps its place among those that run Go code, for tens of microseconds each time, and a
// chest waits for its disk most of the time: there is a place more for each processor (GOMAXPROCS), or the processors idle.
func Tune() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(300)
	}
	if os.Getenv("GOMAXPROCS") == "" {
		runtime.GOMAXPROCS(2 * runtime.GOMAXPROCS(0))
	}
}

// HideMemory keeps the process's memory out of core dumps and other processes of the same user. What it starts has its own
// memory, and is as it always is.
func HideMemory() error {
	if err := unix.Prctl(unix.PR_SET_DUMPABLE, 0, 0, 0, 0); err != nil {
		return fmt.Errorf("switch off dumps: %w", err)
	}
	return nil
}

// Harden keeps the process's memory out of core dumps and other processes of the same user, and its files private.
func Harden() error {
	syscall.Umask(0o077)
	if err := HideMemory(); err != nil {
		return err
	}
	if err := unix.Setrlimit(unix.RLIMIT_CORE, &unix.Rlimit{}); err != nil {
		return fmt.Errorf("switch off core files: %w", err)
	}
	return nil
}
