package value

// Memory is room for records that is used again once nothing refers to them any more. The zero Memory is ready; it belongs to one
// goroutine at a time.
type Memory struct {
	records [][]Record // in chunks, which do not move
	fields  [][]Value
	r, f    int // the chunks in use
	nr, nf  int // what is taken of them
}

// The sizes of chunks.
const (
	recordChunk = 512
	fieldChunk  = 4096
)

// Record gives an empty record of a layout.
func (m *Memory) Record(layout *Layout) *Record {
	if m.r == len(m.records) {
		m.records = append(m.records, make([]Record, recordChunk))
	}
	rec := &m.records[m.r][m.nr]
	if m.nr++; m.nr == recordChunk {
		m.r, m.nr = m.r+1, 0
	}
	rec.Layout, rec.Fields = layout, m.room(len(layout.Names))
	return rec
}

// room gives empty values.
func (m *Memory) room(n int) []Value {
	if n > fieldChunk {
		return make([]Value, n)
	}
	if m.f < len(m.fields) && m.nf+n > fieldChunk {
		m.f, m.nf = m.f+1, 0
	}
	if m.f == len(m.fields) {
		m.fields, m.nf = append(m.fields, make([]Value, fieldChunk)), 0
	}
	room := m.fields[m.f][m.nf : m.nf+n : m.nf+n]
	m.nf += n
	return room
}

// Reset makes the memory empty. Nothing may refer to its records any more.
func (m *Memory) Reset() {
	for i := 0; i <= m.f && i < len(m.fields); i++ {
		used := fieldChunk
		if i == m.f {
			used = m.nf
		}
		clear(m.fields[i][:used])
	}
	m.r, m.nr, m.f, m.nf = 0, 0, 0, 0
}

// Borrower is what can take its records from memory that is lent to it.
type Borrower interface{ Borrow(*Memory) }
