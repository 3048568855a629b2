// Package placefile puts a file that holds secret values in its place: private from before its first byte, whole or not at
// all, and not where others would get it.
package placefile

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"golang.org/x/sys/unix"
)

// Place is where a file goes, and who may read it.
type Place struct {
	Path  string
	Mode  fs.FileMode // nobody but the owner and the group may have anything
	Owner string      // "user", "user:group" or ":group"; empty for whoever runs this
	// InRepository lets it be put into a working copy of a repository.
	InRepository bool
}

// repositories are what the directories of working copies have in them.
var repositories = []string{".git", ".hg", ".svn", ".bzr", ".jj"}

// Check says what speaks against the place, before there is anything to put there.
func (p Place) Check() error {
	if p.Mode&^0o770 != 0 || p.Mode&0o400 == 0 {
		return fmt.Errorf("mode %04o: a file with values is for its owner and perhaps its group, such as 0400 or 0440", p.Mode)
	}
	if _, _, err := p.owner(); err != nil {
		return err
	}
	if info, err := os.Lstat(p.Path); err == nil && !info.Mode().IsRegular() {
		return fmt.Errorf("%s exists and is not a regular file", p.Path)
	}
	dir, err := filepath.EvalSymlinks(filepath.Dir(p.Path))
	if err != nil {
		return fmt.Errorf("%s: %w", filepath.Dir(p.Path), errors.Unwrap(err))
	}
	if dir, err = filepath.Abs(dir); err != nil {
		return err
	}
	info, err := os.Stat(dir)
	if err != nil || !info.IsDir() {
		return fmt.Errorf("%s is no directory", dir)
	}
	if info.Mode()&0o002 != 0 && info.Mode()&fs.ModeSticky == 0 {
		return fmt.Errorf("everybody may write to %s, and so could replace this file", dir)
	}
	for up := dir; !p.InRepository; up = filepath.Dir(up) {
		for _, name := range repositories {
			if _, err := os.Lstat(filepath.Join(up, name)); err == nil {
				return fmt.Errorf("%s is inside the repository %s, and would be committed sooner or later: put it elsewhere, or say "+
					"--in-repository", p.Path, up)
			}
		}
		if up == filepath.Dir(up) {
			break
		}
	}
	return nil
}

// Put writes the file and gives it its name only when it is whole, on disk and as private as it shall be. On an error, what
// had the name before still has it, and nothing is left beside it.
func (p Place) Put(content []byte) error {
	if err := p.Check(); err != nil {
		return err
	}
	uid, gid, err := p.owner()
	if err != nil {
		return err
	}
	file, beside, err := unnamed(p.Path)
	if err != nil {
		return fmt.Errorf("make a file beside %s: %w", p.Path, cause(err))
	}
	defer func() { _ = file.Close(); _ = os.Remove(beside) }() // which has the file's own name by then, if all went well
	_, err = file.Write(content)
	if err == nil && (uid >= 0 || gid >= 0) {
		err = file.Chown(uid, gid)
	}
	if err == nil {
		err = file.Chmod(p.Mode) // after the owner, who would take bits away
	}
	if err == nil {
		err = file.Sync()
	}
	if err != nil {
		return fmt.Errorf("write %s: %w", p.Path, cause(err))
	}
	if err := name(file, beside, p.Path); err != nil {
		return fmt.Errorf("put %s in its place: %w", p.Path, cause(err))
	}
	return nil
}

// unnamed makes a file that has no name, with mode 0600: whatever ends this process, nothing of it is left (O_TMPFILE, open(2)). On
// a file system that cannot do that, it has a name beside the place from the beginning.
func unnamed(path string) (file *os.File, beside string, err error) {
	beside = filepath.Join(filepath.Dir(path), fmt.Sprintf(".%s-%d", filepath.Base(path), os.Getpid()))
	_ = os.Remove(beside) // of a process of this number that was killed here
	descriptor, err := unix.Open(filepath.Dir(path), unix.O_TMPFILE|unix.O_WRONLY|unix.O_CLOEXEC, 0o600)
	if err == nil {
		return os.NewFile(uintptr(descriptor), path), beside, nil
	}
	if file, err = os.OpenFile(beside, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600); err != nil {
		return nil, "", err
	}
	return file, beside, nil
}

// name gives a file its name. In place of one that has it that takes one beside it for an instant, because a link replaces nothing.
func name(file *os.File, beside, path string) error {
	if file.Name() != beside {
		link := func(to string) error {
			return unix.Linkat(unix.AT_FDCWD, fmt.Sprintf("/proc/self/fd/%d", file.Fd()), unix.AT_FDCWD, to, unix.AT_SYMLINK_FOLLOW)
		}
		if err := link(path); err != unix.EEXIST {
			return err
		}
		if err := link(beside); err != nil {
			return err
		}
	}
	return os.Rename(beside, path)
}

// owner finds the numbers of user and group; -1 for those that stay.
func (p Place) owner() (uid, gid int, err error) {
	name, group, _ := strings.Cut(p.Owner, ":")
	uid, gid = -1, -1
	if name != "" {
		found, err := user.Lookup(name)
		if err != nil {
			return 0, 0, fmt.Errorf("there is no user %.60q here", name)
		}
		uid, _ = strconv.Atoi(found.Uid)
	}
	if group != "" {
		found, err := user.LookupGroup(group)
		if err != nil {
			return 0, 0, fmt.Errorf("there is no group %.60q here", group)
		}
		gid, _ = strconv.Atoi(found.Gid)
	}
	return uid, gid, nil
}

// cause leaves out the path of a file that is beside the one that people know.
func cause(err error) error {
	var number syscall.Errno
	if errors.As(err, &number) {
		return number
	}
	return err
}
