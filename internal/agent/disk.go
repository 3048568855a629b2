package agent

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"tansu/client"
	"tansu/internal/placefile"
)

// disk keeps a shelf in a file, so that an agent that starts anew during an outage has what the one before had. The file opens
// under a key that the chest gives to whoever can sign in, and gives no more when the credential has ended. On the host that key is
// in the kernel's keyring only (keyrings(7)), where the next agent of the same user finds it: not on the disk, and gone when the
// host starts anew.
type disk struct {
	path  string // of the file
	label string // of the key, and of what is sealed under it

	mu    sync.Mutex // guards the file, the key in the kernel, and what follows
	ready bool       // the shelf has the chest's key
}

func newDisk(directory, profile string) *disk {
	path := filepath.Join(directory, profile+".shelf")
	return &disk{path: path, label: "tansu shelf " + path}
}

// open takes what an earlier agent has left, if the kernel still has the key.
func (d *disk) open(s *shelf) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	key, err := d.kernelKey()
	if err != nil {
		return nil // the chest gives it when it is there
	}
	defer clear(key)
	if err := s.rekey(key); err != nil {
		return err
	}
	d.ready = true
	sealed, err := os.ReadFile(d.path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err == nil {
		err = s.takeOut(d.label, sealed)
	}
	return err
}

// use puts the shelf under the chest's key, which the kernel keeps.
func (d *disk) use(s *shelf, key []byte) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	defer clear(key)
	if len(key) != keySize {
		return errors.New("the chest gave no key")
	}
	if err := s.rekey(key); err != nil {
		return err
	}
	ring, err := keyring()
	if err == nil {
		_, err = unix.AddKey("user", d.label, key, ring)
	}
	if err != nil {
		return fmt.Errorf("the kernel keeps no key for this user, so that nothing is kept on the disk: %w", err)
	}
	d.ready = true
	return nil
}

// save puts what is kept into the file, if the shelf has the chest's key.
func (d *disk) save(s *shelf, now time.Time) error {
	d.mu.Lock()
	defer d.mu.Unlock()
	if !d.ready {
		return nil
	}
	sealed, err := s.putAway(d.label, now)
	if err != nil {
		return err
	}
	return placefile.Place{Path: d.path, Mode: 0o600}.Put(sealed)
}

// forget ends what is on the disk for good: the key is gone, and so is the file.
func (d *disk) forget() error {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.ready = false
	ring, err := keyring()
	if err == nil {
		if id, missing := unix.KeyctlSearch(ring, "user", d.label, 0); missing == nil {
			_, err = unix.KeyctlInt(unix.KEYCTL_INVALIDATE, id, 0, 0, 0)
		}
	}
	if gone := os.Remove(d.path); gone != nil && !errors.Is(gone, fs.ErrNotExist) {
		err = errors.Join(err, gone)
	}
	return err
}

// has reports whether the shelf has the chest's key.
func (d *disk) has() bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	return d.ready
}

// keyring is the one that outlives the processes of this user, by days, or else while there is one.
func keyring() (int, error) {
	ring, err := unix.KeyctlInt(unix.KEYCTL_GET_PERSISTENT, -1, unix.KEY_SPEC_PROCESS_KEYRING, 0, 0)
	if err == nil {
		return ring, nil
	}
	return unix.KeyctlGetKeyringID(unix.KEY_SPEC_USER_KEYRING, true)
}

func (d *disk) kernelKey() ([]byte, error) {
	ring, err := keyring()
	if err != nil {
		return nil, err
	}
	id, err := unix.KeyctlSearch(ring, "user", d.label, 0)
	if err != nil {
		return nil, err
	}
	key := make([]byte, keySize)
	n, err := unix.KeyctlBuffer(unix.KEYCTL_READ, id, key, 0)
	if err == nil && n != keySize {
		err = errors.New("the key has another size")
	}
	return key, err
}

// keepOnDisk saves what is kept, soon after it changes, as soon as the chest has given the key.
func (a *Agent) keepOnDisk(ctx context.Context, acc *account) {
	for ctx.Err() == nil {
		var err error
		if acc.disk.has() {
			err = acc.disk.save(acc.shelf, a.options.Now())
		} else if key, refused := acc.chest.HostKey(ctx); refused != nil {
			a.heardNo(acc, refused)
		} else if err = acc.disk.use(acc.shelf, key); err == nil {
			continue
		}
		if err != nil && ctx.Err() == nil {
			a.options.Log.Error("values are not kept on the disk", "profile", acc.profile, "error", err)
		}
		select {
		case <-ctx.Done():
		case <-time.After(reportEvery): // what changes within a second goes together
		}
		again := time.After(time.Minute)
		if !acc.disk.has() {
			again = time.After(10 * reportEvery)
		}
		select {
		case <-ctx.Done():
		case <-acc.shelf.fresh:
		case <-again:
		}
	}
}

// heardNo drops everything that is kept once the chest refuses the app's sign-in. Being away or locked is not a refusal. A host whose
// clock is wrong is refused, too: what it may have is fetched again when the clock is right.
func (a *Agent) heardNo(acc *account, err error) {
	var no *client.Problem
	if !errors.As(err, &no) || no.Status != http.StatusUnauthorized {
		return
	}
	a.options.Log.Warn("the chest does not let this app sign in: what was kept is forgotten", "profile", acc.profile, "error", err)
	acc.shelf.forget()
	if acc.disk != nil {
		if err := acc.disk.forget(); err != nil {
			a.options.Log.Error("what was kept on the disk is not all gone", "profile", acc.profile, "error", err)
		}
	}
}
