package triggers

import (
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/value"
	"hollowreed/internal/spool"
)

// maxInput bounds the input that is kept with a run, in bytes.
const maxInput = 4 << 30

// Spooled writes records as they are kept with a run: one JSON value a line.
type Spooled struct {
	spool.Spool
	enc  json.Appender
	line []byte
	n    int

	ignored map[string]int // fields that were passed over because the schema lacks them
}

// Add writes one more record.
func (s *Spooled) Add(v value.Value) error {
	if s.Size() > maxInput {
		return fault.New(fault.Limit, "the records have more than %d MB", maxInput>>20).WithFix("Ask for fewer at a time")
	}
	s.line = append(s.enc.Append(s.line[:0], v), '\n')
	s.n++
	_, err := s.Write(s.line)
	return err
}

// Start is what a run begins with, beside its release.
type Start struct {
	By           string
	Records      *spool.Spool   // one JSON value a line; nil: they are read when the run is taken on
	Input        []byte         // a message as JSON
	Value        value.Value    // the same as it was read; absent where nobody has read it
	Request      []byte         // the HTTP request that it came with, as JSON
	RequestValue value.Value    // the same as it was read; absent where nobody has read it
	Ignored      map[string]int // fields of the message, or of the records, that were passed over because their schema lacks them
}

// ReadTime bounds how long all records of an operation may take to be read.
const ReadTime = 30 * time.Minute
