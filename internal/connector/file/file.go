// Package file reaches folders of this machine. Every access goes through the folder as a root that
// neither ".." nor a symbolic link leaves.
package file

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"iter"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"hollowreed/internal/connector/probe"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// Folder is one folder.
type Folder struct {
	env  system.Env
	path string
}

var (
	_ system.Caller = (*Folder)(nil)
	_ system.Reader = (*Folder)(nil)
	_ system.Folder = (*Folder)(nil)
)

// Open makes a folder of its settings.
func Open(env system.Env) (system.System, error) {
	f := &Folder{env: env, path: env.Values["folder"]}
	for _, name := range []string{"folder", "done", "failed"} {
		if dir := env.Values[name]; dir != "" {
			if err := allowed(dir, env); err != nil {
				return nil, err
			}
		}
	}
	if f.path == "" {
		return nil, fault.New(fault.Setting, "the connection %s names no folder", env.ID)
	}
	return f, nil
}

// never are the folders in which the system shows itself.
var never = []string{"/proc", "/sys", "/dev"}

// allowed says whether a folder is below one of the roots, with symbolic links followed, and neither in what is never used nor
// around it: what is in a folder can be read by way of it.
func allowed(dir string, env system.Env) error {
	if !filepath.IsAbs(dir) {
		return fault.Expect(fault.Setting, "an absolute path, as /srv/drop", fault.Quote(dir)).InField("Folder")
	}
	real := resolved(dir)
	for _, place := range append(never, env.Never...) {
		if place = resolved(place); within(real, place) || within(place, real) {
			return fault.New(fault.Setting, "%s may not be used: the system, or this program, keeps its own there", dir).WithFix("Choose another folder")
		}
	}
	if len(env.Roots) == 0 || slices.ContainsFunc(env.Roots, func(root string) bool { return within(real, resolved(root)) }) {
		return nil
	}
	return fault.New(fault.Setting, "%s is not below a folder that may be used", dir).WithFix("May be used: %s; an administrator can name others (--roots)", strings.Join(env.Roots, ", "))
}

// within says whether a path is a folder, or something in it.
func within(path, folder string) bool {
	rel, err := filepath.Rel(folder, path)
	return err == nil && rel != ".." && !strings.HasPrefix(rel, ".."+string(filepath.Separator))
}

// resolved follows the links of a path as far as it exists.
func resolved(p string) string {
	if real, err := filepath.EvalSymlinks(p); err == nil {
		return real
	}
	dir, base := filepath.Split(filepath.Clean(p))
	if dir == "" || dir == p {
		return p
	}
	return filepath.Join(resolved(strings.TrimSuffix(dir, "/")), base)
}

// Close has nothing to close.
func (f *Folder) Close() {}

// Check says whether the folder can be read.
func (f *Folder) Check(context.Context) error {
	_, err := os.ReadDir(f.path)
	return err
}

// Probe tries the folder and the ones into which its files go.
func (f *Folder) Probe(_ context.Context, r *probe.Run) {
	r.Do("folder found", func() (string, error) {
		info, err := os.Stat(f.path)
		switch {
		case err != nil:
			return "there is no folder " + f.path, err
		case !info.IsDir():
			return f.path + " is a file", errors.New("not a folder")
		}
		return f.path, nil
	}, func(error) string { return "Make the folder, or mend its path" })
	r.Do("permission to read", func() (string, error) {
		list, err := os.ReadDir(f.path)
		return fmt.Sprintf("%d files and folders in it", len(list)), err
	}, func(error) string { return "Let the user of this program read the folder" })
	for _, dir := range []string{f.path, f.env.Values["done"], f.env.Values["failed"]} {
		if dir == "" {
			continue
		}
		r.Do("permission to write", func() (string, error) {
			t, err := os.CreateTemp(dir, ".hollowreed-*")
			if err != nil {
				return "nothing can be written in " + dir, err
			}
			t.Close()
			return dir, os.Remove(t.Name())
		}, func(error) string { return "Let the user of this program write there" })
	}
}

// Identity tells a file from another one of its name.
func Identity(info os.FileInfo) string {
	inode := uint64(0)
	if st, ok := info.Sys().(*syscall.Stat_t); ok {
		inode = st.Ino
	}
	return fmt.Sprintf("%d-%d-%d", info.Size(), info.ModTime().UnixNano(), inode)
}

// List gives the regular files whose names fit a mask. Names that begin with a dot are left out: they
// are of files that are being written.
func (f *Folder) List(_ context.Context, mask string) ([]system.File, error) {
	entries, err := os.ReadDir(f.path)
	if err != nil {
		return nil, err
	}
	var list []system.File
	for _, e := range entries {
		if !Fits(mask, e.Name()) || !e.Type().IsRegular() {
			continue
		}
		if info, err := e.Info(); err == nil {
			list = append(list, system.File{Name: e.Name(), Size: info.Size(), Changed: info.ModTime(), Identity: Identity(info)})
		}
	}
	Sort(list, f.env.Values["order"])
	return list, nil
}

// Fits says whether a name is one of those that a mask stands for; several masks have commas between.
func Fits(mask, name string) bool {
	if strings.HasPrefix(name, ".") {
		return false
	}
	for one := range strings.SplitSeq(cmp.Or(mask, "*"), ",") {
		if ok, err := path.Match(strings.TrimSpace(one), name); ok && err == nil {
			return true
		}
	}
	return false
}

// Sort puts files in the order of a setting.
func Sort(list []system.File, order string) {
	slices.SortFunc(list, func(a, b system.File) int {
		if order == "oldest first" && !a.Changed.Equal(b.Changed) {
			return a.Changed.Compare(b.Changed)
		}
		return strings.Compare(a.Name, b.Name)
	})
}

// root opens the folder as a root.
func (f *Folder) root() (*os.Root, error) { return os.OpenRoot(f.path) }

// Open opens a file of the folder.
func (f *Folder) Open(_ context.Context, name string) (io.ReadCloser, error) {
	root, err := f.root()
	if err != nil {
		return nil, err
	}
	defer root.Close()
	return regular(root, name)
}

// regular opens what is a file and nothing else: a pipe would keep its reader waiting.
func regular(root *os.Root, name string) (*os.File, error) {
	f, err := root.OpenFile(name, os.O_RDONLY|syscall.O_NONBLOCK, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "open", Path: name, Err: errors.New("it is no file")}
	}
	if err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// OpenIn opens the file of a path that was seen with an identity; empty is any. A link is not followed, and a file that has taken
// its place meanwhile is not opened.
func OpenIn(name, identity string) (*os.File, error) {
	root, err := os.OpenRoot(filepath.Dir(name))
	if err != nil {
		return nil, err
	}
	defer root.Close()
	base := filepath.Base(name)
	if info, err := root.Lstat(base); err == nil && !info.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "open", Path: name, Err: ErrReplaced}
	}
	f, err := regular(root, base)
	if err != nil {
		return nil, err
	}
	if err := Still(f, name, identity); err != nil {
		return nil, errors.Join(err, f.Close())
	}
	return f, nil
}

// ErrReplaced is that something else has taken the place of a file.
var ErrReplaced = errors.New("another file has taken its place since it was seen")

// Still says whether an open file is the one of its name, and of an identity.
func Still(f *os.File, name, identity string) error {
	open, err := f.Stat()
	if err != nil {
		return err
	}
	named, err := os.Lstat(name)
	if err != nil {
		return err
	}
	if !os.SameFile(open, named) || identity != "" && Identity(open) != identity {
		return &fs.PathError{Op: "open", Path: name, Err: ErrReplaced}
	}
	return nil
}

// Call reads, writes or removes one file.
func (f *Folder) Call(_ context.Context, r system.Request) (value.Value, error) {
	name := r.Value.Field("name").String()
	if err := CheckName(name); err != nil {
		return value.Value{}, err
	}
	root, err := f.root()
	if err != nil {
		return value.Value{}, err
	}
	defer root.Close()
	v, err := f.do(root, r, name)
	return v, refused(err, name)
}

func (f *Folder) do(root *os.Root, r system.Request, name string) (value.Value, error) {
	switch r.Op.Kind.Name {
	case "read":
		in, err := regular(root, name)
		if err != nil {
			return value.Value{}, err
		}
		defer in.Close()
		return Content(r.Op, name, in, f.env.Values.Largest())
	case "delete":
		return value.Value{}, root.Remove(name)
	}
	w, err := Written(r)
	if err != nil {
		return value.Value{}, err
	}
	defer w.Close(r)
	if err := put(root, w); err != nil {
		return value.Value{}, err
	}
	info, err := root.Stat(w.Name)
	if err != nil {
		return value.Value{}, err
	}
	return w.Done(r.Op, info.Size())
}

// refused turns what is about the name into a fault; other errors may pass.
func refused(err error, name string) error {
	var p *fs.PathError
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return fault.Expect(fault.NotFound, "the file "+name, "none of that name")
	case errors.Is(err, fs.ErrExist):
		return fault.New(fault.Outside, "there is a file %s already", name).WithFix("Choose another name, or let it be replaced")
	case errors.As(err, &p) && strings.Contains(p.Err.Error(), "escapes"):
		return fault.New(fault.Setting, "%s leads out of the folder", name)
	}
	return err
}

// put writes beside the name and gives the file its name when it is whole.
func put(root *os.Root, w *Write) error {
	if dir := path.Dir(w.Name); dir != "." {
		if err := root.MkdirAll(dir, 0o755); err != nil {
			return err
		}
	}
	if w.There == "append" {
		return appendTo(root, w)
	}
	temp := TempName(w.Name)
	out, err := root.OpenFile(temp, os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	defer root.Remove(temp) // it is gone where it was renamed
	_, err = io.Copy(out, w.Content.Reader())
	switch err = errors.Join(err, out.Sync(), out.Close()); {
	case err != nil:
		return err
	case w.There == "fail":
		// Of several that write at once one makes the link.
		if err := root.Link(temp, w.Name); err == nil || errors.Is(err, fs.ErrExist) {
			return err
		}
		return reserved(root, temp, w.Name)
	}
	return root.Rename(temp, w.Name)
}

// reserved gives a whole file a name that there is none of, where the folder's file system has no links: who makes an empty
// file of the name has it, and puts the whole one in its place.
func reserved(root *os.Root, temp, name string) error {
	empty, err := root.OpenFile(name, os.O_CREATE|os.O_WRONLY|os.O_EXCL, 0o644)
	if err != nil {
		return err
	}
	if err := empty.Close(); err != nil {
		return err
	}
	return root.Rename(temp, name)
}

// TempName is a name beside that of a file, of which nobody else makes use, to write the file under until it is whole.
// Names that begin with a point are not picked up.
func TempName(name string) string {
	return path.Join(path.Dir(name), "."+path.Base(name)+"."+rand.Text()+".part")
}

// appendTo adds to the end of a file; of several that add at once one waits for the other.
func appendTo(root *os.Root, w *Write) error {
	out, err := root.OpenFile(w.Name, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o644)
	if err != nil {
		return err
	}
	if err := syscall.Flock(int(out.Fd()), syscall.LOCK_EX); err != nil { // released when it is closed
		return errors.Join(err, out.Close())
	}
	_, err = io.Copy(out, w.Content.Reader())
	return errors.Join(err, out.Sync(), out.Close())
}

// Read lists the folder as records.
func (f *Folder) Read(ctx context.Context, r system.Request) iter.Seq2[value.Value, error] {
	list, err := f.List(ctx, r.Value.Field("mask").String())
	return Entries(r.Op, list, err)
}

// Entries are files as records of the operation that lists them.
func Entries(op *connection.Operation, list []system.File, err error) iter.Seq2[value.Value, error] {
	return func(yield func(value.Value, error) bool) {
		if err != nil {
			yield(value.Value{}, err)
			return
		}
		for _, e := range list {
			v := value.NewRecord(op.Response.Root.Layout(), []value.Value{value.NewText(e.Name), value.Int(e.Size), value.Instant(e.Changed.UTC())})
			if !yield(v, nil) {
				return
			}
		}
	}
}

// Catalogue lists the folder's files and folders.
func (f *Folder) Catalogue(_ context.Context, find string) ([]system.CatalogueEntry, error) {
	entries, err := os.ReadDir(f.path)
	var list []system.CatalogueEntry
	for _, e := range entries {
		if !strings.Contains(strings.ToLower(e.Name()), strings.ToLower(find)) || len(list) >= mostOffers {
			continue
		}
		o := system.CatalogueEntry{Name: e.Name(), Kind: "file"}
		if e.IsDir() {
			o.Kind = "folder"
		} else if info, err := e.Info(); err == nil {
			o.Detail = fmt.Sprintf("%d bytes", info.Size())
		}
		list = append(list, o)
	}
	return list, err
}

const mostOffers = 500
