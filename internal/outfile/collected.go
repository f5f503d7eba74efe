package outfile

import (
	"bytes"
	"errors"
	"io"

	stdjson "encoding/json"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// line is a record that was collected for a file.
type line struct {
	Name   string             `json:"name"`
	Record stdjson.RawMessage `json:"record"`
}

// Collected are the records of a batch for files, by step: one JSON value a line.
func Collected(b *running.Batch) map[string][]byte {
	out := map[string][]byte{}
	var enc json.Appender
	for _, c := range b.Collected {
		if c.Item.Failed() { // it is written once it was mended
			continue
		}
		text := append(out[c.Step], `{"name":`...)
		text = append(enc.Append(text, value.NewText(c.Name)), `,"record":`...)
		out[c.Step] = append(enc.Append(text, c.Record), "}\n"...)
	}
	return out
}

// Of writes records that were collected for a write step in their notation, by the names of their files. collected gives them to use,
// as Collected makes them.
func Of(t *running.FileTarget, collected func(use func(content []byte) error) error) (*Set, []*File, error) {
	set := New(t)
	err := collected(func(content []byte) error { return addLines(set, t.Schema, content) })
	var files []*File
	if err == nil {
		files, err = set.End()
	}
	if err != nil {
		set.Close(nil)
		return nil, nil, err
	}
	return set, files, nil
}

func addLines(set *Set, s *schema.Schema, content []byte) error {
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
