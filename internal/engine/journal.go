package engine

import (
	"bytes"
	"compress/gzip"
	"context"
	stdjson "encoding/json"
	"fmt"
	"io"
	"strconv"

	"github.com/google/uuid"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/project"
	"hollowreed/internal/core/value"
	"hollowreed/internal/store"
)

// maxJournal bounds a journal batch when it is read back, in bytes.
const maxJournal = 256 << 20

// Entry is what the journal holds of one record.
type Entry struct {
	Record int                           `json:"record"` // from 0
	Line   int                           `json:"line"`
	State  flow.State                    `json:"state"`
	Step   string                        `json:"step,omitempty"` // where it left the way
	Reason string                        `json:"reason,omitempty"`
	Effect flow.Effect                   `json:"effect,omitempty"`
	Raw    string                        `json:"raw,omitempty"`
	Values map[string]stdjson.RawMessage `json:"values"` // by the name of the step's result
	Faults fault.List                    `json:"faults,omitempty"`
	Notes  fault.List                    `json:"notes,omitempty"` // of what was left out
}

// encode writes the entries of a batch, one JSON value a line, compressed.
func encode(plan *flow.Plan, first int, items []*flow.Item) ([]byte, error) {
	var out bytes.Buffer
	z, err := gzip.NewWriterLevel(&out, gzip.BestSpeed)
	if err != nil {
		return nil, err
	}
	var enc json.Appender
	var line []byte
	for i, it := range items {
		if line, err = appendEntry(line[:0], &enc, plan, first+i, it); err != nil {
			return nil, err
		}
		if _, err := z.Write(line); err != nil {
			return nil, err
		}
	}
	err = z.Close()
	return out.Bytes(), err
}

func appendEntry(b []byte, enc *json.Appender, plan *flow.Plan, record int, it *flow.Item) ([]byte, error) {
	text := func(name, s string) {
		if s != "" {
			b = append(append(b, name...), ':')
			b = append(enc.Append(b, value.Str(s)), ',')
		}
	}
	b = append(b, `{"record":`...)
	b = strconv.AppendInt(b, int64(record), 10)
	b = append(b, `,"line":`...)
	b = append(strconv.AppendInt(b, int64(it.Place.Line), 10), ',')
	text(`"state"`, string(it.State))
	text(`"step"`, it.Step)
	text(`"reason"`, it.Reason)
	text(`"effect"`, string(it.Effect))
	text(`"raw"`, it.Raw)
	b, err := appendFaults(b, `"faults":`, it.Faults)
	if err != nil {
		return nil, err
	}
	if b, err = appendFaults(b, `"notes":`, it.Notes); err != nil {
		return nil, err
	}
	b = append(b, `"values":{`...)
	begun := false
	for _, ps := range plan.Steps {
		if ps.Result == nil || it.Frame.Slots[ps.Result.Slot].Kind() == value.Absent {
			continue
		}
		if begun {
			b = append(b, ',')
		}
		begun = true
		b = append(enc.Append(b, value.Str(ps.Result.Name)), ':')
		b = enc.Append(b, it.Frame.Slots[ps.Result.Slot])
	}
	return append(b, "}}\n"...), nil
}

func appendFaults(b []byte, name string, list fault.List) ([]byte, error) {
	if list == nil {
		return b, nil
	}
	faults, err := stdjson.Marshal(list)
	return append(append(append(b, name...), faults...), ','), err
}

// Journal reads the entry of one record, counted from 0.
func (e *Engine) Journal(ctx context.Context, run uuid.UUID, record int) (*Entry, error) {
	_, data, err := store.JournalBatch(ctx, e.db, run, record)
	if err != nil {
		return nil, err
	}
	var found *Entry
	err = decode(data, func(entry *Entry) bool {
		if entry.Record == record {
			found = entry
		}
		return found == nil
	})
	if err == nil && found == nil {
		err = fmt.Errorf("%w: record %d", store.ErrNotFound, record)
	}
	return found, err
}

// decode gives the entries of a batch to use, until that is false.
func decode(data []byte, use func(*Entry) bool) error {
	z, err := gzip.NewReader(bytes.NewReader(data))
	if err != nil {
		return err
	}
	dec := stdjson.NewDecoder(io.LimitReader(z, maxJournal))
	for {
		var entry Entry
		if err := dec.Decode(&entry); err == io.EOF {
			return nil
		} else if err != nil {
			return err
		}
		if !use(&entry) {
			return nil
		}
	}
}

// Entries gives what the journal holds of a run's records, in their order, to use until that is false.
func (e *Engine) Entries(ctx context.Context, r store.Run, use func(*Entry) bool) error {
	for record := 0; record < r.Taken; {
		first, data, err := store.JournalBatch(ctx, e.db, r.ID, record)
		if err != nil {
			return err
		}
		more, last := true, record
		err = decode(data, func(entry *Entry) bool {
			if last = entry.Record; last >= record {
				more = use(entry)
			}
			return more
		})
		if err != nil || !more || last < record || last < first {
			return err
		}
		record = last + 1
	}
	return nil
}

// Fill puts the message of an entry into a mapping's frame; it is false for one that did not come to the
// mapping, or cannot be read by its sources.
func (e *Entry) Fill(plan *mapping.Plan, fr *mapping.Frame, r store.Run) bool {
	sources := make([]value.Value, len(plan.Sources))
	for i, src := range plan.Mapping.From {
		text, there := e.Values[src.Name.Value]
		if !there || src.List {
			return false
		}
		rows, err := project.ReadJSON(plan.Sources[i], string(text))
		if err != nil {
			return false
		}
		sources[i] = rows[0]
	}
	fr.Set(flow.RunFacts(r.ID.String(), r.File, r.Reference, e.Line, value.Instant(r.CreatedAt)), sources...)
	return true
}
