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
		return fmt.Errorf("%s is there and is no plain file", p.Path)
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
		return fmt.Errorf("everybody may write to %s, and so put another file in this one's place", dir)
	}
	for up := dir; !p.InRepository; up = filepath.Dir(up) {
		for _, name := range repositories {
			if _, err := os.Lstat(filepath.Join(up, name)); err == nil {
				return fmt.Errorf("%s is inside the repository %s, from where it would be committed sooner or later: put it elsewhere, or say --in-repository", p.Path, up)
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
func (p Place) Put(content []byte) (err error) {
	if err := p.Check(); err != nil {
		return err
	}
	uid, gid, err := p.owner()
	if err != nil {
		return err
	}
	file, err := os.CreateTemp(filepath.Dir(p.Path), "."+filepath.Base(p.Path)+"-*") // mode 0600
	if err != nil {
		return fmt.Errorf("make a file beside %s: %w", p.Path, cause(err))
	}
	defer func() {
		if err != nil {
			_ = os.Remove(file.Name())
		}
	}()
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
	if err = errors.Join(err, file.Close()); err != nil {
		return fmt.Errorf("write %s: %w", p.Path, cause(err))
	}
	if err = os.Rename(file.Name(), p.Path); err != nil {
		return fmt.Errorf("put %s in its place: %w", p.Path, cause(err))
	}
	return nil
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
