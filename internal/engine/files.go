package engine

import (
	"bytes"
	"context"
	stdjson "encoding/json"
	"errors"
	"io"
	"maps"
	"slices"
	"strings"

	"github.com/google/uuid"

	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/value"
	"hollowreed/internal/spool"
	"hollowreed/internal/store"
)

// Bounds on the files that one run writes.
const (
	maxNames  = 10_000
	maxOnDisk = 500      // that are longer than what is held in memory of each
	heldOf    = 16 << 10 // bytes of each that are held in memory
)

// line is a record that was collected for a file.
type line struct {
	Name   string             `json:"name"`
	Record stdjson.RawMessage `json:"record"`
}

// collected are the records of a batch for files, by step: one JSON value a line.
func collected(b *flow.Batch) map[string][]byte {
	out := map[string][]byte{}
	var enc json.Appender
	for _, c := range b.Collected {
		if c.Item.Failed() { // it is written once it was mended
			continue
		}
		text := append(out[c.Step], `{"name":`...)
		text = append(enc.Append(text, value.Str(c.Name)), `,"record":`...)
		out[c.Step] = append(enc.Append(text, c.Record), "}\n"...)
	}
	return out
}

// writeFiles writes the files of a run's write steps. It may be done again: a file is written beside its name and
// renamed, and its name and content are the same each time.
func (x *execution) writeFiles(ctx context.Context) error {
	for _, ps := range x.plan.Steps {
		if ps.File == nil {
			continue
		}
		if err := x.writeFilesOf(ctx, ps.File); err != nil {
			return err
		}
	}
	return nil
}

func (x *execution) writeFilesOf(ctx context.Context, t *flow.FileTarget) error {
	files := map[string]*outFile{}
	defer func() {
		for _, f := range files {
			f.Close()
		}
	}()
	// A record that was mended belongs beside those of the run that it was set aside in.
	family, err := store.Family(ctx, x.engine.db, x.run.ID)
	if err != nil {
		return err
	}
	if err := x.engine.files(ctx, t, family, files); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if err := x.writeFile(ctx, t, name, files[name]); err != nil {
			return err
		}
	}
	return nil
}

// outFile is the content of a file with the number of its records.
type outFile struct {
	*spool.Spool
	records int
	w       notation.Writer
}

// bounded is a file's content on its way: of all those of a run only some may be long, and together they have a bound.
type bounded struct {
	*spool.Spool
	onDisk *int
	total  *int64
}

// Write adds to the content.
func (b bounded) Write(p []byte) (int, error) {
	was := b.OnDisk()
	n, err := b.Spool.Write(p)
	if *b.total += int64(n); err == nil && *b.total > maxInput {
		err = fault.New(fault.Limit, "the files of one run have more than %d MB", int64(maxInput)>>20)
	}
	if !was && b.OnDisk() {
		if *b.onDisk++; err == nil && *b.onDisk > maxOnDisk {
			err = fault.New(fault.Limit, "one run writes more than %d files of more than %d bytes", maxOnDisk, heldOf)
		}
	}
	return n, err
}

// files writes the records that a step has collected in some runs, by the names of their files.
func (e *Engine) files(ctx context.Context, t *flow.FileTarget, runs []uuid.UUID, files map[string]*outFile) error {
	return formatFiles(t, files, func(use func(content []byte) error) error {
		return store.Collected(ctx, e.db, runs, t.Step.ID, use)
	})
}

// RunFile is a file as a run has written it: its content once more, made of the records that were collected for it.
func (e *Engine) RunFile(ctx context.Context, r store.Run, t *flow.FileTarget, name string) (*spool.Spool, error) {
	family, err := store.Family(ctx, e.db, r.ID)
	if err != nil {
		return nil, err
	}
	files := map[string]*outFile{}
	err = e.files(ctx, t, family, files)
	packed := strings.TrimSuffix(strings.TrimSuffix(name, ".gz"), ".zip")
	var found *spool.Spool
	for as, f := range files {
		if err == nil && (as == name || as == packed && t.Step.Setting("compress") != "no") {
			found = f.Spool
			continue
		}
		f.Close()
	}
	if err == nil && found == nil {
		err = store.ErrNotFound
	}
	return found, err
}

// TriedFile is a file that a try would have written.
type TriedFile struct {
	Name    string
	Records int
	Size    int64  // bytes, before it is compressed
	Text    string // the first part of it
}

// shownOf is how much of a file a page shows, in bytes.
const shownOf = 4 << 10

// Files are the files that a try's step would have written, by name.
func (t *Trial) Files(to *flow.FileTarget) ([]TriedFile, error) {
	files := map[string]*outFile{}
	defer func() {
		for _, f := range files {
			f.Close()
		}
	}()
	err := formatFiles(to, files, func(use func(content []byte) error) error { return use(collected(t.batch)[to.Step.ID]) })
	var list []TriedFile
	for _, name := range slices.Sorted(maps.Keys(files)) {
		text, rerr := io.ReadAll(io.LimitReader(files[name].Reader(), shownOf))
		err = errors.Join(err, rerr)
		list = append(list, TriedFile{name, files[name].records, files[name].Size(), strings.ToValidUTF8(string(text), "\uFFFD")})
	}
	return list, err
}

// formatFiles writes collected records in their notation, by the names of their files.
func formatFiles(t *flow.FileTarget, files map[string]*outFile, collected func(use func(content []byte) error) error) error {
	n, err := all.Named(t.Schema.Notation)
	if err != nil {
		return err
	}
	onDisk, total := 0, int64(0)
	add := func(l line) error {
		f := files[l.Name]
		if f == nil {
			if len(files) >= maxNames {
				return fault.New(fault.Limit, "one run writes more than %d files", maxNames)
			}
			f = &outFile{Spool: &spool.Spool{Memory: heldOf}}
			files[l.Name] = f
			if f.w, err = n.NewWriter(bounded{f.Spool, &onDisk, &total}, notation.Options{Schema: t.Schema, Many: true}); err != nil {
				return err
			}
		}
		rows, err := project.ReadJSON(t.Schema.As("json"), string(l.Record))
		if err != nil {
			return err
		}
		f.records++
		return f.w.Write(rows[0])
	}
	err = collected(func(content []byte) error {
		dec := stdjson.NewDecoder(bytes.NewReader(content))
		for {
			var l line
			if err := dec.Decode(&l); errors.Is(err, io.EOF) {
				return nil
			} else if err != nil {
				return err
			}
			if err := add(l); err != nil {
				return err
			}
		}
	})
	if err != nil {
		return err
	}
	for _, f := range files {
		if err := f.w.Close(); err != nil {
			return err
		}
	}
	return nil
}

// writeFile writes one file, and notes what stands there then.
func (x *execution) writeFile(ctx context.Context, t *flow.FileTarget, name string, content *outFile) error {
	verb := connection.KindOf("file").Verb("write")
	op := &connection.Operation{
		Connection: t.Connection, ID: t.Step.ID, Name: t.Step.Name, Verb: verb, Request: verb.Request, Response: verb.Response,
		Settings: map[string]doc.Text{"there": {Value: t.Step.Setting("there")}, "compress": {Value: t.Step.Setting("compress")}},
	}
	request := value.Rec(verb.Request.Root.Shape(), []value.Value{value.Str(name), {}, {}})
	done, err := x.engine.outside.Ask(ctx, system.Request{Op: op, Value: request, Key: x.run.ID.String(), Content: content.Spool})
	if err != nil {
		return err
	}
	size, _ := done.Field("size").Int64()
	return store.AddRunFile(ctx, x.engine.db, x.run.ID, store.RunFile{Step: t.Step.ID, Name: done.Field("name").String(), Size: size, Records: content.records})
}
