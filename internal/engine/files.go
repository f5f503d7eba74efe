package engine

import (
	"bytes"
	"context"
	stdjson "encoding/json"
	"errors"
	"io"
	"sort"

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
	"hollowreed/internal/store"
)

// Bounds on the files that one run writes.
const (
	maxNames = 10_000
	maxFile  = 256 << 20 // bytes of all of them
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
		names, files, err := x.files(ctx, ps.File)
		if err != nil {
			return err
		}
		for _, name := range names {
			if err := x.writeFile(ctx, ps.File, name, files[name].Bytes()); err != nil {
				return err
			}
		}
	}
	return nil
}

// files writes the collected records of a step in their notation, by the names of their files.
func (x *execution) files(ctx context.Context, t *flow.FileTarget) ([]string, map[string]*bytes.Buffer, error) {
	n, err := all.Named(t.Schema.Notation)
	if err != nil {
		return nil, nil, err
	}
	files, writers := map[string]*bytes.Buffer{}, map[string]notation.Writer{}
	size := 0
	add := func(l line) error {
		w := writers[l.Name]
		if w == nil {
			if len(files) >= maxNames {
				return fault.New(fault.Limit, "one run writes more than %d files", maxNames)
			}
			files[l.Name] = &bytes.Buffer{}
			if w, err = n.NewWriter(files[l.Name], notation.Options{Schema: t.Schema, Many: true}); err != nil {
				return err
			}
			writers[l.Name] = w
		}
		if size += len(l.Record); size > maxFile {
			return fault.New(fault.Limit, "the files of one run have more than %d MB", maxFile>>20)
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
		return nil, nil, err
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
		return nil, nil, err
	}
	var names []string
	for name, w := range writers {
		if err := w.Close(); err != nil {
			return nil, nil, err
		}
		names = append(names, name)
	}
	sort.Strings(names)
	return names, files, nil
}

func (x *execution) writeFile(ctx context.Context, t *flow.FileTarget, name string, content []byte) error {
	verb := connection.KindOf("file").Verb("write")
	op := &connection.Operation{
		Connection: t.Connection, ID: t.Step.ID, Name: t.Step.Name, Verb: verb, Request: verb.Request, Response: verb.Response,
		Settings: map[string]doc.Text{"there": {Value: t.Step.Setting("there")}, "compress": {Value: t.Step.Setting("compress")}},
	}
	request := value.Rec(verb.Request.Root.Shape(), []value.Value{value.Str(name), {}, value.Bytes(string(content))})
	_, err := x.engine.outside.Ask(ctx, system.Request{Op: op, Value: request, Key: x.run.ID.String()})
	return err
}
