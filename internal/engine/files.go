package engine

import (
	"bytes"
	"context"
	"errors"
	"io"
	"strings"

	"hollowreed/internal/core/flow/running"

	stdjson "encoding/json"

	"github.com/google/uuid"

	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/outfile"
	"hollowreed/internal/spool"
	"hollowreed/internal/store"
)

// line is a record that was collected for a file.
type line struct {
	Name   string             `json:"name"`
	Record stdjson.RawMessage `json:"record"`
}

// collected are the records of a batch for files, by step: one JSON value a line.
func collected(b *running.Batch) map[string][]byte {
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

func (x *execution) writeFilesOf(ctx context.Context, t *running.FileTarget) error {
	// A record that was mended belongs beside those of the run that it was set aside in.
	family, err := store.RelatedRuns(ctx, x.engine.db, x.run.ID)
	if err != nil {
		return err
	}
	set, files, err := x.engine.files(ctx, t, family)
	if err != nil {
		return err
	}
	defer set.Close(nil)
	for _, f := range files {
		name, size, err := set.Write(ctx, x.outside(), f, x.run.ID.String())
		if err == nil {
			err = store.AddRunFile(ctx, x.engine.db, x.run.ID, store.RunFile{Step: t.Step.ID, Name: name, Size: size, Records: f.Records})
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// files are those of the records that a step has collected in some runs.
func (e *Engine) files(ctx context.Context, t *running.FileTarget, runs []uuid.UUID) (*outfile.Set, []*outfile.File, error) {
	return formatFiles(t, func(use func(content []byte) error) error {
		return store.Collected(ctx, e.db, runs, t.Step.ID, use)
	})
}

// RunFile is a file as a run has written it: its content once more, made of the records that were collected for it.
func (e *Engine) RunFile(ctx context.Context, r store.Run, t *running.FileTarget, name string) (*spool.Spool, error) {
	family, err := store.RelatedRuns(ctx, e.db, r.ID)
	if err != nil {
		return nil, err
	}
	set, files, err := e.files(ctx, t, family)
	if err != nil {
		return nil, err
	}
	packed := strings.TrimSuffix(strings.TrimSuffix(name, ".gz"), ".zip")
	for _, f := range files {
		if f.Name == name || f.Name == packed && t.Step.Setting("compress") != "no" {
			set.Close(f)
			return f.Spool, nil
		}
	}
	set.Close(nil)
	return nil, store.ErrNotFound
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
func (t *TestRun) Files(to *running.FileTarget) ([]TriedFile, error) {
	set, files, err := formatFiles(to, func(use func(content []byte) error) error { return use(collected(t.batch)[to.Step.ID]) })
	if err != nil {
		return nil, err
	}
	defer set.Close(nil)
	var list []TriedFile
	for _, f := range files {
		text, err := f.Text(shownOf)
		if err != nil {
			return nil, err
		}
		list = append(list, TriedFile{f.Name, f.Records, f.Size(), strings.ToValidUTF8(string(text), "\uFFFD")})
	}
	return list, nil
}

// formatFiles writes collected records in their notation, by the names of their files.
func formatFiles(t *running.FileTarget, collected func(use func(content []byte) error) error) (*outfile.Set, []*outfile.File, error) {
	set := outfile.New(t)
	err := collected(func(content []byte) error { return addLines(set, t.Schema, content) })
	var files []*outfile.File
	if err == nil {
		files, err = set.End()
	}
	if err != nil {
		set.Close(nil)
		return nil, nil, err
	}
	return set, files, nil
}

func addLines(set *outfile.Set, s *schema.Schema, content []byte) error {
	dec := stdjson.NewDecoder(bytes.NewReader(content))
	for {
		var l line
		if err := dec.Decode(&l); errors.Is(err, io.EOF) {
			return nil
		} else if err != nil {
			return err
		}
		rows, err := project.ReadJSON(s, string(l.Record))
		if err == nil {
			err = set.Add(l.Name, rows[0])
		}
		if err != nil {
			return err
		}
	}
}
