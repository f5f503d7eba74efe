package running

import (
	"errors"
	"io"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/value"
)

// Facts are what a run knows of itself.
type Facts struct {
	ID, File  string
	Reference string      // of the run
	Started   value.Value // timestamp
	Request   value.Value // the HTTP request that started it; absent where none did
}

// Spooled says whether a run's records are those of an operation, kept with the run as one JSON value a line.
func (p *Plan) Spooled() bool { return p.Asks != nil || p.Poll != nil }

// ByHand says whether a person can start the flow: it waits for no file and for no new records.
func (p *Plan) ByHand() bool { return !p.Flow.Trigger.Of().Brings || p.Asks != nil }

// ReadsFrom names what the flow's runs begin with, for people.
func (p *Plan) ReadsFrom() string {
	switch {
	case p.Asks != nil:
		return p.Asks.Op.Name
	case p.Poll != nil:
		return p.Poll.Op.Name
	}
	if p.Flow.Trigger.Name != "" {
		return p.Flow.Trigger.Name
	}
	return p.Flow.Trigger.Of().Drawn
}

// Source reads the records of one run as items, batch by batch.
type Source struct {
	plan   *Plan
	reader notation.Reader
	facts  Facts
	whole  *Item // the run as a whole behind the head; nil where there is no head
	n      int   // records taken so far, faulty ones included
	end    error
}

// NewSource begins to read at the message's first record.
func NewSource(p *Plan, r notation.Reader, facts Facts) *Source {
	return &Source{plan: p, reader: r, facts: facts}
}

// Within lets every record see what the run's head has yielded.
func (s *Source) Within(whole *Item) *Source {
	if len(s.plan.Head) > 0 || s.plan.Input != nil {
		s.whole = whole
	}
	return s
}

// Count is how many records were read so far, faulty ones included.
func (s *Source) Count() int { return s.n }

// Skip passes over records that were dealt with before.
func (s *Source) Skip(n int) error {
	for s.n < n {
		if _, _, err := s.next(); err != nil {
			return err
		}
	}
	return nil
}

// next gives the next record, or the faults for which it cannot be read.
func (s *Source) next() (value.Value, fault.List, error) {
	v, err := s.reader.Next()
	var faults fault.List
	switch {
	case errors.As(err, &faults):
		if s.plan.Spooled() {
			for _, f := range faults {
				if f.Fix == "" {
					f.WithFix("The system answered with it: convert it in the operation, for example in its statement, or take the field as text")
				}
			}
		}
	case err != nil:
		return v, nil, err
	}
	s.n++
	return v, faults, nil
}

// Batch reads up to n records. At the end of the message it gives io.EOF; a *fault.Fault means
// that the message cannot be read on. Either comes only after all records before it were given.
func (s *Source) Batch(n int) ([]*Item, error) {
	slab := s.slab(n)
	items := make([]*Item, 0, n)
	for len(items) < n && s.end == nil {
		v, faults, err := s.next()
		if err != nil {
			s.end = err
			break
		}
		place := s.reader.Place()
		items = append(items, slab.item(s, v, place, faults))
	}
	if len(items) == 0 {
		return nil, s.end
	}
	return items, nil
}

// Empty is the fault of a message without any record.
func Empty(file string) *fault.Fault {
	return fault.Expect(fault.Required, "at least one record", "an empty file").At(fault.Place{Source: file, Line: 1, Column: 1}).
		WithFix("Ask the sender; nothing was written")
}

// AtEnd says whether an error of Batch is the regular end.
func AtEnd(err error) bool { return err == io.EOF }

// lineFact is the slot of the line among the run's facts.
var lineFact = mapping.Run.Field("line").Slot()

// slab is the memory of a batch, taken at once.
type slab struct {
	facts  []value.Value
	items  []Item
	values []value.Value
	runs   []value.Record
	slots  int
}

func (s *Source) slab(n int) *slab {
	slots := s.plan.Slots
	facts := len(mapping.Run.Fields)
	run := RunFacts(s.facts.ID, s.facts.File, s.facts.Reference, 0, s.facts.Started).Record().Fields
	return &slab{facts: run, items: make([]Item, n), values: make([]value.Value, n*(slots+facts)), runs: make([]value.Record, n), slots: slots}
}

// item makes the next item: of a record that was read, or of one that could not be.
func (m *slab) item(s *Source, v value.Value, place fault.Place, faults fault.List) *Item {
	it, run := &m.items[0], &m.runs[0]
	m.items, m.runs = m.items[1:], m.runs[1:]
	facts := len(m.facts)
	run.Layout, run.Fields = mapping.Run.Layout(), m.values[:facts:facts]
	copy(run.Fields, m.facts)
	run.Fields[lineFact] = value.Int(int64(place.Line))
	it.Frame.Slots = m.values[facts : facts+m.slots : facts+m.slots]
	m.values = m.values[facts+m.slots:]
	it.Record, it.Place, it.Raw, it.State = s.n-1, place, s.reader.Raw(), Live
	if s.whole != nil {
		copy(it.Frame.Slots, s.whole.Frame.Slots)
	}
	it.Frame.Slots[RunSlot] = value.RecordOf(run)
	if faults != nil {
		it.Aside(s.plan.ReadStep.ID, faults...)
		return it
	}
	it.Frame.Slots[s.plan.Record] = v
	return it
}
