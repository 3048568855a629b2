package server

import (
	"fmt"
	"os"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Tune sets how a chest uses its machine, unless the environment says otherwise. See [limitMemory] for memory (GOGC, GOMEMLIMIT).
//
// A thread that waits for the disk keeps its place among those that run Go code, for tens of microseconds each time, and a
// chest waits for its disk most of the time: there is a place more for each processor (GOMAXPROCS), or the processors idle.
func Tune() {
	if os.Getenv("GOGC") == "" {
		debug.SetGCPercent(mostGarbage)
	}
	if os.Getenv("GOMAXPROCS") == "" {
		runtime.GOMAXPROCS(2 * runtime.GOMAXPROCS(0))
	}
}

// Garbage may grow to three times of what is used before it is collected: each collection is time that readers wait for, and a small
// chest uses little. What the program takes of the Go heap stays below usualMemory for that, or below half as much again as what is
// used, if that is more.
const (
	mostGarbage = 300      // percent of what is used
	usualMemory = 96 << 20 // bytes
	spareMemory = 32 << 20 // for what is not heap
)

// limitEvery is how often the limit follows what is used: a chest that has just been unlocked may use much more than a moment ago.
const limitEvery = time.Second

// limitMemory sets the limit that fits what is used now.
func limitMemory() {
	if os.Getenv("GOGC") != "" || os.Getenv("GOMEMLIMIT") != "" {
		return
	}
	used := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(used)
	live := int64(used[0].Value.Uint64())
	limit := max(usualMemory, live+live/2+spareMemory)
	if now := debug.SetMemoryLimit(-1); limit > now || limit < now-now/10 { // setting it stops everybody for a moment
		debug.SetMemoryLimit(limit)
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
