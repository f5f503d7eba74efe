// Package journal writes and reads what runs leave behind of each record: what every step yielded, what was said with systems,
// and what became of it.
package journal

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"sync"

	stdjson "encoding/json"

	"github.com/google/uuid"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
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
	Record   int                           `json:"record"` // from 0
	Line     int                           `json:"line"`
	State    running.State                 `json:"state"`
	Step     string                        `json:"step,omitempty"` // where it left the way
	Reason   string                        `json:"reason,omitempty"`
	Effects  []running.StepEffect          `json:"effects,omitempty"`
	Raw      string                        `json:"raw,omitempty"`
	Values   map[string]stdjson.RawMessage `json:"values"` // by the name of the step's result
	Faults   fault.List                    `json:"faults,omitempty"`
	Notes    fault.List                    `json:"notes,omitempty"` // of what was left out
	Branches []running.BranchTaken         `json:"took,omitempty"`
	Path     string                        `json:"path,omitempty"`  // of an entry of a list in the record
	Of       string                        `json:"of,omitempty"`    // the each that it belongs to
	Inner    []*Entry                      `json:"inner,omitempty"` // the entries of lists in the record
	Turns    []running.StepTurns           `json:"said,omitempty"`  // with systems, for this record
}

// zippers are writers that have their memory already: making one costs more than a short batch.
var zippers = sync.Pool{New: func() any {
	z, err := gzip.NewWriterLevel(nil, gzip.BestSpeed)
	if err != nil {
		panic(err) // the level is a constant
	}
	return z
}}

// smallJournal is up to how many bytes the journal of a batch is kept as it is: to compress it takes longer than to write it.
const smallJournal = 2 << 10

// Encode writes the entries of a batch, one JSON value a line, compressed where they are many or large.
func Encode(plan *running.Plan, items []*running.Item) ([]byte, error) {
	if len(items) == 1 {
		var enc json.Appender
		line, err := appendEntry(nil, &enc, plan, items[0])
		if err != nil || len(line) < smallJournal {
			return append(line, '\n'), err
		}
	}
	var out bytes.Buffer
	z := zippers.Get().(*gzip.Writer)
	defer zippers.Put(z)
	z.Reset(&out)
	var enc json.Appender
	var line []byte
	var err error
	for _, it := range items {
		if line, err = appendEntry(line[:0], &enc, plan, it); err != nil {
			return nil, err
		}
		if _, err := z.Write(append(line, '\n')); err != nil {
			return nil, err
		}
	}
	err = z.Close()
	return out.Bytes(), err
}

func appendEntry(b []byte, enc *json.Appender, plan *running.Plan, it *running.Item) ([]byte, error) {
	text := func(name, s string) {
		if s != "" {
			b = append(append(b, name...), ':')
			b = append(enc.Append(b, value.NewText(s)), ',')
		}
	}
	b = append(b, `{"record":`...)
	b = strconv.AppendInt(b, int64(it.Record), 10)
	b = append(b, `,"line":`...)
	b = append(strconv.AppendInt(b, int64(it.Place.Line), 10), ',')
	text(`"state"`, string(it.State))
	text(`"step"`, it.Step)
	text(`"reason"`, it.Reason)
	b = appendEffects(b, enc, it.Effects)
	if plan.Flow.Retention != flow.StoreNothing {
		text(`"raw"`, it.Raw)
	}
	text(`"path"`, it.Path)
	text(`"of"`, it.Of)
	b, err := appendFaults(b, `"faults":`, it.Faults)
	if err != nil {
		return nil, err
	}
	if b, err = appendFaults(b, `"notes":`, it.Notes); err != nil {
		return nil, err
	}
	if len(it.Branches) > 0 {
		took, err := stdjson.Marshal(it.Branches)
		if err != nil {
			return nil, err
		}
		b = append(append(append(b, `"took":`...), took...), ',')
	}
	if len(it.Turns) > 0 && keepsSaid(plan, it) {
		said, err := stdjson.Marshal(it.Turns)
		if err != nil {
			return nil, err
		}
		b = append(append(append(b, `"said":`...), said...), ',')
	}
	if b, err = appendInner(b, enc, plan, it.Inner); err != nil {
		return nil, err
	}
	b = appendValues(append(b, `"values":{`...), enc, plan, it)
	return append(b, "}}"...), nil
}

func appendEffects(b []byte, enc *json.Appender, effects []running.StepEffect) []byte {
	if len(effects) == 0 {
		return b
	}
	b = append(b, `"effects":[`...)
	for i, e := range effects {
		if i > 0 {
			b = append(b, ',')
		}
		b = enc.Append(append(b, `{"step":`...), value.NewText(e.Step))
		b = append(enc.Append(append(b, `,"effect":`...), value.NewText(string(e.Effect))), '}')
	}
	return append(b, "],"...)
}

// appendInner writes the entries of lists in a record.
func appendInner(b []byte, enc *json.Appender, plan *running.Plan, inner []*running.Item) (_ []byte, err error) {
	if len(inner) == 0 {
		return b, nil
	}
	b = append(b, `"inner":[`...)
	for i, it := range inner {
		if i > 0 {
			b = append(b, ',')
		}
		if b, err = appendEntry(b, enc, plan, it); err != nil {
			return nil, err
		}
	}
	return append(b, "],"...), nil
}

// keeps says which of an item's values the journal keeps, by their positions in plan.Kept: as the flow's level says.
func keeps(plan *running.Plan, it *running.Item) func(i int) bool {
	switch {
	case plan.Flow.Retention == flow.StoreNothing:
		return func(int) bool { return false }
	case plan.Flow.Retention != flow.StoreInputOutput, it.State == running.SetAside, it.Faults != nil, it.Notes != nil:
		return func(int) bool { return true }
	}
	last := plan.LastValue(it)
	return func(i int) bool { return i == 0 || i == last }
}

// keepsSaid says whether the journal keeps what was said with systems for an item: where it keeps what is between both ends.
func keepsSaid(plan *running.Plan, it *running.Item) bool {
	switch plan.Flow.Retention {
	case flow.StoreNothing:
		return false
	case flow.StoreInputOutput:
		return it.State == running.SetAside || it.Faults != nil || it.Notes != nil
	}
	return true
}

// appendValues writes what the steps yielded; of an entry only what its record does not have.
func appendValues(b []byte, enc *json.Appender, plan *running.Plan, it *running.Item) []byte {
	begun, keeps := false, keeps(plan, it)
	for i := range plan.Kept {
		k := &plan.Kept[i]
		if !keeps(i) {
			continue
		}
		v := it.Frame.Slots[k.Slot]
		if v.Kind() == value.Absent || it.Parent != nil && it.Parent.Frame.Slots[k.Slot].Kind() != value.Absent {
			continue
		}
		if begun {
			b = append(b, ',')
		}
		begun = true
		b = append(enc.Append(b, value.NewText(k.Key)), ':')
		b = enc.Append(b, v)
	}
	return b
}

func appendFaults(b []byte, name string, list fault.List) ([]byte, error) {
	if list == nil {
		return b, nil
	}
	faults, err := stdjson.Marshal(list)
	return append(append(append(b, name...), faults...), ','), err
}

// Of reads the entry of one record, counted from 0.
func Of(ctx context.Context, db store.DB, run uuid.UUID, record int) (*Entry, error) {
	_, data, err := store.JournalBatch(ctx, db, run, record)
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

// unzipped reads the journal of a batch, whether or not it is compressed: as JSON it begins with a brace, as gzip with its magic
// number (RFC 1952, section 2.3.1).
func unzipped(data []byte) (io.Reader, error) {
	if len(data) > 0 && data[0] == '{' {
		return bytes.NewReader(data), nil
	}
	return gzip.NewReader(bytes.NewReader(data))
}

// Write writes all that the journal holds of a run, one JSON value a line.
func Write(ctx context.Context, db store.DB, run uuid.UUID, to io.Writer) error {
	return store.JournalBatches(ctx, db, run, func(entries []byte) (bool, error) {
		plain, err := unzipped(entries)
		if err == nil {
			_, err = io.Copy(to, plain)
		}
		return err == nil, err
	})
}

// decode gives the entries of a batch to use, until that is false.
func decode(data []byte, use func(*Entry) bool) error {
	plain, err := unzipped(data)
	if err != nil {
		return err
	}
	dec := stdjson.NewDecoder(io.LimitReader(plain, maxJournal))
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
func Entries(ctx context.Context, db store.DB, r store.Run, use func(*Entry) bool) error {
	for record := 0; record < r.RecordsRead; {
		first, data, err := store.JournalBatch(ctx, db, r.ID, record)
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
		text, there := e.Value(src.Name.Value)
		if !there || src.List {
			return false
		}
		rows, err := project.ReadJSON(plan.Sources[i], string(text))
		if err != nil {
			return false
		}
		sources[i] = rows[0]
	}
	fr.Set(running.RunFacts(r.ID.String(), r.File, r.Reference, e.Line, value.Instant(r.CreatedAt)), sources...)
	return true
}

// Value finds what a step yielded under a name.
func (e *Entry) Value(name string) (stdjson.RawMessage, bool) {
	if text, ok := e.Values[name]; ok {
		return text, true
	}
	for key, text := range e.Values {
		if strings.HasPrefix(key, name+"@") {
			return text, true
		}
	}
	return nil, false
}

// Item makes of an entry what a batch had of the record. What cannot be read any more is absent.
func (e *Entry) Item(plan *running.Plan) *running.Item { return e.item(plan, nil) }

func (e *Entry) item(plan *running.Plan, parent *running.Item) *running.Item {
	it := &running.Item{
		Record: e.Record, Place: fault.Place{Line: e.Line}, Raw: e.Raw, State: e.State, Step: e.Step, Reason: e.Reason, Effects: e.Effects,
		Faults: e.Faults, Notes: e.Notes, Branches: e.Branches, Path: e.Path, Of: e.Of, Parent: parent, Turns: e.Turns,
	}
	it.Frame.Slots = make([]value.Value, plan.Slots)
	if parent != nil {
		copy(it.Frame.Slots, parent.Frame.Slots)
	}
	for _, k := range plan.Kept {
		if text, ok := e.Values[k.Key]; ok {
			it.Frame.Slots[k.Slot] = k.Read(string(text))
		}
	}
	for _, inner := range e.Inner {
		it.Inner = append(it.Inner, inner.item(plan, it))
	}
	return it
}

// ReadTotals reads what tally steps had come to.
func ReadTotals(plan *running.Plan, text []byte) (*running.Totals, error) {
	t := &running.Totals{Values: map[string]value.Value{}}
	if text == nil {
		return t, nil
	}
	var kept map[string]stdjson.RawMessage
	if err := stdjson.Unmarshal(text, &kept); err != nil {
		return nil, err
	}
	for step, text := range kept {
		ps := plan.Planned(step)
		for _, k := range plan.Kept {
			if ps != nil && ps.Result != nil && k.Slot == ps.Result.Slot {
				t.Values[step] = k.Read(string(text))
			}
		}
	}
	return t, nil
}

// WriteTotals writes what tally steps have come to.
func WriteTotals(t *running.Totals) []byte {
	if len(t.Values) == 0 {
		return nil
	}
	kept := map[string]stdjson.RawMessage{}
	var enc json.Appender
	for step, v := range t.Values {
		kept[step] = enc.Append(nil, v)
	}
	text, err := stdjson.Marshal(kept)
	if err != nil {
		return nil // what was just written as JSON can be written
	}
	return text
}

// KeyOf names an item among those of its run.
func KeyOf(it *running.Item) store.EffectKey {
	return store.EffectKey{Record: it.Record, Path: it.Path}
}

// Within finds an entry of a list in an entry.
func (e *Entry) Within(path string) *Entry {
	for _, inner := range e.Inner {
		if inner.Path == path {
			return inner
		}
		if found := inner.Within(path); found != nil {
			return found
		}
	}
	return nil
}
