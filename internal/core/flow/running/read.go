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
	plan    *Plan
	reader  notation.Reader
	ignored *notation.Ignored // what the reader has passed over since it was last asked; nil: that is not known
	facts   Facts
	whole   *Item         // the run as a whole behind the head; nil where there is no head
	facts0  []value.Value // of a record, but for its line
	n       int           // records taken so far, faulty ones included
	end     error
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

// Ignoring lets the source know what its reader passes over, which the reader was told to count there.
func (s *Source) Ignoring(ignored *notation.Ignored) *Source {
	s.ignored = ignored
	return s
}

// CountIgnored adds what was passed over in reading the batch to the counts of the step that reads.
func (s *Source) CountIgnored(b *Batch) {
	if s.ignored == nil || len(s.ignored.Paths()) == 0 && s.ignored.Blank == 0 {
		return
	}
	if b.Counts == nil {
		b.Counts = map[string]*Counts{}
	}
	ps, seen := b.Plan.Planned(b.Plan.ReadStep.ID), s.ignored.Take()
	c := b.counts(ps)
	c.Blank += seen.Blank
	b.PassedOver(b.Plan.ReadStep.ID, seen.Fields())
}

// LeftOver says whether something was passed over behind the last record.
func (s *Source) LeftOver() bool {
	return s.ignored != nil && (len(s.ignored.Paths()) > 0 || s.ignored.Blank > 0)
}

// PassedOver adds fields that were passed over, as the schema of what a step reads lacks them, to the counts of the step.
func (b *Batch) PassedOver(step string, fields map[string]int) {
	if len(fields) == 0 {
		return
	}
	if b.Counts == nil {
		b.Counts = map[string]*Counts{}
	}
	c := b.Counts[step]
	if c == nil {
		c = &Counts{}
		b.Counts[step] = c
	}
	for path, n := range fields {
		c.ignore(path, n)
	}
}

// InputStep stands for the message with which a run begins among the steps of its counts.
const InputStep = ""

// InputCounts are the counts of a run of whose message fields were passed over; nil where none were.
func InputCounts(fields map[string]int) map[string]*Counts {
	b := &Batch{}
	b.PassedOver(InputStep, fields)
	return b.Counts
}

// BeginCounts are those counts of a run that another one of the same message begins with.
func BeginCounts(counts map[string]*Counts) map[string]*Counts {
	if c := counts[InputStep]; c != nil {
		return map[string]*Counts{InputStep: c}
	}
	return nil
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
	if s.ignored != nil {
		s.ignored.Take() // it was counted when they were dealt with
	}
	return nil
}

// next gives the next record, or the faults for which it cannot be read.
func (s *Source) next() (value.Value, fault.List, error) {
	v, err := s.reader.Next()
	if err == nil {
		s.n++
		return v, nil, nil
	}
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
	default:
		return v, nil, err
	}
	s.n++
	return v, faults, nil
}

// Batch reads up to n records. At the end of the message it gives io.EOF; a *fault.Fault means
// that the message cannot be read on. Either comes only after all records before it were given.
func (s *Source) Batch(n int) ([]*Item, error) { return s.BatchIn(&Memory{}, n) }

// BatchIn is Batch with the items, and what is in them, in a memory, which must be empty.
func (s *Source) BatchIn(m *Memory, n int) ([]*Item, error) {
	m.begin(s, n)
	for len(m.list) < n && s.end == nil {
		v, faults, err := s.next()
		if err != nil {
			s.end = err
			break
		}
		m.list = append(m.list, m.item(s, v, s.reader.Place(), faults))
	}
	if len(m.list) == 0 {
		return nil, s.end
	}
	return m.list, nil
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

// Memory is the memory of a batch: of its items, of what is in them and of the records that are read and made for them. It is used
// again, emptied, once nothing refers to any of it.
type Memory struct {
	Records value.Memory
	facts   []value.Value
	items   []Item
	list    []*Item
	values  []value.Value
	runs    []value.Record
	lent    bool
}

// begin makes room for the items of a batch.
func (m *Memory) begin(s *Source, n int) {
	facts, slots := len(mapping.Run.Fields), s.plan.Slots
	if s.facts0 == nil {
		s.facts0 = RunFacts(s.facts.ID, s.facts.File, s.facts.Reference, 0, s.facts.Started).Record().Fields
	}
	m.facts = s.facts0
	if len(m.items) < n {
		m.items, m.list = make([]Item, n), make([]*Item, 0, n)
		m.values, m.runs = make([]value.Value, n*(slots+facts)), make([]value.Record, n)
		for i := range m.items {
			room := m.values[i*(slots+facts):]
			m.runs[i].Layout, m.runs[i].Fields = mapping.Run.Layout(), room[:facts:facts]
			m.items[i].Frame.Slots = room[facts : facts+slots : facts+slots]
		}
	}
	if m.lent {
		if b, can := s.reader.(value.Borrower); can {
			b.Borrow(&m.Records)
		}
	}
}

// NewMemory is memory that comes back: readers take their records from it, too.
func NewMemory() *Memory { return &Memory{lent: true} }

// Reset empties the memory. Nothing may refer to any of it.
func (m *Memory) Reset() {
	m.Records.Reset()
	for _, it := range m.list {
		it.again()
	}
	m.list = m.list[:0]
}

// item makes the next item: of a record that was read, or of one that could not be.
func (m *Memory) item(s *Source, v value.Value, place fault.Place, faults fault.List) *Item {
	it, run := &m.items[len(m.list)], &m.runs[len(m.list)]
	copy(run.Fields, m.facts)
	run.Fields[lineFact] = value.Int(int64(place.Line))
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
