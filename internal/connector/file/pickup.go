package file

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"

	"hollowreed/internal/connector/system"
)

var _ system.InPlace = (*Folder)(nil)

// Path is where a file of the folder stands.
func (f *Folder) Path(name string) string { return filepath.Join(f.path, name) }

// DonePath is where a file goes once its run is recorded; one of its name that is there already is not replaced. A file that is
// left, or is deleted when its run has ended, stays where it is.
func (f *Folder) DonePath(name, run string) string {
	s := f.env.Values
	if s["done"] == "" || s["after"] == "leave" || s["after"] == "delete" {
		return f.Path(name)
	}
	return unused(filepath.Join(s["done"], name), run)
}

// unused is a path, or that path with the run behind it where there is a file already.
func unused(path, run string) string {
	if _, err := os.Lstat(path); errors.Is(err, fs.ErrNotExist) {
		return path
	}
	return path + "." + run
}

// Settle deletes the file of a run that ended well, or moves that of a run that failed, as the settings say. It gives where the
// file is then.
func (f *Folder) Settle(at, name, run string, well bool) (to string, err error) {
	switch failed := f.env.Values["failed"]; {
	case well && f.env.Values["after"] == "delete":
		if err := os.Remove(at); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return at, err
		}
	case !well && failed != "":
		to := filepath.Join(failed, name)
		if to != at {
			to = unused(to, run)
		}
		return to, Move(at, to, "")
	}
	return at, nil
}

// Move renames without replacing; between two file systems it copies beside the target first. What has taken the place of the
// file that was seen with an identity is left where it is; empty is any.
func Move(from, to, identity string) error {
	if _, err := os.Lstat(from); errors.Is(err, os.ErrNotExist) {
		return nil // moved before
	}
	err := os.Link(from, to)
	switch {
	case err == nil:
		if err := stillThere(to, identity); err != nil {
			return errors.Join(err, os.Remove(to)) // it has its old name yet
		}
		return os.Remove(from)
	case errors.Is(err, os.ErrExist):
		return finishMove(from, to, err)
	case errors.Is(err, syscall.EXDEV):
		return copyAcross(from, to, identity)
	}
	return err
}

// stillThere says whether a path names the file that was seen.
func stillThere(path, identity string) error {
	info, err := os.Lstat(path)
	if err == nil && (!info.Mode().IsRegular() || identity != "" && Identity(info) != identity) {
		err = ErrReplaced
	}
	return err
}

// finishMove ends a move that was cut off between its two halves.
func finishMove(from, to string, cause error) error {
	a, err := os.Lstat(from)
	if err != nil {
		return err
	}
	b, err := os.Lstat(to)
	if err != nil {
		return err
	}
	if os.SameFile(a, b) {
		return os.Remove(from)
	}
	return cause
}

func copyAcross(from, to, identity string) error {
	in, err := OpenIn(from, identity)
	if err != nil {
		return err
	}
	defer in.Close()
	temp := filepath.Join(filepath.Dir(to), ".incoming-"+filepath.Base(to))
	out, err := os.OpenFile(temp, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o644)
	if err != nil {
		return err
	}
	_, err = io.Copy(out, in)
	if err == nil {
		err = out.Sync()
	}
	err = errors.Join(err, out.Close())
	if err == nil {
		err = os.Link(temp, to)
	}
	os.Remove(temp)
	if err != nil {
		return err
	}
	return os.Remove(from)
}
