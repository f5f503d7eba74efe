package engine

import (
	"bytes"
	"context"
	stdjson "encoding/json"
	"errors"
	"io"
	"maps"
	"slices"

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
		if c.Item.State != flow.Done {
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
	files := map[string]*spool.Spool{}
	defer func() {
		for _, f := range files {
			f.Close()
		}
	}()
	if err := x.files(ctx, t, files); err != nil {
		return err
	}
	for _, name := range slices.Sorted(maps.Keys(files)) {
		if err := x.writeFile(ctx, t, name, files[name]); err != nil {
			return err
		}
	}
	return nil
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

// files writes the collected records of a step in their notation, by the names of their files.
func (x *execution) files(ctx context.Context, t *flow.FileTarget, files map[string]*spool.Spool) error {
	n, err := all.Named(t.Schema.Notation)
	if err != nil {
		return err
	}
	writers := map[string]notation.Writer{}
	onDisk, total := 0, int64(0)
	add := func(l line) error {
		w := writers[l.Name]
		if w == nil {
			if len(files) >= maxNames {
				return fault.New(fault.Limit, "one run writes more than %d files", maxNames)
			}
			files[l.Name] = &spool.Spool{Memory: heldOf}
			if w, err = n.NewWriter(bounded{files[l.Name], &onDisk, &total}, notation.Options{Schema: t.Schema, Many: true}); err != nil {
				return err
			}
			writers[l.Name] = w
		}
		rows, err := project.ReadJSON(t.Schema.As("json"), string(l.Record))
		if err != nil {
			return err
		}
		return w.Write(rows[0])
	}
	// A record that was mended belongs beside those of the run that it was set aside in.
	family, err := store.Family(ctx, x.engine.db, x.run.ID)
	if err != nil {
		return err
	}
	err = store.Collected(ctx, x.engine.db, family, t.Step.ID, func(content []byte) error {
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
	for _, w := range writers {
		if err := w.Close(); err != nil {
			return err
		}
	}
	return nil
}

func (x *execution) writeFile(ctx context.Context, t *flow.FileTarget, name string, content *spool.Spool) error {
	verb := connection.KindOf("file").Verb("write")
	op := &connection.Operation{
		Connection: t.Connection, ID: t.Step.ID, Name: t.Step.Name, Verb: verb, Request: verb.Request, Response: verb.Response,
		Settings: map[string]doc.Text{"there": {Value: t.Step.Setting("there")}, "compress": {Value: t.Step.Setting("compress")}},
	}
	request := value.Rec(verb.Request.Root.Shape(), []value.Value{value.Str(name), {}, {}})
	_, err := x.engine.outside.Ask(ctx, system.Request{Op: op, Value: request, Key: x.run.ID.String(), Content: content})
	return err
}
