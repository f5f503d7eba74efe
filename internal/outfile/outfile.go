// Package outfile makes the files of write steps: records in their notation, gathered by the name of their file, within
// bounds, and written where the step says.
package outfile

import (
	"context"
	"errors"
	"io"
	"maps"
	"slices"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/value"
	"hollowreed/internal/spool"
)

// Bounds on the files that one step of a run writes.
const (
	maxNames  = 10_000
	maxOnDisk = 500      // that are longer than what is held in memory of each
	heldOf    = 16 << 10 // bytes of each that are held in memory
	maxBytes  = 4 << 30  // of all together
)

// File is the content of one file with the number of its records.
type File struct {
	*spool.Spool
	Name    string
	Records int
	w       notation.Writer
}

// Set is the files of one write step.
type Set struct {
	target *running.FileTarget
	n      *notation.Kind
	files  map[string]*File
	onDisk int
	total  int64
}

// New begins the files of a write step. Close removes what they hold.
func New(t *running.FileTarget) *Set {
	return &Set{target: t, n: all.Of(t.Schema), files: map[string]*File{}}
}

// Close removes what is held of all files, but for one, where it is given.
func (s *Set) Close(but *File) {
	for _, f := range s.files {
		if f != but {
			f.Close()
		}
	}
}

// Add adds a record to the file of a name.
func (s *Set) Add(name string, record value.Value) error {
	f := s.files[name]
	if f == nil {
		if len(s.files) >= maxNames {
			return fault.New(fault.Limit, "one run writes more than %d files", maxNames)
		}
		f = &File{Spool: &spool.Spool{Memory: heldOf}, Name: name}
		s.files[name] = f
		var err error
		if f.w, err = s.n.NewWriter(bounded{s, f.Spool}, notation.Options{Schema: s.target.Schema, Many: true}); err != nil {
			return err
		}
	}
	f.Records++
	return f.w.Write(record)
}

// End ends the documents, and gives the files by name.
func (s *Set) End() ([]*File, error) {
	var files []*File
	for _, name := range slices.Sorted(maps.Keys(s.files)) {
		files = append(files, s.files[name])
		if err := s.files[name].w.Close(); err != nil {
			return nil, err
		}
	}
	return files, nil
}

// Text is the first part of a file, in bytes.
func (f *File) Text(most int64) ([]byte, error) {
	return io.ReadAll(io.LimitReader(f.Reader(), most))
}

// Asker does operations of connections.
type Asker interface {
	Ask(ctx context.Context, r system.Request) (value.Value, error)
}

// Write writes a file where the step says; a file that was written under the same key before is written once more. It gives
// the name and the size, in bytes, of what stands there then.
func (s *Set) Write(ctx context.Context, to Asker, f *File, key string) (name string, size int64, err error) {
	verb, step := connection.WriteFile, s.target.Step
	op := &connection.Operation{
		Connection: s.target.Connection, ID: step.ID, Name: step.Name, Kind: verb, Request: verb.Request, Response: verb.Response,
		Settings: verb.Settings.Chosen(map[string]string{"if exists": step.Setting("if exists"), "compress": step.Setting("compress")}),
	}
	request := value.NewRecord(verb.Request.Root.Layout(), []value.Value{value.NewText(f.Name), {}, {}})
	done, err := to.Ask(ctx, system.Request{Op: op, Value: request, Key: key, Content: f.Spool})
	if err != nil {
		return "", 0, err
	}
	size, ok := done.Field("size").Int64()
	if !ok {
		return "", 0, errors.New("the file system gives no size of what it wrote")
	}
	return done.Field("name").String(), size, nil
}

// bounded is a file's content on its way: of all those of a step only some may be long, and together they have a bound.
type bounded struct {
	set *Set
	*spool.Spool
}

// Write adds to the content.
func (b bounded) Write(p []byte) (int, error) {
	was := b.OnDisk()
	n, err := b.Spool.Write(p)
	if b.set.total += int64(n); err == nil && b.set.total > maxBytes {
		err = fault.New(fault.Limit, "the files of one run have more than %d MB", int64(maxBytes)>>20)
	}
	if !was && b.OnDisk() {
		if b.set.onDisk++; err == nil && b.set.onDisk > maxOnDisk {
			err = fault.New(fault.Limit, "one run writes more than %d files of more than %d bytes", maxOnDisk, heldOf)
		}
	}
	return n, err
}
